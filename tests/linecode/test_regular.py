"""Stretches that keep time, told from chatter by nothing but that."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.linecode.regular import regular_stretches


def chatter(rng: np.random.Generator, pairs: int) -> np.ndarray:
    return 30 + rng.exponential(150, 2 * pairs)


def symbols(rng: np.random.Generator, unit: float, zero: tuple[int, int], one: tuple[int, int], n: int) -> np.ndarray:
    table = np.array([zero, one], float) * unit
    return (table[rng.integers(0, 2, n)] + rng.normal(0, 0.06 * unit, (n, 2))).ravel()


@pytest.mark.parametrize("unit", [180.0, 350.0, 700.0])
@pytest.mark.parametrize(("zero", "one"), [((1, 3), (3, 1)), ((1, 1), (1, 3)), ((1, 2), (1, 4)), ((1, 1), (2, 1))])
def test_a_stretch_is_found_where_it_is(
    rng: np.random.Generator, unit: float, zero: tuple[int, int], one: tuple[int, int]
) -> None:
    d = np.concatenate((chatter(rng, 200), symbols(rng, unit, zero, one, 30), chatter(rng, 200)))
    longest = max(regular_stretches(d), key=lambda stretch: stretch.fitting)
    assert abs(longest.first - 400) <= 4
    assert abs(longest.last - 458) <= 6
    assert longest.fitting >= 29


def test_a_single_misfit_does_not_part_it(rng: np.random.Generator) -> None:
    d = symbols(rng, 350.0, (1, 3), (3, 1), 40)
    d[41] = 4000.0
    (found,) = regular_stretches(d)
    assert (found.first, found.last) == (0, 78)
    assert found.fitting == 39


def test_chatter_keeps_no_time_for_long(rng: np.random.Generator) -> None:
    found = regular_stretches(chatter(rng, 20_000))
    assert all(stretch.fitting < 20 for stretch in found)
    assert regular_stretches(chatter(rng, 3)) == []


def halves(rng: np.random.Generator, unit: float, bits: int) -> np.ndarray:
    """Bi-phase, as the lengths of its pulses."""
    levels = [level for bit in rng.integers(0, 2, bits) for level in ((1, 0) if bit else (0, 1))]
    turns = np.flatnonzero(np.diff([-1, *levels, -1]))
    return np.diff(turns) * unit + rng.normal(0, 0.05 * unit, turns.size - 1)


@pytest.mark.parametrize("unit", [180.0, 350.0, 700.0])
def test_half_bits_are_found_where_they_are(rng: np.random.Generator, unit: float) -> None:
    data = halves(rng, unit, 40)
    d = np.concatenate((chatter(rng, 200), data, chatter(rng, 200)))
    longest = max(regular_stretches(d), key=lambda stretch: stretch.fitting)
    assert abs(longest.first - 400) <= 4
    assert abs(longest.last - (400 + data.size)) <= 6
    assert longest.fitting >= data.size // 2 - 3


def test_pulses_of_one_and_two_lengths_in_any_order_are_no_half_bits(rng: np.random.Generator) -> None:
    d = rng.choice([300.0, 600.0], 400) + rng.normal(0, 10, 400)
    assert all(stretch.fitting < 30 for stretch in regular_stretches(d))
