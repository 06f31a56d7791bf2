"""What speaks for numbers being durations."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.formats.plausible import are_times, evidence, evidence_of_periods, holds_others, takes_turns
from eager_tern.signal.values import Floats


def a_frame(seed: int = 1, bits: int = 24) -> Floats:
    """Pulse distance with a leader, as a recorder measures it."""
    rng = np.random.default_rng(seed)
    symbols = np.where(rng.integers(0, 2, bits)[:, None], [560, 1690], [560, 560])
    return np.rint(np.concatenate(([9000, 4500], symbols.ravel(), [560])) + rng.normal(0, 12, 2 * bits + 3))


def rows_of(numbers: Floats, width: int) -> list[Floats]:
    return [numbers[at : at + width] for at in range(0, numbers.size, width)]


def test_a_frame_is_likelier_than_the_same_numbers_in_any_order() -> None:
    frame = a_frame()
    assert evidence([frame]) > 4.0 * frame.size
    assert evidence([frame]) > evidence([np.random.default_rng(2).permutation(frame)]) + 5


def test_a_frame_is_likelier_whole_than_without_its_leader_or_its_last_mark() -> None:
    frame = a_frame()
    assert evidence([frame]) > evidence([frame[1:]])
    assert evidence([frame]) > evidence([frame[:-1]])


@pytest.mark.parametrize(
    "before",
    [range(99), [17] * 99, [0, 1] * 50, np.cumsum(np.arange(99)) + 5_000, [64_000] * 99, [182] * 99],
    ids=["counter", "pin", "level", "time", "tag", "tag as long as a pulse"],
)
def test_columns_that_are_no_durations_are_told(before: list[int]) -> None:
    pairs = rows_of(a_frame()[:-1], 2)
    assert not holds_others([pairs])
    assert holds_others([[np.concatenate(([number], row)) for number, row in zip(before, pairs, strict=False)]])


def test_marks_of_one_length_are_durations() -> None:
    """As a maker of frames writes them, without a recorder's jitter."""
    assert not holds_others([[np.array([560.0, space]) for space in (560, 1690) * 8]])


def test_nothing_but_noughts_and_ones_are_levels() -> None:
    assert holds_others([[np.array([0.0, 1.0])] * 8])


def test_numbers_that_rise_are_times() -> None:
    assert are_times(np.cumsum(a_frame()))
    assert not are_times(a_frame())


def test_signs_tell_marks_and_spaces_in_turn() -> None:
    assert takes_turns(np.array([1.0, -2, 3, -4]))
    assert takes_turns(np.array([1.0, 2, 3]))
    assert not takes_turns(np.array([1.0, -2, -3, 4]))


def test_falling_edges_are_told_from_pulses() -> None:
    """What lies between two of them has one set of lengths; marks and spaces have two."""
    frame = a_frame(bits=32)
    periods = frame[:-1].reshape(-1, 2).sum(axis=1)
    assert evidence_of_periods(periods) > evidence([periods])
    assert evidence([frame]) > evidence_of_periods(frame)


@given(st.lists(st.lists(st.floats(-1e9, 1e9, allow_nan=False), max_size=9), max_size=6))
def test_any_numbers_can_be_asked(bursts: list[list[float]]) -> None:
    found = [np.array(burst) for burst in bursts]
    assert np.isfinite(evidence(found))
    assert holds_others([[each] for each in found if each.size]) in (True, False)
