"""Levels of length: even ones, uneven ones, and what is none."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.linecode.levels import levels_of


@pytest.mark.parametrize("steps", [(1, 2, 3), (1, 2, 4), (1, 3, 9), (1, 2, 3, 4, 5), (1, 2, 4, 8)])
@pytest.mark.parametrize("jitter", [10.0, 40.0])
def test_each_length_has_its_level(rng: np.random.Generator, steps: tuple[int, ...], jitter: float) -> None:
    level = np.concatenate([np.tile(np.arange(len(steps)), 2), rng.integers(0, len(steps), 3 * len(steps))])
    lengths = 500.0 * np.array(steps)[level] + rng.normal(0, jitter, level.size)
    found = levels_of(lengths, len(steps))
    assert found is not None
    assert found.tolist() == level.tolist()


def test_one_length_is_no_two_levels(rng: np.random.Generator) -> None:
    for count in (3, 4, 5):
        assert all(levels_of(500 + rng.normal(0, 20, 20), count) is None for _ in range(50))


def test_a_few_uneven_lengths_are_what_swallowed_pulses_leave() -> None:
    few = np.array([850, 850, 850, 850, 1700, 1700, 3500, 3500.0])
    assert levels_of(few, 3) is None
    assert levels_of(np.tile(few, 2), 3) is not None
    assert levels_of(np.where(few == 3500, 2550, few), 3) is not None
