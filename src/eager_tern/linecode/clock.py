"""Fitting the ruler: unit and mark excess from pulses whose lengths in units are known."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.values import Clock
from eager_tern.signal.assumed import EXCESS_SIGMA_US
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

    Both arguments have shape (frames, n); ``units`` are the pulses' known lengths (NaN: not known). Edges err
    independently of each other, so the places of the edges are fitted: edge j lies at offset + unit·Kj, later by the
    excess where a mark ends. Behind a pulse of unknown length the ruler begins anew, with an offset of its own. A small
    weight holds the excess near zero where few pulses tell it. Raises ValueError where no length is known.
    """
    known = ~np.isnan(units)
    if not known.any(axis=1).all():
        raise ValueError("no pulse of known length")
    edges = known.shape[1] + 1
    signs, mark_ends = alternating(known.shape[1]), _mark_ends(edges)
    if known.all():
        places, times = edges_of(units), edges_of(durations_us)
        for each in (places, times):  # sums, since this is asked ten thousands of times, and ``mean`` costs thrice that
            each -= np.add.reduce(each, axis=1, keepdims=True) / edges
        about_mean = mark_ends - edges // 2 / edges
        unit, excess = _two_slopes(places, np.broadcast_to(about_mean, places.shape), times)
    else:
        anew = np.hstack((np.ones((len(known), 1), np.bool_), ~known))
        units, durations_us = np.where(known, units, 0.0), np.where(known, durations_us, 0.0)
        all_edges = edges_of(units), np.broadcast_to(mark_ends, anew.shape), edges_of(durations_us)
        unit, excess = _two_slopes(*(_about_means(each, anew) for each in all_edges))
    rest = np.where(known, durations_us - unit[:, None] * units - excess[:, None] * signs, 0.0)
    return unit, excess, np.sqrt(np.einsum("ij,ij->i", rest, rest) / known.sum(axis=1))


def _mark_ends(edges: int) -> Floats:
    """1 for the edges that end a mark, 0 for the others, shape (edges,)."""
    return MARK_ENDS[:edges] if edges <= MARK_ENDS.size else np.resize(MARK_ENDS, edges)


def _about_means(values: Floats, anew: NDArray[np.bool_]) -> Floats:
    """The values less the mean of the row they stand in; ``anew``, of the same shape, is True where a row begins."""
    starts = np.flatnonzero(anew)
    counts = np.diff(starts, append=values.size)
    means = np.add.reduceat(values.ravel(), starts) / counts
    return np.asarray(values - np.repeat(means, counts).reshape(values.shape))


def edges_of(durations: Floats) -> Floats:
    """The edges between pulses, the first at 0: shape (frames, n) to (frames, n + 1)."""
    edges = np.zeros((durations.shape[0], durations.shape[1] + 1))
    np.cumsum(durations, axis=1, out=edges[:, 1:])
    return edges


def _two_slopes(k: Floats, s: Floats, y: Floats) -> tuple[Floats, Floats]:
    """Least squares of y = a·k + b·s in every row, b held near zero."""
    kk, ks, ss, ky, sy = (np.einsum("ij,ij->i", *both) for both in ((k, k), (k, s), (s, s), (k, y), (s, y)))
    ss = ss + NO_EXCESS_WEIGHT
    determinant = kk * ss - ks * ks
    return (ky * ss - sy * ks) / determinant, (sy * kk - ky * ks) / determinant


def expected_durations(clock: Clock, units: Floats) -> Floats:
    """What pulses of the given lengths should last, shape of ``units``."""
    return clock.unit_us * units + clock.excess_us * alternating(units.size)
