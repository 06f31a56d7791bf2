"""Long state frames: named whatever their bits, and a wrong check keeps the name and says so."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.reading import Reading
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import record
from tests.state_frames import KINDS, TIMES, state_frame


def read(signed: list[float], rng: np.random.Generator) -> Reading:
    noisy = record([-4e5, *signed, -4e5], rng, jitter_us=30, excess_us=float(rng.uniform(-60, 60)))
    return read_pulses(pulses_from_signed(noisy), library()).presses[0].lead.reading


@pytest.mark.parametrize("kind", KINDS)
def test_they_are_named_and_their_checks_hold(rng: np.random.Generator, kind: str) -> None:
    for _ in range(4):
        signed, bits = state_frame(rng, kind)
        best = read(signed, rng)
        assert (best.protocol, best.bits.tolist(), best.checks_hold) == (kind, bits, True)


@pytest.mark.parametrize("kind", sorted(set(KINDS) - {"state-24", "state-72", "state-144", "state-48"}))
def test_a_wrong_bit_keeps_the_name_and_is_flagged(rng: np.random.Generator, kind: str) -> None:
    signed, _ = state_frame(rng, kind)
    _, _, zero, one = TIMES[kind]
    data = [at for at, length in enumerate(signed) if length in (-zero, -one)]
    at = data[0] if kind == "state-67" else data[-1]  # whose last nibble no check covers
    signed[at] = -one if signed[at] == -zero else -zero
    best = read(signed, rng)
    assert best.protocol == kind
    assert not best.checks_hold
    assert best.confidence < 0.5
