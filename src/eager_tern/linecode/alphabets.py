"""Alphabets: the marks and spaces that a code's symbols are made of, found among the lengths that recur."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.linecode.clusters import SAME_RATIO, split_in_two
from eager_tern.linecode.levels import FEWEST_OF_EACH, centres_of, levels_of
from eager_tern.linecode.rows import FEWEST_PAIRS, FEWEST_SYMBOLS
from eager_tern.linecode.values import Code
from eager_tern.signal.assumed import CLOCK_WANDERS, USUAL_JITTER_US
from eager_tern.signal.stretches import stretches
from eager_tern.signal.values import Floats

ROUNDS = 3  # in which lengths and rows settle
SPREAD_WEIGHT = 6.0  # durations that what is usually so is worth
FARTHEST = 4.0  # spreads from its centre a duration still belongs to it
OTHER_SIDE = 0.75  # of the way to the other symbol, from where a duration is no more this one's
FARTHEST_INSIDE = 6.5  # between two that fit: one duration in some thousands is off by four
COARSEST_APART = 0.3  # spread of what tells two symbols apart: 60 µs of jitter at a unit of 300
LEAST_APART = 0.3  # of what lies between two symbols on the average: 1, 2, 4 and 8 have 0.43 between the first two
COARSEST_SPREAD = 0.4  # of the shortest length, which a receiver may have shortened
UNALIKE = 0.35  # standard deviation of equal lengths, of their mean: two lengths, 1 and 2, have a third of it

Span = tuple[int, int, bool]  # pairs first to last, and whether the mark behind them belongs to them


class Alphabet(Struct, frozen=True):
    """Symbols of a mark and the space behind it: centres in µs, shape (symbols,), and the durations' spread.

    ``bits`` is how many a symbol stands for, ``numbers`` how many numbers were fitted.
    """

    code: Code
    marks: Floats
    spaces: Floats
    spread_us: float
    bits: int
    numbers: int


class Told(Struct, frozen=True):
    """For each mark and the space behind it: the nearest symbol, and whether both are its, or the mark at least."""

    symbol: NDArray[np.intp]
    both: NDArray[np.bool_]
    mark: NDArray[np.bool_]


def first_alphabets(marks: Floats, spaces: Floats, counts: tuple[int, ...]) -> Iterator[Alphabet]:
    """First alphabets of so many symbols for some pairs of recurring lengths."""
    if 2 in counts:
        yield from _begun_of_two(marks, spaces)
    for count in counts:
        if count == 2:
            continue
        bits = (count - 1).bit_length()
        if _are_alike(marks) and (level := levels_of(spaces, count)) is not None:
            alike = np.full(count, float(marks.mean()))
            yield _alphabet("pulse-distance", alike, centres_of(spaces, level, count), bits, 3)
        if (level := levels_of(marks, count)) is not None:
            lengths, behind = centres_of(marks, level, count), centres_of(spaces, level, count)
            if behind[0] - behind[-1] < (lengths[-1] - lengths[0]) / 2:
                if not _are_alike(spaces):
                    continue
                behind = np.full(count, float(spaces.mean()))
            yield _alphabet("pulse-width", lengths, behind, bits, 4)


def _are_alike(lengths: Floats) -> bool:
    """Whether lengths that should be one vary no more than a receiver makes them."""
    mean = float(lengths.mean())
    return float(lengths.std()) < max(UNALIKE * mean, USUAL_JITTER_US * 2)


def _begun_of_two(marks: Floats, spaces: Floats) -> Iterator[Alphabet]:
    long_space, long_mark = _long(spaces), _long(marks)
    if long_space is not None:
        alike = np.full(2, float(marks.mean()))
        yield _alphabet("pulse-distance", alike, centres_of(spaces, long_space, 2), 1, 3)
    if long_mark is not None:
        yield _alphabet("pulse-width", centres_of(marks, long_mark, 2), np.full(2, float(spaces.mean())), 1, 3)
    if long_mark is not None and long_space is not None:
        makes_up = long_mark != long_space  # of a fixed period, whatever equal pulses stand before it
        if FEWEST_OF_EACH <= (makes_up & long_mark).sum() <= makes_up.sum() - FEWEST_OF_EACH:
            long, m, s = long_mark[makes_up], marks[makes_up], spaces[makes_up]
            yield _alphabet("pulse-width", centres_of(m, long, 2), centres_of(s, long, 2), 1, 4)


def _alphabet(code: Code, marks: Floats, spaces: Floats, bits: int, numbers: int) -> Alphabet:
    return Alphabet(code, marks, spaces, 2 * USUAL_JITTER_US, bits, numbers)


def _long(lengths: Floats) -> NDArray[np.bool_] | None:
    bound = split_in_two(lengths)
    if np.isnan(bound):
        return None
    long = lengths > bound
    if not FEWEST_OF_EACH <= long.sum() <= long.size - FEWEST_OF_EACH:
        return None
    return long if lengths[long].mean() > SAME_RATIO * lengths[~long].mean() else None


def settle(d: Floats, alphabet: Alphabet) -> tuple[Alphabet, list[Span]] | None:
    """The alphabet with the centres that its own rows have, and these rows; None where none are left."""
    before: NDArray[np.intp] | None = None
    for _ in range(ROUNDS):
        told = told_by(d, alphabet)
        rows = _rows(told)
        if not rows:
            return None
        if before is not None and np.array_equal(before, np.where(told.both, told.symbol, -1)):
            break
        before = np.where(told.both, told.symbol, -1)
        inside = np.zeros(told.symbol.size, np.bool_)
        for first, last, _tail in rows:
            inside[first : last + 1] = True
        symbol = told.symbol[inside]
        counts = np.bincount(symbol, minlength=alphabet.marks.size)
        if symbol.size < FEWEST_PAIRS or np.count_nonzero(counts) < alphabet.marks.size:
            return None
        marks, spaces = d[0::2][inside], d[1::2][inside[: d.size // 2]]
        if spaces.size < marks.size:
            marks, symbol = marks[: spaces.size], symbol[: spaces.size]
        new_marks = _refit(marks, symbol, alphabet.marks)
        new_spaces = _refit(spaces, symbol, alphabet.spaces)
        rest = np.concatenate((marks - new_marks[symbol], spaces - new_spaces[symbol]))
        spread = np.sqrt((np.sum(rest**2) + SPREAD_WEIGHT * USUAL_JITTER_US**2) / (rest.size + SPREAD_WEIGHT))
        alphabet = Alphabet(alphabet.code, new_marks, new_spaces, float(spread), alphabet.bits, alphabet.numbers)
    apart = np.abs(np.diff(alphabet.marks)) + np.abs(np.diff(alphabet.spaces))
    shortest = min(float(alphabet.marks.min()), float(alphabet.spaces.min()))
    most = min(COARSEST_APART * float(apart.min()), COARSEST_SPREAD * shortest)
    # Lengths that were told apart by their jitter alone are alike once the others have drawn their symbols together.
    alike = alphabet.code == "pulse-width" and alphabet.marks.max() < SAME_RATIO * alphabet.marks.min()
    alike |= bool(apart.min() < LEAST_APART * apart.mean())
    return (alphabet, rows) if alphabet.spread_us < most and not alike else None


def _refit(lengths: Floats, symbol: NDArray[np.intp], centres: Floats) -> Floats:
    """The centres anew; where all are one, they stay one."""
    if centres[0] == centres[-1]:
        return np.full(centres.size, lengths.mean())
    counts = np.bincount(symbol, minlength=centres.size)
    sums = np.bincount(symbol, lengths, minlength=centres.size)
    return np.where(counts > 0, sums / np.maximum(counts, 1), centres)


def told_by(d: Floats, alphabet: Alphabet) -> Told:
    marks = d[0::2]
    spaces = np.append(d[1::2], np.inf)[: marks.size]
    off_mark = _off(marks, alphabet.marks, alphabet.spread_us)
    off_space = _off(spaces, alphabet.spaces, alphabet.spread_us)
    near = off_mark**2 + off_space**2
    symbol = np.argmin(near, axis=1)
    at = np.arange(marks.size)
    far = np.maximum(off_mark[at, symbol], off_space[at, symbol])
    both = (far < FARTHEST) & ~_between(marks, spaces, symbol, alphabet)
    inside = np.concatenate(([False], both[:-2] & both[2:], [False])) if both.size > 2 else both
    both |= inside & (far < FARTHEST_INSIDE)
    by_mark = np.where(both, symbol, np.argmin(off_mark, axis=1))
    return Told(by_mark, both, off_mark.min(axis=1) < FARTHEST)


def _between(marks: Floats, spaces: Floats, symbol: NDArray[np.intp], alphabet: Alphabet) -> NDArray[np.bool_]:
    """Whether a pair has the mark of one symbol and the space of the other, where both tell them apart: a run-in's."""
    between = np.zeros(symbol.size, np.bool_)
    if alphabet.marks.size == 2 and np.ptp(alphabet.marks) and np.ptp(alphabet.spaces):
        for lengths, centres in ((marks, alphabet.marks), (spaces, alphabet.spaces)):
            between |= np.abs(lengths - centres[symbol]) > OTHER_SIDE * np.ptp(centres)
    return between


def _off(lengths: Floats, centres: Floats, spread_us: float) -> Floats:
    """By how many spreads each length lies off each centre: shape (lengths, centres)."""
    return np.abs(lengths[:, None] - centres) / np.hypot(spread_us, CLOCK_WANDERS * centres)


def _rows(told: Told) -> list[Span]:
    """The rows of symbols. The mark behind the last one may belong to it, its space being a gap."""
    rows = []
    for first, last in stretches(told.both):
        tail = last + 1 < told.mark.size and bool(told.mark[last + 1])
        if last + 1 - first + tail >= FEWEST_SYMBOLS:
            rows.append((first, last, tail))
    return rows
