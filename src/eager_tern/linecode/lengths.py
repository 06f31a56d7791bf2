"""The lengths that pulses have, of many groups at once: the marks of each frame, and its spaces."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eager_tern.signal.values import Floats

ONE_SYMBOL = 1.12  # a symbol as two sections have it differs by less; the longest two of six symbols by a fifth


def lengths_of(values_us: Floats, groups: NDArray[np.intp], count: int) -> Floats:
    """The different lengths in each of ``count`` groups, shortest first; shape (count, most), filled up with inf.

    ``groups`` tells the group of each value; both have shape (n,).
    """
    apart = float(values_us.max(initial=0.0)) + 1.0  # by more than any value, so that one sort orders groups and values
    order = np.argsort(apart * groups + values_us)
    values, of = values_us[order], groups[order]
    new = np.ones(of.size, bool)
    new[1:] = (of[1:] != of[:-1]) | (values[1:] != values[:-1])
    values, of = values[new], of[new]
    place = np.arange(of.size) - np.searchsorted(of, np.arange(count))[of]
    lengths = np.full((count, int(place.max(initial=0)) + 1), np.inf)
    lengths[of, place] = values
    return lengths


def centres_of(lengths_us: Floats, symbols: NDArray[np.intp]) -> Floats:
    """The means of the lengths that are one symbol's, as its sections have it; both as in ``lengths_of``.

    ``symbols``, shape (count,), is how many a group's code has, two at least: its lengths are parted at no more than
    so many of their steepest rises, less one.
    """
    with np.errstate(invalid="ignore"):  # what fills the rows up is infinite
        rises = np.nan_to_num(lengths_us[:, 1:] / lengths_us[:, :-1], nan=0.0, posinf=0.0)
    steepest = np.sort(np.pad(rises, ((0, 0), (1, 0))), axis=1)  # none is a rise of nought
    least = np.take_along_axis(steepest, np.maximum(1 - symbols, -steepest.shape[1])[:, None], axis=1)
    cuts = (rises >= least) & (rises > ONE_SYMBOL)
    number = np.zeros(lengths_us.shape, np.intp)
    np.cumsum(cuts, axis=1, out=number[:, 1:])
    centres = np.full(lengths_us.shape, np.inf)
    for each in range(lengths_us.shape[1]):
        within = (number == each) & np.isfinite(lengths_us)
        counts = np.count_nonzero(within, axis=1)
        np.divide(np.where(within, lengths_us, 0.0).sum(axis=1), counts, out=centres[:, each], where=counts > 0)
    return centres
