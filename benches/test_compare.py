"""Comparisons: how long the searches take, and how that grows with frames and bits."""

from __future__ import annotations

import numpy as np
import pytest
from tests.gadgets import CHECKS, climate
from tests.messages import Station

from benches.baseline import held_ratio
from benches.conftest import in_turn
from eager_tern.compare.comparison import compare
from eager_tern.compare.proof import left_out, prove
from eager_tern.compare.stack import Stack
from eager_tern.compare.structure import structure_of


@pytest.mark.parametrize(("rows", "columns"), [(30, 80), (60, 80), (120, 80), (60, 160), (60, 320)])
def test_searches_grow(rows: int, columns: int) -> None:
    """Aim: sixty frames of 160 bits in under 2 s."""
    rng = np.random.default_rng(2)
    gadget = climate(rng, "crc8")
    bits, labels = gadget.frames(rng, rows)
    wider = np.hstack((bits, rng.integers(0, 2, (rows, max(columns - bits.shape[1], 0))))).astype(np.uint8)[:, :columns]
    stack = Stack(wider, labels)
    bare = lambda: np.unique(wider[:, None] ^ wider[None], axis=0)  # noqa: E731
    ours, theirs, ratio = in_turn(lambda: compare(stack), bare, 2)
    print(f"\n{rows} frames of {columns} bits: {ours:.2f} s, {ratio:.0f} times all their differences ({theirs:.3f} s)")


def test_a_sensor_heard_all_night() -> None:
    """Aim: two thousand frames compared in under 5 s."""
    rng = np.random.default_rng(5)
    gadget = Station(rng)
    bits = np.array([gadget.frame(gadget.draw(), number) for number in range(2000)])
    bare = lambda: np.unique(bits, axis=0)  # noqa: E731
    ours, _, ratio = in_turn(lambda: compare(Stack(bits)), bare, 3)
    print(f"\n2000 frames of {bits.shape[1]} bits: {ours:.2f} s")
    held_ratio("compare, 2000 frames", ratio)


def test_structure_of_many_frames_that_are_mostly_alike() -> None:
    """Each byte is what it mostly is in nine frames of ten: no sum says so, and each nearly does."""
    rng = np.random.default_rng(6)
    data = np.where(rng.random((2000, 12)) < 0.1, rng.integers(0, 256, (2000, 12)), rng.integers(0, 256, 12))
    bits = np.unpackbits(data.astype(np.uint8), axis=1)
    ours, _, ratio = in_turn(lambda: structure_of(bits), lambda: np.unique(bits, axis=0), 3)
    print(f"\n2000 frames of 96 bits: {ours:.2f} s")
    held_ratio("structure, 2000 frames", ratio)


def test_every_kind_of_check() -> None:
    took = []
    for number, check in enumerate(CHECKS):
        rng = np.random.default_rng(number)
        gadget = climate(rng, check)
        bits, labels = gadget.frames(rng, 60)
        stack = Stack(bits, labels, gadget.sections)
        took.append(in_turn(lambda s=stack: compare(s), lambda b=bits: np.unique(b, axis=0), 1)[0])
    print(f"\n{len(CHECKS)} kinds of check, 60 frames each: {min(took):.2f} to {max(took):.2f} s")


def test_prediction() -> None:
    """Aim: nine in ten frames that were left out of the search are predicted bit for bit."""
    rng = np.random.default_rng(4)
    made = predicted = total = 0
    for _ in range(20):
        gadget = climate(rng)
        bits, labels = gadget.frames(rng, 50)
        found = compare(Stack(bits, labels, gadget.sections))
        proof = prove(found, left_out(found.stack))
        made, predicted, total = made + int(proof.made.sum()), predicted + int(proof.predicted.sum()), total + 50
    print(f"\n20 climate gadgets: {made} of {total} made from their labels, {predicted} predicted unseen")
