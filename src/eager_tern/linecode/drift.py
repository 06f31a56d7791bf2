"""How far a frame's edges lie from a ruler."""

from __future__ import annotations

import numpy as np

from eager_tern.linecode.clock import alternating
from eager_tern.linecode.values import Clock
from eager_tern.signal.values import Floats


def lengths_in_units(expected_us: Floats, clock: Clock) -> Floats:
    """Pulses' lengths in units, from what they should last; NaN stays NaN. Shape (pulses,)."""
    return (expected_us - clock.excess_us * alternating(expected_us.size)) / clock.unit_us


def edge_drift(durations_us: Floats, units: Floats, unit_us: float, excess_us: float) -> Floats:
    """By how much each edge is late on a ruler laid at the first, µs, shape (pulses + 1,).

    Behind a pulse of unknown length (NaN in ``units``) the ruler begins anew; the edge there has no drift.
    """
    rest = durations_us - units * unit_us - excess_us * alternating(units.size)
    known = ~np.isnan(rest)
    late = np.concatenate(([0.0], np.cumsum(np.where(known, rest, 0.0))))
    starts = np.flatnonzero(~known) + 1
    for start in starts:
        late[start:] -= late[start]
    return late
