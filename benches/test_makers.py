"""Gadgets as makers lay them: what a take says of frames a month later, and labels that the bits know nothing of."""

from __future__ import annotations

import numpy as np
from tests.compare.test_makers import LATER, later
from tests.makers import made, take

from benches.baseline import held
from eager_tern.compare.comparison import compare, is_possible
from eager_tern.compare.stack import Stack

GADGETS = 60
UNRELATED = 120


def test_a_month_later() -> None:
    """Aim: 98 in 100 read right, 95 made bit for bit; takes of 30 and 60 presses, some with a display read seldom."""
    read = right = 0
    for number in range(GADGETS):
        rng = np.random.default_rng([41, number])
        gadget = made(rng)
        bits, labels = take(gadget, rng, int(rng.choice([30, 60])), float(rng.choice([1.0, 1.0, 0.7])))
        told, made_right = later(gadget, compare(Stack(bits, labels, gadget.sections)))
        read, right = read + told, right + made_right
    held("a month later, read right", read, GADGETS * LATER)
    held("a month later, made right", right, GADGETS * LATER)


def test_no_field_is_proven_of_labels_that_the_bits_know_nothing_of() -> None:
    """Aim: none; what is called one in a hundred is wrong in at most one of a hundred."""
    honest = 0
    for number in range(UNRELATED):
        rng = np.random.default_rng([42, number])
        gadget = made(rng)
        rows = int(rng.choice([6, 10, 16, 30]))
        bits, _ = take(gadget, rng, rows)
        other = (
            rng.integers(0, 9, rows), np.cumsum(rng.integers(-1, 2, rows)), np.arange(rows),
            np.arange(rows) * 3 // rows, np.arange(rows) >= rng.integers(1, rows),
        )[number % 5]  # fmt: skip
        found = compare(Stack(bits, {"other": tuple(map(float, other.tolist()))}, gadget.sections))
        honest += all(is_possible(field) for field in found.fields)
    held("no field proven of other labels", honest, UNRELATED)
