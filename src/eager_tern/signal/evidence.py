"""How much a recording speaks for a mark or a space over any stretch, before anyone has set a threshold."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from eager_tern.signal.baseband import Baseband
from eager_tern.signal.values import Floats, Pulses

# No hobby transmitter keeps its phase for longer, and its frequency is not known well enough either.
LONGEST_COHERENT_US = 1_600.0
_BESSEL = (0.0045813, 0.0360768, 0.2659732, 1.2067492, 3.0899424, 3.5156229, 1.0)


class Evidence(Protocol):
    """Log likelihood ratios (natural) of stretches, against nothing being sent; any shape of times in µs."""

    def mark(self, first_us: Floats, last_us: Floats) -> Floats: ...

    def space(self, first_us: Floats, last_us: Floats) -> Floats: ...


class RadioEvidence:
    """Of a burst whose timing is known but not its phase.

    A stretch of T seconds with energy A²T, whose samples add up to S, is exp(−A²T/N₀)·I₀(2A|S|/N₀) times as probable
    with the carrier as without (Turin 1960, "An introduction to matched filters"). In two tones the space is a tone.
    """

    def __init__(self, burst: Baseband) -> None:
        self._burst = burst
        self._us = 1e6 / burst.rate_hz
        turn = 2j * np.pi * burst.deviation_hz / burst.rate_hz * np.arange(burst.values.size)
        self._high = _running_sum(burst.values * np.exp(-turn), burst.rate_hz)
        self._low = _running_sum(burst.values * np.exp(turn), burst.rate_hz) if burst.deviation_hz else None

    def mark(self, first_us: Floats, last_us: Floats) -> Floats:
        return self._tone(self._high, first_us, last_us)

    def space(self, first_us: Floats, last_us: Floats) -> Floats:
        if self._low is None:
            return np.zeros(np.broadcast_shapes(np.shape(first_us), np.shape(last_us)))
        return self._tone(self._low, first_us, last_us)

    def _tone(self, sums: NDArray[np.complex128], first_us: Floats, last_us: Floats) -> Floats:
        level, noise = self._burst.level, self._burst.noise
        first, length = np.asarray(first_us), np.asarray(last_us) - np.asarray(first_us)
        pieces = max(1, int(np.ceil(float(length.max(initial=0.0)) / LONGEST_COHERENT_US)))
        score = -(level**2) / noise * length / 1e6
        before = self._at(sums, first)
        for i in range(pieces):
            after = self._at(sums, first + length * ((i + 1) / pieces))
            score = score + _log_bessel(2 * level / noise * np.abs(after - before))
            before = after
        return np.asarray(score)

    def _at(self, sums: NDArray[np.complex128], times_us: Floats) -> NDArray[np.complex128]:
        place = np.clip((np.asarray(times_us) - self._burst.start_us) / self._us, 0, sums.size - 1.001)
        index = place.astype(np.intp)
        return np.asarray(sums[index] + (place - index) * (sums[index + 1] - sums[index]))


def _running_sum(values: NDArray[Any], rate_hz: float) -> NDArray[np.complex128]:
    return np.concatenate((np.zeros(1, np.complex128), np.cumsum(values, dtype=np.complex128))) / rate_hz


def _log_bessel(x: Floats) -> Floats:
    """log I₀(x): the polynomial of Abramowitz and Stegun 9.8.1 for small x, the asymptotic series 9.7.1 for large."""
    t = np.minimum(x / 3.75, 0.8) ** 2
    power = np.full_like(t, _BESSEL[0])
    for coefficient in _BESSEL[1:]:
        power *= t
        power += coefficient
    large = np.maximum(x, 3.0)
    return np.where(
        x < 3.0,
        np.log(power),
        large - 0.5 * np.log(2 * np.pi * large) + np.log1p(1 / (8 * large) + 0.07 / large**2),
    )


class LineEvidence:
    """Of a line of two levels: each µs on the right level speaks for a stretch, each on the wrong one against it.

    ``cell_us`` is the time after which the line's next error is another one: a quarter of a unit.
    """

    RIGHT, WRONG = 0.64, -2.3  # log of 0.95 and of 0.05 against a half: a line that is wrong in one cell of twenty

    def __init__(self, pulses: Pulses, cell_us: float) -> None:
        self._edges = pulses.edge_times_us
        lengths = np.diff(self._edges)
        lengths[1::2] = 0.0
        self._marked = np.concatenate(([0.0], np.cumsum(lengths)))
        self._cell = cell_us

    def mark(self, first_us: Floats, last_us: Floats) -> Floats:
        marked, length = self._stretch(first_us, last_us)
        return np.asarray((self.RIGHT * marked + self.WRONG * (length - marked)) / self._cell)

    def space(self, first_us: Floats, last_us: Floats) -> Floats:
        marked, length = self._stretch(first_us, last_us)
        return np.asarray((self.RIGHT * (length - marked) + self.WRONG * marked) / self._cell)

    def _stretch(self, first_us: Floats, last_us: Floats) -> tuple[Floats, Floats]:
        at = [np.interp(t, self._edges, self._marked) for t in (first_us, last_us)]
        return at[1] - at[0], np.asarray(last_us) - np.asarray(first_us)
