"""A transmitter's signal, tuned to and filtered: what is left of a radio recording where it sends."""

from __future__ import annotations

from typing import Literal

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Complexes = NDArray[np.complex64]
Keying = Literal["ook", "ask", "fsk"]


class Baseband(Struct, frozen=True):
    """One burst of a transmitter, its frequency moved to 0.

    ``values`` has shape (n,), at ``rate_hz``, the first at ``start_us`` of the take. ``noise`` is the noise's density
    (power of a sample over the rate, so that energies in µs·power can be held against ``noise`` · 1e6).
    ``deviation_hz`` is half the distance between the two tones, 0 for a keyed carrier; ``level`` is the usual
    amplitude during a mark.
    """

    values: Complexes
    rate_hz: float
    start_us: float
    noise: float
    level: float
    deviation_hz: float = 0.0

    @property
    def end_us(self) -> float:
        return self.start_us + self.values.size / self.rate_hz * 1e6
