"""Edges on a grid of units, many frames at once."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.linecode.at_once import AT_ONCE
from eager_tern.linecode.biphase import best_grids, best_steps


@pytest.mark.parametrize("way", [best_grids, best_steps])
def test_frames_lie_on_their_grids_together_as_by_themselves(way, rng: np.random.Generator) -> None:
    """More of them than are worked on at a time."""
    clocks, pulses = 9, 21
    frames = AT_ONCE // (clocks * pulses) + 50
    lengths = rng.integers(1, 3, (frames, pulses))
    units = rng.uniform(400, 500, (frames, 1))
    d = lengths * units + rng.normal(0, 20, lengths.shape)
    tried = units * np.linspace(0.94, 1.06, clocks), np.full((frames, clocks), 10.0)
    tried[0][7] = np.nan  # no clock at all
    together = way(d, *tried)
    assert not together.fits[7]
    right = (np.diff(together.places, axis=1) == lengths).all(axis=1)
    assert np.count_nonzero(right) >= frames - 2
    for row in (0, 7, frames - 60, frames - 1):
        alone = way(d[row : row + 1], *(each[row : row + 1] for each in tried))
        assert alone.fits[0] == together.fits[row]
        assert np.array_equal(alone.places[0], together.places[row])
        assert alone.units_us[0] == pytest.approx(together.units_us[row])
