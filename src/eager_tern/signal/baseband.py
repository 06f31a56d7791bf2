"""A transmitter's signal, tuned to and filtered: what is left of a radio recording where it sends."""

from __future__ import annotations

from typing import Literal

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Complexes = NDArray[np.complex64]
Keying = Literal["ook", "ask", "fsk"]
LEVEL_LOOK_S = 150e-6


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


def turning(frequency_hz: float, rate_hz: float, size: int) -> Complexes:
    """What moves a frequency to 0, shape (size,)."""
    turns: Complexes = np.exp(-2j * np.pi * frequency_hz / rate_hz * np.arange(size)).astype(np.complex64)
    return turns


def level_of(values: Complexes, rate_hz: float, noise: float) -> float:
    """The amplitude of a carrier at 0 while it is sent, which it is for some part of the time.

    From the first two moments of the power p about noise of power n: mean n + dA², mean square 2n² + d(A⁴ + 4A²n).
    """
    width = max(1, round(LEVEL_LOOK_S * rate_hz))
    power = np.abs(np.convolve(values, np.ones(width) / width, "valid")) ** 2
    n = noise * rate_hz / width
    first = float(power.mean()) - n
    second = float((power**2).mean()) - 2 * n**2
    if first <= 0:
        return float(np.sqrt(n))
    return float(np.sqrt(max(second / first - 4 * n, 0.3 * n, 1e-20)))
