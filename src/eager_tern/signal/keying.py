"""A tuned signal to pulses: the carrier switched or turned down, or two tones taking turns."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from eager_tern.signal.baseband import Baseband, Keying
from eager_tern.signal.crossings import crossing_places
from eager_tern.signal.order import median
from eager_tern.signal.values import NO_PULSES, Floats, Pulses, in_one_row

CLEAR = 25.0  # energy over noise density that makes a pulse's ends clear
SHORTEST_LOOK_S, LONGEST_LOOK_S = 30e-6, 300e-6
DEAD_BAND = 0.15  # of the swing, to either side of the threshold
SPAN_LOOK_S, SPAN_TONE_S = 2e-3, 150e-6
SENT = 0.12  # of the marks' power
LONGEST_SPACE_S = 7e-3
SHORTEST_SPAN_S = 1e-3
CLEARLY_THERE = 12.0  # energy of what is left of it over the noise's density
NO_DOUBT = 100.0  # energy over noise density from which on no pulse is noise
TURNED_DOWN = 0.2  # of the marks' amplitude: from there on the carrier is not switched off


def pulses_of_bursts(bursts: Sequence[Baseband]) -> Pulses:
    """The pulses of a transmitter by threshold, all its bursts in one row."""
    return in_one_row(_pulses_of_burst(burst) for burst in bursts)


def _pulses_of_burst(burst: Baseband) -> Pulses:
    times, first_is_mark = edges_of_burst(burst)
    if not first_is_mark:
        times = times[1:]
    times = times[: times.size // 2 * 2]
    return Pulses(np.diff(times), float(times[0])) if times.size else NO_PULSES


def beyond_doubt(burst: Baseband, pulses: Pulses) -> bool:
    """Whether even the shortest of a burst's pulses stands so far above the noise that none was made by it."""
    shortest_s = float(pulses.durations_us.min(initial=np.inf)) / 1e6
    return pulses.durations_us.size > 0 and burst.level**2 * shortest_s > NO_DOUBT * burst.noise


def sent_spans(burst: Baseband) -> list[tuple[float, float]]:
    """Where in a burst something is sent (µs of the take): the silences between are too long to lie within a frame."""
    width = max(3, round(SPAN_LOOK_S * burst.rate_hz))
    window = np.hanning(width + 2)[1:-1]
    window /= window.sum()
    narrow = max(1, round(SPAN_TONE_S * burst.rate_hz))
    turn = 2j * np.pi * burst.deviation_hz / burst.rate_hz * np.arange(burst.values.size)
    turns = (turn, -turn) if burst.deviation_hz else (turn,)
    quick = np.sum([np.abs(_smooth(burst.values * np.exp(t), 2 * narrow - 1)) ** 2 for t in turns], axis=0)
    power = np.convolve(quick, window, "same")
    usual = len(turns) * burst.noise * burst.rate_hz / (1.33 * narrow)
    on = np.flatnonzero(power > max(usual + SENT * burst.level**2, 1.5 * usual))
    if on.size == 0:
        return []
    breaks = np.flatnonzero(np.diff(on) > LONGEST_SPACE_S * burst.rate_hz)
    firsts, lasts = on[np.concatenate(([0], breaks + 1))], on[np.concatenate((breaks, [on.size - 1]))]
    us = 1e6 / burst.rate_hz
    return [
        (burst.start_us + a * us, burst.start_us + b * us)
        for a, b in zip(firsts.tolist(), lasts.tolist(), strict=True)
        if (b - a) > SHORTEST_SPAN_S * burst.rate_hz
    ]


def keying_of(bursts: Sequence[Baseband]) -> Keying:
    """Two tones, or a carrier that is switched off or merely turned down in the spaces."""
    if bursts[0].deviation_hz:
        return "fsk"
    low = [_low_level(_amplitude(burst)[0], burst) for burst in bursts]
    clear = [(part * b.level) ** 2 * LONGEST_LOOK_S / b.noise for part, b in zip(low, bursts, strict=True)]
    turned_down = median(low) > TURNED_DOWN and median(clear) > CLEARLY_THERE
    return "ask" if turned_down else "ook"


def edges_of_burst(burst: Baseband) -> tuple[Floats, bool]:
    """Times of the changes (µs in the take) and whether the first begins a mark. The higher of two tones is one."""
    if burst.deviation_hz:
        high, low = _tones(burst)
        # Half the level is where either tone is as strong as the other, and where a tone is as strong as none.
        return _crossings((high - np.maximum(low, burst.level / 2)) / burst.level, 0.0, DEAD_BAND, burst)
    amplitude, level = _amplitude(burst)
    low_level = _low_level(amplitude, burst)
    low_part = low_level if low_level > TURNED_DOWN else 0.0
    return _crossings(amplitude, level * (1 + low_part) / 2, DEAD_BAND * level * (1 - low_part), burst)


def _look(burst: Baseband) -> int:
    """Samples to smooth over: no more than it takes to see a pulse's end."""
    needed = CLEAR * burst.noise / max(burst.level**2, 1e-20)
    return max(1, round(min(max(needed, SHORTEST_LOOK_S), LONGEST_LOOK_S) * burst.rate_hz))


def _smooth(values: NDArray[np.complex64], width: int) -> NDArray[np.complex128]:
    window = np.hanning(width + 2)[1:-1]
    return np.convolve(values, window / window.sum(), "same")


def _amplitude(burst: Baseband) -> tuple[Floats, float]:
    amplitude = np.abs(_smooth(burst.values, 2 * _look(burst) - 1))
    high = amplitude[amplitude > 0.8 * burst.level]
    return amplitude, median(high) if high.size else burst.level


def _low_level(amplitude: Floats, burst: Baseband) -> float:
    """The amplitude in the short spaces within the burst, as a part of the marks', what noise adds taken off."""
    marks = np.flatnonzero(amplitude > 0.7 * burst.level)
    if marks.size < 2:
        return 0.0
    inside = np.zeros(amplitude.size, np.bool_)
    gaps = np.diff(marks)
    guard = 3 * _look(burst)
    for at, gap in zip(marks[:-1][gaps > 1].tolist(), gaps[gaps > 1].tolist(), strict=True):
        if 2 * guard < gap < 0.003 * burst.rate_hz:
            inside[at + guard : at + gap - guard] = True
    if not inside.any():
        return 0.0
    noise_power = burst.noise * burst.rate_hz / max(_look(burst), 2)
    low = float(np.sqrt(max(median(amplitude[inside] ** 2) - noise_power, 0.0)))
    return low / burst.level


def _tones(burst: Baseband) -> tuple[Floats, Floats]:
    """Amplitudes of the higher and the lower tone."""
    apart = 1 / (2 * burst.deviation_hz)
    width = max(2 * _look(burst) - 1, round(1.5 * apart * burst.rate_hz))
    turn = np.exp(2j * np.pi * burst.deviation_hz / burst.rate_hz * np.arange(burst.values.size))
    return np.abs(_smooth(burst.values * turn.conj(), width)), np.abs(_smooth(burst.values * turn, width))


def _crossings(line: Floats, threshold: float, band: float, burst: Baseband) -> tuple[Floats, bool]:
    states = (line > threshold + band).astype(np.int8) - (line < threshold - band).astype(np.int8)
    decided = np.flatnonzero(states)
    if decided.size == 0:
        return np.empty(0), True
    kept = decided[np.concatenate(([True], states[decided][1:] != states[decided][:-1]))]
    first_is_mark = bool(states[kept[0]] > 0)
    at = kept if first_is_mark and kept[0] > 0 else kept[1:]
    if at.size == 0:
        return np.empty(0), True
    rising = states[at] > 0
    places = crossing_places(line, at, rising, np.full(at.size, threshold), reach=line.size)
    return burst.start_us + places / burst.rate_hz * 1e6, bool(rising[0])
