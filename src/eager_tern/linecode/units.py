"""Symbols' lengths in whole units: the ratio that fits the measured marks and spaces with the least mark excess."""

from __future__ import annotations

from functools import cache
from itertools import product

import numpy as np

from eager_tern.linecode.clock import alternating
from eager_tern.signal.assumed import EXCESS_FOUND_US, EXCESS_SIGMA_US
from eager_tern.signal.values import Floats

LONGEST_SYMBOL = 8  # units
LENGTH_ERROR, LENGTH_COST = 0.06, 1.2  # of a centre, of the unit; of each unit in a symbol: short ones are usual
WORST_ERROR = 0.15  # of a centre, of the unit: 1 to 3.5 is off by 0.21 of any whole ratio, 1 to 3.3 by 0.12 and usual
EXCESS_SIGMA = 0.12  # of the unit, where that is more than what receivers do


def small_units(marks_us: Floats, spaces_us: Floats) -> tuple[Floats, Floats]:
    """The smallest whole lengths in units of each symbol's mark and space, shape (symbols,) each, as their centres.

    Of two symbols the lengths are free, of more they are evenly apart. Where none fit, or only with more mark excess
    than receivers make, the unit is the shortest pulse and the lengths are what they measure.
    """
    count = marks_us.size
    grows = [int(np.sign(c[-1] - c[0])) for c in (marks_us, spaces_us)]
    choices = _choices(count, *grows)  # marks and spaces in turn
    observed = np.empty(2 * count)
    observed[0::2], observed[1::2] = marks_us, spaces_us
    signs = alternating(2 * count)
    # Least squares of observed = unit·k ± excess, for every choice at once.
    kk, ks = np.einsum("ij,ij->i", choices, choices), choices @ signs
    dk, ds = choices @ observed, float(observed @ signs)
    determinant = kk * 2 * count - ks * ks
    determinant[determinant == 0] = np.nan
    unit, excess = (dk * 2 * count - ds * ks) / determinant, (ds * kk - dk * ks) / determinant
    rest = observed - unit[:, None] * choices - excess[:, None] * signs
    with np.errstate(divide="ignore", invalid="ignore"):
        cost = (rest**2).mean(axis=1) / (LENGTH_ERROR * unit) ** 2
        cost += (excess / np.maximum(EXCESS_SIGMA * unit, EXCESS_SIGMA_US)) ** 2
    cost += LENGTH_COST * choices.sum(axis=1) * 2 / count
    cost[~(unit > 0)] = np.inf
    at = int(np.nanargmin(cost))
    fits = abs(excess[at]) < EXCESS_FOUND_US and np.abs(rest[at]).max() < WORST_ERROR * unit[at]
    best = choices[at] if fits else observed / observed.min()
    return best[0::2], best[1::2]


@cache
def _choices(count: int, marks_grow: int, spaces_grow: int) -> Floats:
    """Every assignment of small whole lengths to the mark and the space of each symbol, shape (n, 2 · symbols).

    The signs say whether the last one has the longer one (1), the shorter one (−1) or the same (0).
    """
    lengths = range(1, LONGEST_SYMBOL + 1)

    def rows(grow: int) -> list[tuple[int, ...]]:
        steps = [0] if grow == 0 else [grow * step for step in range(1, LONGEST_SYMBOL)]
        each = [tuple(base + step * k for k in range(count)) for base in lengths for step in steps]
        return [row for row in each if min(row) >= 1 and max(row) <= LONGEST_SYMBOL]

    pairs = product(rows(marks_grow), rows(spaces_grow))
    table = [[x for pair in zip(m, s, strict=True) for x in pair] for m, s in pairs if min(*m, *s) <= 2]
    return np.array(table, dtype=np.float64)
