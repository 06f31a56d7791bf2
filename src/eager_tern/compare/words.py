"""Which bits carry a word that somebody gave: each word has a number of its own, and each number one word."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from itertools import combinations
from math import comb, log10

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.evidence import of_words, turns
from eager_tern.compare.stack import BitRows, raw_numbers, runs_of

WIDEST = 8
MOST_PIECES = 4
MOST_BETWEEN = 2  # constant columns within a word's nibble: bits that none of the words seen has turned
MOST_WORDS = 0.6  # of the rows: words that come once each tell nothing
MOST_TRIED = 12  # columns of which pieces are put together


class Words(Struct, frozen=True):
    """A field found for words: ``table`` gives the word of each raw number that was seen. The rest as of a number."""

    positions: tuple[int, ...]
    table: dict[int, float | str]
    holds: NDArray[np.bool_]
    chance: float
    in_any_order: float


def find_words(bits: BitRows, columns: NDArray[np.intp], values: Sequence[float | str], errors: int) -> list[Words]:
    """The fields that tell the words apart, best first. ``values`` are all known; ``errors`` rows may contradict."""
    names = list(dict.fromkeys(values))
    if len(names) < 2 or len(names) > MOST_WORDS * len(values):
        return []
    classes = np.array([names.index(value) for value in values])
    tried = int(np.count_nonzero(np.ptp(bits[:, columns], axis=0)))
    telling = [int(c) for c in columns if _wrong(bits[:, c], classes, len(names)) <= errors]
    telling = [c for c in telling if _is_told(bits[:, c], classes, len(names))]
    found = [
        words
        for positions in _positions(bits, telling)
        if (words := _table(bits, positions, classes, names, errors, tried)) is not None
    ]
    if not found:
        near = telling[:MOST_TRIED]
        for pieces in range(2, MOST_PIECES + 1):
            for positions in combinations(near, pieces):
                if (words := _table(bits, positions, classes, names, errors, tried)) is not None:
                    found.append(words)
            if found:
                break
    ranked = sorted(found, key=lambda w: (np.sum(~w.holds), len(w.positions), _span(w.positions)))
    if not ranked:
        return []
    # Neighbours that follow the word as well belong to it, though fewer bits would tell the words apart.
    for between in (MOST_BETWEEN, 0):
        wide = _table(
            bits, _with_neighbours(bits, ranked[0].positions, telling, between), classes, names, errors, tried
        )
        if wide is not None and np.sum(~wide.holds) <= np.sum(~ranked[0].holds) + bool(errors):
            return [wide, *ranked]
    return ranked


def _with_neighbours(
    bits: BitRows, positions: tuple[int, ...], telling: Sequence[int], between: int
) -> tuple[int, ...]:
    """A run of positions grown on both sides by columns that tell; so many constant ones may stand between."""
    low, high = min(positions), max(positions)
    if high - low + 1 != len(positions):
        return positions
    steady = (bits == bits[:1]).all(axis=0)
    grown = True
    while grown and high - low < WIDEST:
        below = next((c for c in range(low - 1, low - 2 - between, -1) if c in telling), None)
        above = next((c for c in range(high + 1, high + 2 + between) if c in telling), None)
        grown = False
        if below is not None and steady[below + 1 : low].all() and high - below < WIDEST:
            low, grown = below, True
        if above is not None and steady[high + 1 : above].all() and above - low < WIDEST:
            high, grown = above, True
    return tuple(range(high, low - 1, -1))


def _span(positions: Sequence[int]) -> int:
    return max(positions) - min(positions)


def _wrong(column: NDArray[np.uint8], classes: NDArray[np.intp], count: int) -> int:
    """In how many rows a column says something else than in most rows of the same class."""
    ones = np.bincount(classes, weights=column, minlength=count)
    sizes = np.bincount(classes, minlength=count)
    return int(np.minimum(ones, sizes - ones).sum())


def _is_told(column: NDArray[np.uint8], classes: NDArray[np.intp], count: int) -> bool:
    """Whether most rows of one class say 0 and most of another 1."""
    ones = np.bincount(classes, weights=column, minlength=count)
    majority = 2 * ones > np.bincount(classes, minlength=count)
    return bool(majority.any() and not majority.all())


def _positions(bits: BitRows, telling: Sequence[int]) -> list[tuple[int, ...]]:
    """Runs of neighbouring columns that begin and end with one that tells; between them may stand constant ones."""
    steady = (bits == bits[:1]).all(axis=0)
    usable = set(telling)
    runs = []
    for first in telling:
        for last in telling:
            if 0 <= last - first < WIDEST and all(c in usable or steady[c] for c in range(first, last + 1)):
                runs.append(tuple(range(last, first - 1, -1)))  # the bit sent first is the lowest
    return runs


def _table(
    bits: BitRows, positions: tuple[int, ...], classes: NDArray[np.intp], names: Sequence[float | str], errors: int,
    columns: int,
) -> Words | None:  # fmt: skip
    """The table that most rows agree on; None where two words share a number or too many rows contradict. ``columns``
    is how many could have been taken.
    """
    raw = raw_numbers(bits, positions)
    # Of a word pressed twice, once by mistake, the number that is another word's already is the mistake.
    number_of: dict[int, int] = {}
    for (word, number), _ in Counter(zip(classes.tolist(), raw.tolist(), strict=True)).most_common():
        if word not in number_of and number not in number_of.values():
            number_of[word] = number
    if len(number_of) < len(names):
        return None
    usual = [number_of[word] for word in range(len(names))]
    holds = raw == np.array(usual)[classes]
    if np.sum(~holds) > errors:
        return None
    rows = len(classes)
    told = [c for c in positions if np.ptp(bits[:, c])]
    # The bits in their own right, or the words as a whole: what says less is believed.
    wrong = int(np.sum(~holds))
    slips = log10(comb(rows, wrong)) + wrong * log10(len(names))  # which rows are wrong, and what is said there
    tried = log10(columns) * len(runs_of(positions)) + slips
    any_order, changes = of_words(classes.tolist())
    bit_by_bit = sum(log10(columns) - turns(bits[:, c]) for c in told) + slips
    chances = max(bit_by_bit, tried - min(any_order, changes)), tried - any_order
    return Words(positions, dict(zip(usual, names, strict=True)), holds, *chances)
