"""Pulses, edges and the ways between them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.signal.values import (
    Edges,
    Pulses,
    pulses_from_edges,
    pulses_from_signed,
    signed_durations,
    signed_from_start,
)


def test_edges_count_from_the_start_of_the_take() -> None:
    pulses = Pulses(np.array([9000.0, 4500.0, 560.0]), start_us=100.0)
    assert pulses.edge_times_us.tolist() == [100.0, 9100.0, 13600.0, 14160.0]
    assert pulses.duration_us == 14060.0
    assert pulses.end_us == 14160.0


def test_a_part_keeps_its_place_in_the_take() -> None:
    pulses = Pulses(np.array([1.0, 2.0, 3.0, 4.0, 5.0]), start_us=10.0, carrier_hz=38_000)
    part = pulses.part(2, 4)
    assert part.durations_us.tolist() == [3.0, 4.0, 5.0]
    assert part.start_us == 13.0
    assert part.carrier_hz == 38_000


def test_neighbours_of_one_sign_are_joined_and_spaces_at_the_ends_left_out() -> None:
    pulses = pulses_from_signed(np.array([-50.0, -50.0, 300.0, 200.0, 0.0, -400.0, 100.0, -900.0]))
    assert pulses.start_us == 100.0
    assert pulses.durations_us.tolist() == [500.0, 400.0, 100.0]


@pytest.mark.parametrize("signed", [[], [0.0], [-5.0], [-5.0, -6.0]])
def test_without_a_mark_there_are_no_pulses(signed: list[float]) -> None:
    assert pulses_from_signed(np.array(signed)).durations_us.size == 0


@given(st.lists(st.floats(-1e6, 1e6).filter(lambda d: abs(d) > 1e-3), max_size=60))
def test_signed_durations_make_the_same_pulses_again(signed: list[float]) -> None:
    once = pulses_from_signed(np.array(signed))
    again = pulses_from_signed(signed_from_start(once))
    assert once.durations_us.size % 2 == 1 or once.durations_us.size == 0
    np.testing.assert_allclose(again.durations_us, once.durations_us)
    assert once.durations_us.size == 0 or again.start_us == pytest.approx(once.start_us)
    marks = sum(d for d in signed if d > 0)
    assert once.durations_us[::2].sum() == pytest.approx(marks)
    assert np.all(np.sign(signed_durations(once))[::2] > 0)


@pytest.mark.parametrize(
    ("starts_high", "polarity", "durations", "start"),
    [
        (False, "mark-high", [20.0], 10.0),
        (False, "mark-low", [10.0, 20.0, 70.0], 0.0),
        (True, "mark-low", [20.0], 10.0),
        (True, "mark-high", [10.0, 20.0, 70.0], 0.0),
    ],
)
def test_polarity_says_which_level_is_a_mark(
    starts_high: bool, polarity: str, durations: list[float], start: float
) -> None:
    edges = Edges(np.array([10.0, 30.0]), starts_high, 0.0, 100.0)
    pulses = pulses_from_edges(edges, polarity)  # type: ignore[arg-type]
    assert pulses.durations_us.tolist() == durations
    assert pulses.start_us == start
