"""Fitting the ruler: unit and mark excess from pulses whose lengths in units are known."""

from __future__ import annotations

import numpy as np

from eager_tern.linecode.values import Clock
from eager_tern.signal.values import Floats

SIGNS = np.tile([1.0, -1.0], 1 << 12)
MARK_ENDS = np.tile([0.0, 1.0], 1 << 12)  # of the edges, every second one ends a mark


def alternating(n: int) -> Floats:
    """+1 for marks, −1 for spaces, shape (n,)."""
    return SIGNS[:n] if n <= SIGNS.size else np.resize(SIGNS, n)


# Weight of "no excess" against a pulse that says otherwise: excess is about 80 µs at most, a pulse errs by 40.
NO_EXCESS_WEIGHT = 0.25


def fit_clock(durations_us: Floats, units: Floats) -> Clock:
    """Unit and excess by least squares, for pulses of known lengths (``units``; NaN: not known).

    Edges err independently of each other, so the places of the edges are fitted: edge j lies at
    offset + unit·Kj, later by the excess where a mark ends. Behind a pulse of unknown length everything begins anew, so
    there the durations are fitted instead. A small weight holds the excess near zero where few pulses tell it. Raises
    ValueError where no length is known.
    """
    known = ~np.isnan(units)
    if not known.any():
        raise ValueError("no pulse of known length")
    if known.all():
        places = np.concatenate(([0.0], np.cumsum(units)))
        times = np.concatenate(([0.0], np.cumsum(durations_us)))
        ends = MARK_ENDS[: times.size] if times.size <= MARK_ENDS.size else np.resize(MARK_ENDS, times.size)
        unit, excess = _two_slopes(places - places.sum() / places.size, ends - ends.sum() / ends.size, times)
    else:
        unit, excess = _two_slopes(units[known], alternating(units.size)[known], durations_us[known])
    rest = durations_us[known] - unit * units[known] - excess * alternating(units.size)[known]
    return Clock(unit, excess, float(np.sqrt(rest @ rest / rest.size)))


def _two_slopes(k: Floats, s: Floats, y: Floats) -> tuple[float, float]:
    """Least squares of y = a·k + b·s, b held near zero."""
    kk, ks, ss = float(k @ k), float(k @ s), float(s @ s) + NO_EXCESS_WEIGHT
    ky, sy = float(k @ y), float(s @ y)
    determinant = kk * ss - ks * ks
    return (ky * ss - sy * ks) / determinant, (sy * kk - ky * ks) / determinant


def expected_durations(clock: Clock, units: Floats) -> Floats:
    """What pulses of the given lengths should last, shape of ``units``."""
    return clock.unit_us * units + clock.excess_us * alternating(units.size)
