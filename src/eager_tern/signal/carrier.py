"""A carrier that no receiver has stripped: measured, and taken off the marks."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.signal.baseband import Baseband
from eager_tern.signal.order import median
from eager_tern.signal.recording import Recording
from eager_tern.signal.values import Pulses

PERIODS_US = (1.0, 62.0)  # 16 kHz to 1 MHz
FEWEST_CYCLES = 60
SAME_PERIOD = 0.3  # of the usual one
BREAK = 1.6  # periods without a new cycle end a mark
LEAST_SHARE = 0.6  # of the pulses that are cycles of one period, where there is a carrier
SHORTEST_MARK = 3  # cycles: fewer are no mark


class Carrier(Struct, frozen=True):
    """``duty`` is the part of a period during which it is on."""

    frequency_hz: float
    duty: float


def find_carrier(pulses: Pulses) -> Carrier | None:
    """The carrier that pulses are the single cycles of, or None."""
    d = pulses.durations_us
    if d.size < 2 * FEWEST_CYCLES:
        return None
    marks, periods = d[:-1:2], d[:-1:2] + d[1::2]
    short = (periods > PERIODS_US[0]) & (periods < PERIODS_US[1])
    if short.sum() < max(FEWEST_CYCLES, LEAST_SHARE * periods.size):
        return None
    usual = median(periods[short])
    cycles = short & (np.abs(periods / usual - 1) < SAME_PERIOD)
    if cycles.sum() < LEAST_SHARE * periods.size:
        return None
    period = float(periods[cycles].mean())
    return Carrier(1e6 / period, float(marks[cycles].mean()) / period)


def strip_carrier(pulses: Pulses) -> tuple[Pulses, Carrier | None]:
    """The pulses without their carrier: each run of cycles is one mark of as many whole periods."""
    carrier = find_carrier(pulses)
    if carrier is None:
        return pulses, None
    period = 1e6 / carrier.frequency_hz
    starts = pulses.edge_times_us[:-1:2]
    breaks = np.flatnonzero(np.diff(starts) > BREAK * period)
    firsts = np.concatenate(([0], breaks + 1))
    lasts = np.concatenate((breaks, [starts.size - 1]))
    enough = lasts - firsts + 1 >= SHORTEST_MARK
    if not enough.any():
        return pulses, None
    begin, end = starts[firsts[enough]], starts[lasts[enough]] + period
    edges = np.column_stack((begin, end)).ravel()
    return Pulses(np.diff(edges), float(edges[0]), carrier.frequency_hz), carrier


def duty_in_bursts(recording: Recording, bursts: tuple[Baseband, ...]) -> float | None:
    """The carrier's duty from the samples during marks; None where noise hides it."""
    burst = max(bursts, key=lambda b: b.level)
    if burst.level**2 < 4 * burst.noise * recording.rate_hz:
        return None
    first = int(burst.start_us / 1e6 * recording.rate_hz)
    samples = recording.padded(first, first + int(burst.values.size / burst.rate_hz * recording.rate_hz))
    strong = np.abs(burst.values) > 0.85 * burst.level
    at = np.minimum((np.arange(samples.size) * (burst.rate_hz / recording.rate_hz)).astype(np.intp), strong.size - 1)
    during: NDArray[np.float32] = samples[strong[at]]
    if during.size < 100:
        return None
    low, high = np.quantile(during, [0.02, 0.98])
    on = float(np.mean(during > (low + high) / 2))
    rests_high = abs(median(samples[~strong[at]]) - high) < abs(median(samples[~strong[at]]) - low)
    return 1 - on if rests_high else on
