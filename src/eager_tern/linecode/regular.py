"""Regular stretches in a stream of pulses: where in a receiver's chatter a frame may be.

Amplitude says nothing there, and no gap need stand before a frame. What gives it away is that one pair of mark and
space after the other is a symbol of one code, or one pulse after the other lasts one or two half bits.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.signal.order import quantile
from eager_tern.signal.stretches import bounds_of_stretches, stretches
from eager_tern.signal.values import Floats

# The symbols of 0 and 1 in units, mark and space: fixed period, pulse distance, pulse width.
CODES = (
    ((1, 3), (3, 1)),
    ((1, 2), (2, 1)),
    ((1, 1), (1, 3)),
    ((1, 1), (1, 2)),
    ((1, 2), (1, 4)),
    ((1, 3), (1, 7)),
    ((1, 1), (2, 1)),
)
UNITS_US = 110.0 * 1.1 ** np.arange(24)  # up to 985 µs
EXCESSES = (-0.22, 0.0, 0.22)  # of a unit
OFF = 0.34  # of a unit: what a pulse may be off where the code's unit is the grid's
ALIKE = 0.4  # how much neighbours of one length may differ at the first glance
FEWEST_ALIKE = 7
FEWEST_PAIRS = 10
# Half bits in a row: pulses of one or two, and here and there a sync of up to five.
OFF_HALF = 0.25  # what such a pulse may be off: with more, any pulse of a softened noise is one or two halves
OFF_MORE = 0.05  # for each half more: the unit is known to a twentieth
LONGEST_SYNC = 5
FEWEST_HALVES = 24  # pulses
MOSTLY = 0.85  # of them are one or two
FEWEST_SINGLES = 0.2  # are one: what is all double is a run-in of twice the length
FEWEST_DOUBLES = 4
OUT_OF_STEP = 0.1  # of the double ones, behind a sync of an odd number; in chatter half of them are
LEAST_CHATTER = 0.05  # of a burst's pulses are shorter than half of a half bit
LOOK_HALVES = 12  # pulses by which it is seen that none is far shorter than the others,
RANGE_OF_HALVES = 3.4  # two halves, lengthened, over one that is shortened
BESIDE_HALVES = 30  # pulses on either side of them that are looked at, too: a sync, and what stands behind it
LARGEST_HOLE = 1  # pairs within a run that do not fit
FEWEST_BESIDE_HOLE = 3  # pairs that do, on either side


class Stretch(Struct, frozen=True):
    """Pairs from ``first`` to ``last`` (indices of their marks among the pulses, even) that are symbols of a code."""

    first: int
    last: int
    unit_us: float
    fitting: int


def regular_stretches(durations_us: Floats) -> list[Stretch]:
    """The stretches of at least ten symbols of one code, best first where they overlap, in order of time."""
    return _best_of(_in_pairs(durations_us) + _in_halves(durations_us))


def _in_halves(durations_us: Floats) -> list[Stretch]:
    """Stretches of bi-phase: its pulses last one or two half bits, marks as often as spaces."""
    looked_at = _worth_a_look_for_halves(durations_us)
    if not looked_at:
        return []
    at = _in_one_row(looked_at, 1)
    d = np.where(at >= 0, durations_us[at], np.nan)
    excesses = np.array(EXCESSES)[:, None] * np.where(at % 2 == 0, 1.0, -1.0)
    found: list[Stretch] = []
    # A burst without pulses shorter than half bits is no chatter, but a frame: what part of it is even says nothing.
    shortest = 2 * quantile(durations_us, LEAST_CHATTER)
    for unit in (each for each in UNITS_US.tolist() if each > shortest):
        units = d / unit - excesses
        halves = np.rint(units)
        near = (np.abs(units - halves) < OFF_HALF + OFF_MORE * (halves - 1)) & (halves >= 1) & (halves <= LONGEST_SYNC)
        firsts, lasts = bounds_of_stretches(near.ravel())
        long = lasts - firsts >= FEWEST_HALVES
        for first, last in zip(firsts[long].tolist(), lasts[long].tolist(), strict=True):
            found += _of_halves(halves.ravel()[first : last + 1], int(at[first % at.size]), unit)
    return found


def _of_halves(halves: Floats, first: int, unit: float) -> list[Stretch]:
    """A row of pulses on a grid as a stretch that begins and ends with a mark, if it is bi-phase."""
    begin = first % 2
    size = (halves.size - begin + 1) // 2 * 2 - 1
    data = halves[begin : begin + max(size, 0)]
    singles, doubles = np.count_nonzero(data == 1), np.count_nonzero(data == 2)
    if size < FEWEST_HALVES or singles + doubles < MOSTLY * size or singles < FEWEST_SINGLES * size:
        return []
    # A double one spans two bits, so it begins in the middle of one: an even number of halves after the one before.
    middles = (np.cumsum(data) - data)[data == 2] % 2
    if doubles < FEWEST_DOUBLES or np.count_nonzero(np.diff(middles)) > OUT_OF_STEP * doubles:
        return []
    return [Stretch(first + begin, first + begin + size - 3, unit, int(singles + doubles) // 2)]


def _worth_a_look_for_halves(d: Floats) -> list[tuple[int, int]]:
    """Ranges with a row of pulses none of which is far shorter than the others, and what stands beside it."""
    if d.size < FEWEST_HALVES:
        return []
    high, low = d[: 1 - LOOK_HALVES].copy(), d[: 1 - LOOK_HALVES].copy()
    for shift in range(1, LOOK_HALVES):
        beside = d[shift : d.size - LOOK_HALVES + 1 + shift]
        np.maximum(high, beside, out=high)
        np.minimum(low, beside, out=low)
    begins = np.flatnonzero((high < RANGE_OF_HALVES * low) & (low > (1 - OFF_HALF - EXCESSES[-1]) * UNITS_US[0]))
    return _made_one(begins - BESIDE_HALVES, begins + LOOK_HALVES + BESIDE_HALVES, d.size)


def _in_pairs(durations_us: Floats) -> list[Stretch]:
    """Stretches of symbols that are a mark and a space."""
    pairs = durations_us[: durations_us.size // 2 * 2].reshape(-1, 2)
    looked_at = _worth_a_look(pairs)
    if not looked_at:
        return []
    rows = _in_one_row(looked_at, LARGEST_HOLE + 2)
    marks, spaces = np.where(rows >= 0, pairs[rows].T, np.nan)
    found: list[Stretch] = []
    for unit in UNITS_US.tolist():
        fits = _fitting(marks / unit, spaces / unit).ravel()
        firsts, lasts = _runs(fits)
        count = np.append(0, np.cumsum(fits))
        fitting = count[lasts + 1] - count[firsts]
        where = 2 * rows[firsts % rows.size], 2 * rows[lasts % rows.size]
        found += [
            Stretch(a, b, unit, c) for a, b, c in zip(*(each.tolist() for each in (*where, fitting)), strict=True)
        ]
    return found


def _fitting(marks: Floats, spaces: Floats) -> NDArray[np.bool_]:
    """Which pairs, in units, are a symbol, with each excess and in each code: shape (excesses, codes, pairs)."""
    excess = np.array(EXCESSES)[:, None]
    near = {n: np.abs(marks - excess - n) < OFF for n in {mark for code in CODES for mark, _ in code}}
    after = {n: np.abs(spaces + excess - n) < OFF + 0.05 * n for n in {space for code in CODES for _, space in code}}
    codes = [(near[zero[0]] & after[zero[1]]) | (near[one[0]] & after[one[1]]) for zero, one in CODES]
    return np.stack(codes, axis=1)


def _worth_a_look(pairs: Floats) -> list[tuple[int, int]]:
    """Ranges in which marks, spaces or periods stay alike for a while; everything else is quickly passed over."""
    if len(pairs) < FEWEST_PAIRS:
        return []
    begins, ends = [], []
    for lengths in (pairs[:, 0], pairs[:, 1], pairs.sum(axis=1)):
        firsts, lasts = bounds_of_stretches(np.abs(np.diff(lengths)) < ALIKE * np.minimum(lengths[1:], lengths[:-1]))
        long = lasts - firsts + 1 >= FEWEST_ALIKE
        begins.append(firsts[long] - 4)
        ends.append(lasts[long] + 6)
    ranges = _made_one(np.concatenate(begins), np.concatenate(ends), len(pairs))
    return [(begin, end) for begin, end in ranges if end - begin >= FEWEST_PAIRS]


def _made_one(begins: NDArray[np.intp], ends: NDArray[np.intp], size: int) -> list[tuple[int, int]]:
    """Ranges of places (ends not included) within ``size`` of them, those that overlap or touch as one."""
    look = np.zeros(size + 1, np.int64)
    np.add.at(look, np.maximum(begins, 0), 1)
    np.add.at(look, np.minimum(ends, size), -1)
    return [(first, last + 1) for first, last in stretches(np.cumsum(look[:-1]) > 0)]


def _in_one_row(ranges: Sequence[tuple[int, int]], between: int) -> NDArray[np.intp]:
    """The places of all ranges, parted by ``between`` times −1, which fits nothing."""
    return np.concatenate([np.append(np.arange(begin, end), (-1,) * between) for begin, end in ranges])


def _runs(fits: NDArray[np.bool_]) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """First and last of the runs of symbols that are long enough; between three and three a single misfit may stand."""
    firsts, lasts = bounds_of_stretches(fits)
    long = lasts - firsts >= FEWEST_BESIDE_HOLE - 1
    parted = ~((firsts[1:] - lasts[:-1] <= LARGEST_HOLE + 1) & long[1:] & long[:-1])
    firsts, lasts = firsts[np.append(True, parted)[: firsts.size]], lasts[np.append(parted, True)[: lasts.size]]
    enough = lasts - firsts + 1 >= FEWEST_PAIRS
    return firsts[enough], lasts[enough]


def _best_of(found: list[Stretch]) -> list[Stretch]:
    """Of stretches that overlap the one with the most symbols."""
    kept: list[Stretch] = []
    for stretch in sorted(found, key=lambda s: -s.fitting):
        if all(stretch.last < other.first or stretch.first > other.last for other in kept):
            kept.append(stretch)
    return sorted(kept, key=lambda s: s.first)
