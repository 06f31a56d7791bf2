"""How much a recording speaks for a mark or a space over any stretch, before anyone has set a threshold."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.signal.baseband import Baseband, turning
from eager_tern.signal.values import Floats, Pulses

# No hobby transmitter keeps its phase for longer, and its frequency is not known well enough either.
LONGEST_COHERENT_US = 1_600.0
OFFSETS_HZ = np.arange(-600.0, 601.0, 50.0)  # by which a tone that was seen in noise may be off
_BESSEL = (0.0045813, 0.0360768, 0.2659732, 1.2067492, 3.0899424, 3.5156229, 1.0)


class Evidence(Protocol):
    """Log likelihood ratios (natural) of stretches, against nothing being sent; any shape of times in µs.

    ``space_is_sent``: a space is a tone of its own, which may be sent before a frame and behind it, too.
    """

    @property
    def space_is_sent(self) -> bool: ...

    def mark(self, first_us: Floats, last_us: Floats) -> Floats: ...

    def space(self, first_us: Floats, last_us: Floats) -> Floats: ...


class RadioEvidence:
    """Of a burst whose timing is known but not its phase.

    In two tones the space is a tone, too.
    """

    def __init__(self, burst: Baseband) -> None:
        self._burst = burst
        self._us = 1e6 / burst.rate_hz
        turn = 2j * np.pi * burst.deviation_hz / burst.rate_hz * np.arange(burst.values.size)
        self._high = _running_sum(burst.values * np.exp(-turn), burst.rate_hz)
        self._low = _running_sum(burst.values * np.exp(turn), burst.rate_hz) if burst.deviation_hz else None

    @property
    def space_is_sent(self) -> bool:
        return self._low is not None

    def fitted(self, pulses: Pulses) -> RadioEvidence:
        """The same with the tones and the amplitude that some pulses have: those of a burst are rough in noise."""
        edges = pulses.edge_times_us
        coherent = pulses.durations_us <= LONGEST_COHERENT_US
        marks, spaces = ((edges[:-1][at::2][coherent[at::2]], edges[1:][at::2][coherent[at::2]]) for at in (0, 1))
        high = low = self._tone_hz(self._burst.deviation_hz, *marks)
        if self._low is not None:
            low = self._tone_hz(-self._burst.deviation_hz, *spaces)
        middle = (high + low) / 2
        values = self._burst.values * turning(middle, self._burst.rate_hz, self._burst.values.size)
        burst = replace(self._burst, values=values, deviation_hz=(high - low) / 2)
        return RadioEvidence(replace(burst, level=RadioEvidence(burst)._level(marks, spaces)))

    def _tone_hz(self, tone_hz: float, first_us: Floats, last_us: Floats) -> float:
        """The tone near another one that has most energy in some stretches."""
        rate = self._burst.rate_hz
        turned = self._burst.values * turning(tone_hz, rate, self._burst.values.size)
        energies = []
        for offset in OFFSETS_HZ:
            sums = _running_sum(turned * turning(offset, rate, turned.size), rate)
            energies.append(float(self._energy(sums, first_us, last_us).sum()))
        return tone_hz + float(OFFSETS_HZ[int(np.argmax(energies))])

    def _level(self, marks: tuple[Floats, Floats], spaces: tuple[Floats, Floats]) -> float:
        """The amplitude in some stretches: one of T seconds has A²T² + N₀T on the average."""
        tones = [(self._high, *marks)] + ([(self._low, *spaces)] if self._low is not None else [])
        energy = sum(float(self._energy(*tone).sum()) for tone in tones)
        seconds = np.concatenate([last - first for _, first, last in tones]) / 1e6
        above = energy - self._burst.noise * float(seconds.sum())
        return float(np.sqrt(above / (seconds**2).sum())) if above > 0 else self._burst.level

    def _energy(self, sums: NDArray[np.complex128], first_us: Floats, last_us: Floats) -> Floats:
        return np.asarray(np.abs(self._at(sums, last_us) - self._at(sums, first_us)) ** 2)

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
        score = np.zeros(())
        before = self._at(sums, first)
        for i in range(pieces):
            after = self._at(sums, first + length * ((i + 1) / pieces))
            score = score + tone_nats(np.abs(after - before), length / 1e6 / pieces, level, noise)
            before = after
        return np.asarray(score)

    def _at(self, sums: NDArray[np.complex128], times_us: Floats) -> NDArray[np.complex128]:
        place = np.clip((np.asarray(times_us) - self._burst.start_us) / self._us, 0, sums.size - 1.001)
        index = place.astype(np.intp)
        return np.asarray(sums[index] + (place - index) * (sums[index + 1] - sums[index]))


def _running_sum(values: NDArray[Any], rate_hz: float) -> NDArray[np.complex128]:
    return np.concatenate((np.zeros(1, np.complex128), np.cumsum(values, dtype=np.complex128))) / rate_hz


def tone_nats(sums: Floats, seconds: Floats | float, level: float, noise: float) -> Floats:
    """Log likelihood ratios of stretches with a carrier of unknown phase beside those with noise alone.

    One of T seconds with energy A²T, whose samples add up to S, is exp(−A²T/N₀)·I₀(2A|S|/N₀) times as probable with the
    carrier as without (Turin 1960, "An introduction to matched filters"). ``sums`` are |S| (amplitude by seconds).
    """
    return _log_bessel(2 * level / noise * sums) - level**2 / noise * seconds


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

    space_is_sent = False
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
