"""Where flags are set in a row."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray


def stretches(flags: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """First and last index (both included) of each run of True; ``flags`` has shape (n,)."""
    turns = np.flatnonzero(np.diff(np.concatenate(([0], flags.astype(np.int8), [0]))))
    return list(zip(turns[::2].tolist(), (turns[1::2] - 1).tolist(), strict=True))
