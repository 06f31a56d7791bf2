"""Two tones that change places quickly, told by the frequency at each moment.

Bits of some 100 µs and less spread each tone over tens of kilohertz, so that a spectrum shows no two of them; but
where the signal stands clear of the noise, its phase does.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

# Over which a frequency is measured: half of the shortest bit there is, at 38,400 baud; in more noise, of longer ones.
LOOKS_S = 12e-6, 24e-6, 48e-6
ENOUGH_S = 0.1  # of a burst: some hundred bits
SLOW_S = 160e-6  # bits of this length and more have tones that a spectrum shows, in much more noise
STRONG = 0.5  # of the usual amplitude
MOSTLY = 0.85  # of the time between its first and last moment a signal of two tones is strong, and near one of them
NEAR = 0.25  # of the distance between the tones
LEAST_PART = 0.15  # of the time in either tone
FEWEST_CHANGES = 12
LEAST_APART_HZ = 6_000.0  # bits of 160 µs are as broad
ROUNDS = 8  # after which the two means no longer move


class FastTones(Struct, frozen=True):
    """The tones in Hz, the lower first, and the shortest time in one of them in seconds."""

    tones_hz: tuple[float, float]
    shortest_s: float


def fast_tones(samples: NDArray[Any], rate_hz: float, low_hz: float, high_hz: float) -> FastTones | None:
    """The two tones that take turns between two frequencies in ``samples``, shape (n,), complex, of one burst; None
    where the signal is none of two tones, too weak, or so slow that its spectrum tells more.
    """
    samples = samples[: round(ENOUGH_S * rate_hz)]
    if not np.iscomplexobj(samples) or samples.size < 2 * FEWEST_CHANGES:
        return None
    inside = _between(samples, rate_hz, low_hz, high_hz)
    for look_s in LOOKS_S:
        found = _seen_over(inside, rate_hz, (low_hz + high_hz) / 2, look_s)
        if found is not None:
            is_high, is_low, shortest_s = found
            turns = samples[1:] * samples[:-1].conj()  # whose noise pulls to no side
            low, high = (float(np.angle(turns[part].sum())) * rate_hz / (2 * np.pi) for part in (is_low, is_high))
            return FastTones((low, high), shortest_s)
    return None


def _seen_over(
    values: NDArray[Any], rate_hz: float, middle_hz: float, look_s: float
) -> tuple[NDArray[np.intp], NDArray[np.intp], float] | None:
    """Where the higher tone is sent and where the lower, away from the changes, and the shortest time of one; with
    frequencies measured over ``look_s`` each, which lie around ``middle_hz``.
    """
    look = max(1, round(look_s * rate_hz))
    turns = np.convolve(values[1:] * values[:-1].conj(), np.ones(look) / look, "same")
    amplitude = np.sqrt(np.abs(turns))
    strong = amplitude > STRONG * float(np.quantile(amplitude, 0.9))
    at = np.flatnonzero(strong)
    if not at.size or at.size < MOSTLY * (at[-1] + 1 - at[0]):
        return None
    span = slice(int(at[0]), int(at[-1]) + 1)
    turned = turns[span] * np.exp(-2j * np.pi * middle_hz / rate_hz)  # so that none is taken for one beyond half a turn
    frequency = np.angle(turned) * rate_hz / (2 * np.pi) + middle_hz
    low, high = _two_means(frequency)
    apart = high - low
    near = np.minimum(np.abs(frequency - low), np.abs(frequency - high)) < NEAR * apart
    is_high = frequency > (low + high) / 2
    if apart < LEAST_APART_HZ or near.mean() < MOSTLY or not LEAST_PART < is_high.mean() < 1 - LEAST_PART:
        return None
    changes = np.flatnonzero(np.diff(is_high))
    if changes.size < FEWEST_CHANGES:
        return None
    shortest = float(np.quantile(np.diff(changes), 0.2)) / rate_hz
    if not look_s < shortest < SLOW_S:
        return None
    steady = np.convolve(np.diff(is_high, prepend=is_high[0]), np.ones(look), "same") == 0
    return span.start + np.flatnonzero(is_high & steady), span.start + np.flatnonzero(~is_high & steady), shortest


def _between(samples: NDArray[Any], rate_hz: float, low_hz: float, high_hz: float) -> NDArray[np.complex128]:
    """What of a signal lies between two frequencies."""
    size = 1 << int(np.ceil(np.log2(samples.size)))
    frequencies = np.fft.fftfreq(size, 1 / rate_hz)
    kept = (frequencies >= low_hz) & (frequencies <= high_hz)
    return np.asarray(np.fft.ifft(np.fft.fft(samples, size) * kept)[: samples.size])


def _two_means(values: NDArray[Any]) -> tuple[float, float]:
    """The centres of two groups of values (Lloyd 1982, "Least squares quantization in PCM"), the lower first."""
    low, high = np.quantile(values, (0.1, 0.9)).tolist()
    for _ in range(ROUNDS):
        upper = values > (low + high) / 2
        if upper.all() or not upper.any():
            return low, high
        low, high = float(np.median(values[~upper])), float(np.median(values[upper]))
    return low, high
