"""What a frame may be off by and still be a sheet's."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from eager_tern.signal.values import Floats

COARSEST = 0.3  # rms of a unit between ruler and edges beyond which a sheet does not fit
COARSEST_WIDE = 0.5  # where symbols differ by four units and more
LARGEST_EXCESS = 0.45  # of a unit, or
USUAL_EXCESS_US = 185.0  # what receivers do, and what estimating it adds, up to
JITTER_US = 350.0  # no pulse errs by more: four times the spread of a duration whose edges err by 60 µs each
MOST_EXCESS = 0.8  # of a unit


def largest_excess(unit_us: float | Floats) -> Floats:
    """As a part of the unit, for each of the units."""
    return np.minimum(np.maximum(LARGEST_EXCESS, USUAL_EXCESS_US / np.asarray(unit_us)), MOST_EXCESS)


def coarsest(alphabet: tuple[tuple[float, ...], ...]) -> float:
    """The greatest rms between ruler and edges, of a unit."""
    return COARSEST_WIDE if _difference(alphabet) >= 4 else COARSEST


@lru_cache(maxsize=256)
def _difference(alphabet: tuple[tuple[float, ...], ...]) -> float:
    """By how many units the two most similar symbols differ."""
    if not alphabet or len({len(symbol) for symbol in alphabet}) > 1:
        return 1.0
    table = np.array(alphabet)
    apart = np.abs(table[:, None] - table[None]).sum(axis=2)
    return float(apart[~np.eye(len(table), dtype=bool)].min())
