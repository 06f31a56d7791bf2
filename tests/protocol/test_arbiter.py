"""The best set of explanations that do not overlap."""

from __future__ import annotations

from itertools import combinations, pairwise
from math import exp

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from eager_tern.linecode.values import Clock, LineReading
from eager_tern.protocol.arbiter import Candidate, best_set
from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import reading_of_line
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import NO_PULSES, pulses_from_signed
from tests.handsets import record

SPANS = st.tuples(st.integers(0, 20), st.integers(0, 8), st.integers(-5, 30))


@given(st.lists(SPANS, max_size=9))
def test_no_other_set_explains_more(spans: list[tuple[int, int, int]]) -> None:
    candidates = [Candidate(2 * first, 2 * (first + length), (), float(worth)) for first, length, worth in spans]
    chosen = best_set(candidates)
    assert all(a.last < b.first for a, b in pairwise(chosen))
    sets = [
        some
        for count in range(len(candidates) + 1)
        for some in combinations(candidates, count)
        if all(a.last < b.first or b.last < a.first for a, b in combinations(some, 2))
    ]
    assert sum(c.evidence for c in chosen) == max(sum(c.evidence for c in some) for some in sets)


def frames_of(protocol: str, bits: list[int]) -> tuple[Frame, ...]:
    line = LineReading("pulse-width", Clock(500.0, 0.0, 5.0), np.array(bits, np.uint8), np.zeros((len(bits), 2)),
                       np.zeros(2 * len(bits)), 0, 0.0)  # fmt: skip
    return (Frame(0, 10, NO_PULSES, (replace(reading_of_line(line, 0.97), protocol=protocol),)),)


def test_what_something_else_explains_nearly_as_well_is_doubted() -> None:
    """Odds of two explanations are those of their evidence: e to 1, when they lie a nat apart."""
    this, same = (Candidate(0, 10, frames_of("f12", [1, 0]), worth) for worth in (30.0, 29.9))
    other, apart = (Candidate(first, first + 8, frames_of("unknown", [0, 1]), 29.0) for first in (2, 20))
    assert [c.frames[0].reading.confidence for c in best_set([this, other, same])] == [pytest.approx(1 / (1 + exp(-1)))]
    assert [c.frames[0].reading.confidence for c in best_set([this, same, apart])] == [0.97, 0.97]


def test_a_sheet_without_checks_is_held_against_the_line_code(rng: np.random.Generator) -> None:
    """Twelve bits of 1 to 2 have the period of a sheet of twelve bits of 1 to 3, but lie far off its ruler."""
    for _ in range(6):
        bits = rng.integers(0, 2, 12).tolist()
        frame = [d for bit in bits for d in ((1156, -578) if bit else (578, -1156))][:-1]
        take = read_pulses(pulses_from_signed(record([-3e5, *[*frame, -4e5] * 2], rng, jitter_us=25)), library())
        assert [(f.reading.protocol, f.reading.bits.tolist()) for f in take.frames] == [("unknown", bits)] * 2
