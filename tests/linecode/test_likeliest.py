"""The likeliest frame in what is too faint for a threshold, and how sure of it one may be."""

from __future__ import annotations

import numpy as np
import pytest
from msgspec.structs import replace

from eager_tern.linecode.likeliest import CodeShape, combined, likeliest
from eager_tern.signal.evidence import LineEvidence
from eager_tern.signal.values import Floats, pulses_from_signed
from tests.radio import code_24

ZERO, ONE = (1.0, -3.0), (3.0, -1.0)
UNIT = 350.0
SHAPE = CodeShape(ZERO, ONE, (300.0, 400.0), trailer=(1.0,), bits=24)


class Levels:
    """Evidence of a line of which each cell of a unit says what was sent, with as much noise as its nats allow for."""

    space_is_sent = False

    def __init__(self, signed: list[float], start_us: float, rng: np.random.Generator, nats: float) -> None:
        cells = np.concatenate([np.full(round(abs(d) / UNIT), np.sign(d)) for d in signed])
        self.per_us = (nats * cells + np.sqrt(nats) * rng.normal(size=cells.size)) / UNIT
        self.times = start_us + UNIT * np.arange(cells.size + 1)
        self.sums = np.concatenate(([0.0], np.cumsum(self.per_us * UNIT)))

    def mark(self, first_us: Floats, last_us: Floats) -> Floats:
        return np.interp(last_us, self.times, self.sums) - np.interp(first_us, self.times, self.sums)

    def space(self, first_us: Floats, last_us: Floats) -> Floats:
        return -self.mark(first_us, last_us)


def a_frame(bits: list[int]) -> list[float]:
    return [-4 * UNIT, *code_24(bits, UNIT)[:-1], -4 * UNIT]


def test_a_clear_frame_is_found_where_it_is(rng: np.random.Generator) -> None:
    bits = rng.integers(0, 2, 24).tolist()
    found = likeliest(Levels(a_frame(bits), 1000.0, rng, 9.0), 1000.0, 1000.0 + 105 * UNIT, [SHAPE])
    assert found is not None
    assert (found.for_one > 0).astype(int).tolist() == bits
    assert found.pulses.start_us == pytest.approx(1000 + 4 * UNIT, abs=60)
    assert found.certainty > 0.99


def test_nothing_is_found_in_noise(rng: np.random.Generator) -> None:
    noise = Levels([-UNIT] * 105, 0.0, rng, 1.0)
    noise.sums = np.cumsum(np.append(0.0, rng.normal(size=105)))
    assert likeliest(noise, 0.0, 105 * UNIT, [SHAPE]) is None


def test_certainty_is_how_often_it_is_right(rng: np.random.Generator) -> None:
    """Bits that may be wrong, and a frame that may begin one bit late, both cost what they should."""
    said, right = [], []
    for _ in range(40):
        bits = rng.integers(0, 2, 24).tolist()
        found = likeliest(Levels(a_frame(bits), 0.0, rng, 1.5), 0.0, 105 * UNIT, [SHAPE])
        if found is not None:
            said.append(found.certainty)
            right.append((found.for_one > 0).astype(int).tolist() == bits)
    assert len(said) > 30
    # Three standard deviations of a sum of so many throws.
    assert sum(right) > sum(said) - 3 * np.sqrt(sum(p * (1 - p) for p in said)) - 1


def test_where_the_first_bit_is_missing_its_place_is_in_doubt(rng: np.random.Generator) -> None:
    bits = [0, *rng.integers(0, 2, 23).tolist()]
    line = Levels(a_frame(bits), 0.0, rng, 9.0)
    line.per_us[(line.times[:-1] < 8 * UNIT) | (line.times[:-1] >= 101 * UNIT)] = 0.0
    line.sums = np.concatenate(([0.0], np.cumsum(line.per_us * UNIT)))
    found = likeliest(line, 0.0, 105 * UNIT, [SHAPE])
    assert found is not None
    assert found.in_place < 0.9


def test_repeats_say_together_what_none_says_alone(rng: np.random.Generator) -> None:
    bits = rng.integers(0, 2, 24).tolist()
    pulses = pulses_from_signed(np.array(code_24(bits, UNIT)))
    evidence = LineEvidence(pulses, UNIT / 4)
    found = likeliest(evidence, -UNIT, 100 * UNIT, [SHAPE])
    assert found is not None
    doubtful = found.for_one.copy()
    doubtful[[3, 9]] *= -0.01
    repeats = combined(evidence, [found, found, replace(found, for_one=doubtful)])
    assert all((r.for_one > 0).astype(int).tolist() == bits for r in repeats)
