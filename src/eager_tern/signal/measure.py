"""What a pair of calipers says, and how far two recordings of one frame are apart."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.signal.values import Floats, Pulses


class Measure(Struct, frozen=True):
    """The distance of two edges; ``units`` and ``samples`` where a ruler and a sample rate are known."""

    us: float
    units: float | None
    samples: float | None

    @property
    def hz(self) -> float | None:
        """The frequency whose period it is."""
        return 1e6 / self.us if self.us else None


def measure(from_us: float, to_us: float, unit_us: float | None, sample_rate_hz: float | None) -> Measure:
    """The distance between two times."""
    us = abs(to_us - from_us)
    return Measure(us, us / unit_us if unit_us else None, us * sample_rate_hz / 1e6 if sample_rate_hz else None)


def edge_deviations(durations_us: Floats, expected_us: Floats) -> Floats:
    """How far each edge is from its place on the ruler, shape (n + 1,), µs; positive: too late.

    The ruler lies so that the deviations are zero on average. Where a pulse has no expected length its measured one
    stands in for it.
    """
    rest = np.where(np.isnan(expected_us), 0.0, durations_us - expected_us)
    deviations = np.concatenate(([0.0], np.cumsum(rest)))
    return np.asarray(deviations - deviations.mean())


def best_shift_us(one: Pulses, other: Pulses, reach_us: float) -> float:
    """By how much ``other`` is to be moved from the first edges together for its levels to agree best with ``one``'s.

    Sought within ``reach_us``, in steps of a sixteenth of the usual short pulse.
    """
    if one.durations_us.size < 3 or other.durations_us.size < 3:
        return 0.0
    step = max(float(np.quantile(one.durations_us, 0.25)) / 16, 1.0)
    times = np.arange(0.0, one.duration_us, step)
    level = level_at(one, times)
    shifts = np.arange(-np.ceil(reach_us / step), np.ceil(reach_us / step) + 1) * step
    agreement = [float(np.mean(level_at(other, times - shift) == level)) for shift in shifts]
    best = max(agreement)
    # Of equals the one nearest to no shift at all.
    return float(min((s for s, a in zip(shifts.tolist(), agreement, strict=True) if a > best - 1e-9), key=abs))


def level_at(pulses: Pulses, times_us: Floats) -> NDArray[np.bool_]:
    """Whether there is a mark at times counted from the first edge."""
    edges = np.concatenate(([0.0], np.cumsum(pulses.durations_us)))
    return np.asarray(np.searchsorted(edges, times_us, side="right") % 2 == 1)


def differing_stretches(one: Pulses, other: Pulses, shift_us: float, tolerance_us: float) -> Floats:
    """Where two frames are on different levels for longer than edges err, shape (n, 2), µs from the first edge."""
    ends = [np.concatenate(([0.0], np.cumsum(p.durations_us))) for p in (one, other)]
    bounds = np.unique(np.concatenate((ends[0], ends[1] + shift_us)))
    middles = (bounds[1:] + bounds[:-1]) / 2
    differs = (level_at(one, middles) != level_at(other, middles - shift_us)) & (np.diff(bounds) > tolerance_us)
    return np.column_stack((bounds[:-1][differs], bounds[1:][differs]))


def edge_difference_us(one: Pulses, other: Pulses) -> float | None:
    """The rms distance between the edges of two frames laid over each other; None where they have other edges."""
    if one.durations_us.size != other.durations_us.size:
        return None
    apart = np.cumsum(one.durations_us - other.durations_us)
    apart = np.concatenate(([0.0], apart))
    return float(np.std(apart))
