"""Fitting the ruler: unit and mark excess from pulses whose lengths in units are known."""

from __future__ import annotations

import numpy as np

from eager_tern.linecode.values import Clock
from eager_tern.signal.assumed import EXCESS_SIGMA_US
from eager_tern.signal.stretches import stretches
from eager_tern.signal.values import Floats

SIGNS = np.tile([1.0, -1.0], 1 << 12)
MARK_ENDS = np.tile([0.0, 1.0], 1 << 12)  # of the edges, every second one ends a mark


def alternating(n: int) -> Floats:
    """+1 for marks, −1 for spaces, shape (n,)."""
    return SIGNS[:n] if n <= SIGNS.size else np.resize(SIGNS, n)


# Weight of "no excess" against a pulse that says otherwise, which errs by 40 µs.
NO_EXCESS_WEIGHT = (40.0 / EXCESS_SIGMA_US) ** 2


def fit_clock(durations_us: Floats, units: Floats) -> Clock:
    """Unit and excess of one frame, as ``fit_clocks`` finds them; both arguments have shape (n,)."""
    unit, excess, rms = fit_clocks(durations_us[None], units[None])
    return Clock(float(unit[0]), float(excess[0]), float(rms[0]))


def fit_clocks(durations_us: Floats, units: Floats) -> tuple[Floats, Floats, Floats]:
    """Units, excesses and rms residuals by least squares, shape (frames,) each, all in µs.

    Both arguments have shape (frames, n); ``units`` are the pulses' known lengths (NaN: not known, in the same places
    in every frame). Edges err independently of each other, so the places of the edges are fitted: edge j lies at
    offset + unit·Kj, later by the excess where a mark ends. Behind a pulse of unknown length the ruler begins anew,
    with an offset of its own. A small weight holds the excess near zero where few pulses tell it. Raises ValueError
    where no length is known.
    """
    known = ~np.isnan(units[0])
    if not known.any():
        raise ValueError("no pulse of known length")
    signs = alternating(known.size)
    if known.all():
        unit, excess = _two_slopes(*_centred(durations_us, units, 0))
    else:
        runs = [_centred(durations_us[:, a : b + 1], units[:, a : b + 1], a) for a, b in stretches(known)]
        places, ends, times = zip(*runs, strict=True)
        unit, excess = _two_slopes(np.hstack(places), np.concatenate(ends), np.hstack(times))
        units, durations_us, signs = units[:, known], durations_us[:, known], signs[known]
    rest = durations_us - unit[:, None] * units - excess[:, None] * signs
    return unit, excess, np.sqrt(np.einsum("ij,ij->i", rest, rest) / rest.shape[1])


def _centred(durations_us: Floats, units: Floats, first: int) -> tuple[Floats, Floats, Floats]:
    """Edges of pulses in a row, the ``first`` one's index told: places in units, whether a mark ends there, times, each
    about its mean.
    """
    places, times = edges_of(units), edges_of(durations_us)
    count = places.shape[1]
    odd = first % 2
    ends = MARK_ENDS[odd : count + odd] if count < MARK_ENDS.size else np.resize(np.roll(MARK_ENDS, -odd), count)
    middle = places.mean(axis=1, keepdims=True)
    return places - middle, ends - ends.mean(), times - times.mean(axis=1, keepdims=True)


def edges_of(durations: Floats) -> Floats:
    """The edges between pulses, the first at 0: shape (frames, n) to (frames, n + 1)."""
    edges = np.zeros((durations.shape[0], durations.shape[1] + 1))
    np.cumsum(durations, axis=1, out=edges[:, 1:])
    return edges


def _two_slopes(k: Floats, s: Floats, y: Floats) -> tuple[Floats, Floats]:
    """Least squares of y = a·k + b·s in every row, b held near zero. ``s`` is the same for all, shape (n,)."""
    kk, ks, ss = np.einsum("ij,ij->i", k, k), k @ s, float(s @ s) + NO_EXCESS_WEIGHT
    ky, sy = np.einsum("ij,ij->i", k, y), y @ s
    determinant = kk * ss - ks * ks
    return (ky * ss - sy * ks) / determinant, (sy * kk - ky * ks) / determinant


def expected_durations(clock: Clock, units: Floats) -> Floats:
    """What pulses of the given lengths should last, shape of ``units``."""
    return clock.unit_us * units + clock.excess_us * alternating(units.size)
