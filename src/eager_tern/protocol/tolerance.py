"""By how much a frame may deviate from a sheet and still be read by it."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from eager_tern.linecode.closeness import COARSEST_SHEET, COARSEST_WIDE
from eager_tern.signal.assumed import EXCESS_FOUND_US
from eager_tern.signal.values import Floats

LARGEST_EXCESS = 0.45  # of a unit, or
MOST_EXCESS = 0.8  # of a unit


def largest_excess(unit_us: float | Floats) -> Floats:
    """As a part of the unit, for each of the units."""
    return np.minimum(np.maximum(LARGEST_EXCESS, EXCESS_FOUND_US / np.asarray(unit_us)), MOST_EXCESS)


def coarsest(alphabet: tuple[tuple[float, ...], ...]) -> float:
    """The greatest rms between ruler and edges, of a unit."""
    return COARSEST_WIDE if _difference(alphabet) >= 4 else COARSEST_SHEET


@lru_cache(maxsize=256)
def _difference(alphabet: tuple[tuple[float, ...], ...]) -> float:
    """By how many units the two most similar symbols differ."""
    if not alphabet or len({len(symbol) for symbol in alphabet}) > 1:
        return 1.0
    table = np.array(alphabet)
    apart = np.abs(table[:, None] - table[None]).sum(axis=2)
    return float(apart[~np.eye(len(table), dtype=bool)].min())
