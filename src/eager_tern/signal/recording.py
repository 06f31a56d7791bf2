"""Samples that need not all be in memory at once."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Samples = NDArray[Any]  # float32 or complex64


class Recording(Struct, frozen=True):
    """``size`` samples at ``rate_hz``; ``part(first, last)`` gives those from ``first`` up to ``last``, not included.

    ``center_hz`` is the radio frequency that a complex recording's 0 stands for.
    """

    rate_hz: float
    size: int
    part: Callable[[int, int], Samples]
    center_hz: float = 0.0

    def padded(self, first: int, last: int) -> Samples:
        """As ``part``, with zeros for what lies outside the recording."""
        inside = self.part(max(first, 0), min(last, self.size))
        return np.pad(inside, (max(-first, 0), max(last - self.size, 0))) if inside.size < last - first else inside
