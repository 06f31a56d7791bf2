"""Where flags are set in a row."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def stretches(flags: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """First and last index (both included) of each run of True; ``flags`` has shape (n,)."""
    firsts, lasts = bounds_of_stretches(flags)
    return list(zip(firsts.tolist(), lasts.tolist(), strict=True))


def bounds_of_stretches(flags: NDArray[np.bool_]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """The same as two arrays."""
    turns = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(np.int8), [0]))))
    return turns[::2], turns[1::2] - 1
