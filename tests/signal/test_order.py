"""Median and quantiles are what NumPy has them for."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.signal.order import median, medians, quantile

lengths = st.floats(1.0, 1e6)
rows_of_five = st.lists(st.lists(lengths, min_size=5, max_size=5), min_size=1)


@given(rows_of_five, st.floats(0.0, 1.0))
def test_quantiles_lie_where_numpy_has_them(rows: list[list[float]], part: float) -> None:
    values = np.array(rows)
    np.testing.assert_allclose(quantile(values, part), np.quantile(values, part, axis=-1))
    np.testing.assert_allclose(quantile(values[0], part), np.quantile(values[0], part))


@given(st.lists(lengths, min_size=1))
def test_the_median_is_the_middle_one(values: list[float]) -> None:
    assert median(values) == np.median(values)


def test_of_none_there_is_no_median() -> None:
    assert np.isnan(median([]))


@given(rows_of_five, st.randoms(use_true_random=False))
def test_what_is_nan_does_not_count(rows: list[list[float]], random: object) -> None:
    values = np.array(rows)
    values[np.arange(len(rows)), [random.randrange(5) for _ in rows]] = np.nan  # type: ignore[attr-defined]
    np.testing.assert_array_equal(medians(values), np.nanmedian(values, axis=-1))
