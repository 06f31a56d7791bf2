"""Fitting the ruler: unit and mark excess from pulses whose lengths in units are known."""

from __future__ import annotations

import numpy as np

from eager_tern.linecode.values import Clock
from eager_tern.signal.values import Floats

SIGNS = np.tile([1.0, -1.0], 1 << 12)


def alternating(n: int) -> Floats:
    """+1 for marks, −1 for spaces, shape (n,)."""
    return SIGNS[:n] if n <= SIGNS.size else np.resize(SIGNS, n)


# Weight of "no excess" against a pulse that says otherwise: excess is about 80 µs at most, a pulse errs by 40.
NO_EXCESS_WEIGHT = 0.25


def fit_clock(durations_us: Floats, units: Floats) -> Clock:
    """Least squares of duration = unit·k ± excess over the pulses with a known length (``units`` not NaN).

    A small weight holds the excess near zero where few pulses tell it. Raises ValueError where no length is known.
    """
    known = ~np.isnan(units)
    d, k, s = durations_us[known], units[known], alternating(units.size)[known]
    if d.size == 0:
        raise ValueError("no pulse of known length")
    kk, ks, ss = float(k @ k), float(k @ s), d.size + NO_EXCESS_WEIGHT
    dk, ds = float(d @ k), float(d @ s)
    determinant = kk * ss - ks * ks
    unit, excess = (dk * ss - ds * ks) / determinant, (ds * kk - dk * ks) / determinant
    rest = d - unit * k - excess * s
    return Clock(unit, excess, float(np.sqrt(rest @ rest / d.size)))


def expected_durations(clock: Clock, units: Floats) -> Floats:
    """What pulses of the given lengths should last, shape of ``units``."""
    return clock.unit_us * units + clock.excess_us * alternating(units.size)
