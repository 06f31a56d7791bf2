"""What a pair of calipers says, and how far two recordings of one frame are apart."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eager_tern.signal.values import Floats, Pulses


@dataclass(frozen=True)
class Measure:
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


def edge_difference_us(one: Pulses, other: Pulses) -> float | None:
    """The rms distance between the edges of two frames laid over each other; None where they have other edges."""
    if one.durations_us.size != other.durations_us.size:
        return None
    apart = np.cumsum(one.durations_us - other.durations_us)
    apart = np.concatenate(([0.0], apart))
    return float(np.std(apart))
