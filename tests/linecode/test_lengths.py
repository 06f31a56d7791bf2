"""Lengths of many groups at once, held against those of each group by itself."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.linecode.clusters import are_even
from eager_tern.linecode.lengths import centres_of, lengths_of

some_lengths = st.lists(st.lists(st.sampled_from([200.0, 210.0, 250.0, 300.0, 450.0, 900.0]), max_size=12), min_size=1)


@given(some_lengths, st.randoms(use_true_random=False))
def test_each_group_has_the_lengths_that_it_has_by_itself(groups, random):
    rows = [(length, number) for number, group in enumerate(groups) for length in group]
    random.shuffle(rows)
    values, numbers = np.array([length for length, _ in rows]), np.array([number for _, number in rows], np.intp)
    lengths = lengths_of(values, numbers, len(groups))
    for found, centres, group in zip(lengths, centres_of(lengths, np.full(len(groups), 6)), groups, strict=True):
        alone = np.unique(group)
        assert found[np.isfinite(found)].tolist() == alone.tolist()
        clusters = np.split(alone, np.flatnonzero(np.diff(alone) > 20) + 1) if alone.size else []
        np.testing.assert_allclose(centres[np.isfinite(centres)], [each.mean() for each in clusters])


@pytest.mark.parametrize("seed", range(20))
def test_pulses_of_one_length_are_told_from_the_halves_of_bits(seed: int) -> None:
    rng = np.random.default_rng(seed)
    assert are_even(300 + rng.normal(0, 60, 51))
    lengths = 300 * rng.choice([1.0, 2.0], 51, p=[0.7, 0.3])
    assert not are_even(lengths)
    few = np.full(101, 500.0)
    few[[31, 57]] = 1500.0  # two ones among fifty bits
    assert not are_even(few + rng.normal(0, 20, few.size))
    assert not are_even(np.tile([500.0, 750.0, 750.0, 750.0], 12) + rng.normal(0, 10, 48))


def test_sections_that_have_a_symbol_apart_have_one_symbol_all_the_same() -> None:
    """Each section's ruler is laid by itself; two symbols rise once, where it is steepest."""
    lengths = np.array([[240.0, 300.0, 850.0, 900.0], [240.0, 300.0, 480.0, np.inf]])
    np.testing.assert_allclose(
        centres_of(lengths, np.array([2, 3])), [[270, 875, np.inf, np.inf], [240, 300, 480, np.inf]]
    )
