"""Calipers, leans, coverage."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.signal.coverage import mark_coverage, mark_time_before
from eager_tern.signal.measure import edge_deviations, edge_difference_us, measure
from eager_tern.signal.polarity import find_polarity
from eager_tern.signal.values import Edges, Pulses


def test_calipers_measure_in_every_unit_known() -> None:
    found = measure(1000.0, 10_000.0, 562.5, 48_000)
    assert found.us == 9000.0
    assert found.units == 16.0
    assert found.samples == pytest.approx(432.0)
    assert found.hz == pytest.approx(111.11, abs=0.01)
    assert measure(5.0, 5.0, None, None).hz is None


def test_a_wrong_unit_shows_as_leans_that_grow() -> None:
    measured, expected = np.full(41, 570.0), np.full(41, 562.0)
    leans = edge_deviations(measured, expected)
    assert np.all(np.diff(leans) == pytest.approx(8.0))
    assert leans.mean() == pytest.approx(0.0)


def test_pulses_without_an_expectation_add_no_lean() -> None:
    leans = edge_deviations(np.array([500.0, 20_000.0, 500.0]), np.array([500.0, np.nan, 500.0]))
    assert leans.tolist() == [0.0] * 4


def test_frames_are_held_against_each_other() -> None:
    one = Pulses(np.array([500.0, 500.0, 500.0]))
    assert edge_difference_us(one, Pulses(np.array([500.0, 500.0, 500.0]), 99.0)) == 0.0
    assert edge_difference_us(one, Pulses(np.array([510.0, 490.0, 510.0]))) == pytest.approx(5.0)
    assert edge_difference_us(one, Pulses(np.array([500.0]))) is None


@given(st.lists(st.integers(1, 5000), min_size=1, max_size=41).filter(lambda d: len(d) % 2 == 1), st.integers(1, 300))
def test_coverage_adds_up_to_the_marks(durations: list[int], columns: int) -> None:
    edges = Pulses(np.array(durations, dtype=float)).edge_times_us
    bounds = np.linspace(0, edges[-1], columns + 1)
    cover = mark_coverage(edges, mark_time_before(edges), bounds)
    assert np.all((cover >= 0) & (cover <= 1))
    assert float(cover @ np.diff(bounds)) == pytest.approx(sum(durations[::2]))


def test_coverage_of_nothing_is_nothing() -> None:
    assert mark_coverage(np.empty(0), np.empty(0), np.array([0.0, 1.0, 2.0])).tolist() == [0.0, 0.0]


def test_the_level_a_line_rests_on_is_the_space() -> None:
    burst = np.cumsum([50_000.0, 9000.0, 4500.0, 560.0])
    for starts_high, polarity in ((False, "mark-high"), (True, "mark-low")):
        found = find_polarity(Edges(burst, starts_high, 0.0, 120_000.0))
        assert (found.polarity, found.sure) == (polarity, True)


def test_without_a_rest_polarity_is_not_sure() -> None:
    assert not find_polarity(Edges(np.array([9000.0, 13_500.0, 14_060.0]), True, 0.0, 14_100.0)).sure
