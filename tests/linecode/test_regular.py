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
