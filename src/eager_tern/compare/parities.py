"""Parity: single bits that make a number of ones even or odd."""

from __future__ import annotations

from collections.abc import Iterator
from math import comb, log10

import numpy as np
from numpy.typing import NDArray

from eager_tern.compare.checks import Found, damaged, positions
from eager_tern.compare.evidence import turns
from eager_tern.compare.stack import Stack
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.schema import Check

PARITY_CHANCE = -3.0  # log10; a single bit does not say more in the few rows that there are
NEAR = 8  # columns within which the upper bits of one number move together
WORD_SIZES = range(4, 14)  # bits, with the parity
PARITY_FEWEST = 3  # varying bits that a parity bit covers


def find_parities(stack: Stack, free: NDArray[np.bool_]) -> list[Found]:
    """Single bits that make the number of ones in a stretch even or odd: in each word of the frame, or anywhere."""
    bits, rows = stack.bits, stack.rows
    of_words = _parities_of_words(stack, free)
    free = free.copy()
    free[[column for found in of_words for column in found.positions]] = False
    sums = np.concatenate((np.zeros((rows, 1), np.uint8), np.bitwise_xor.accumulate(bits, axis=1)), axis=1)
    varies = np.concatenate(([0], np.cumsum(_leading(stack))))
    spared = damaged(rows)
    found = of_words
    for column in np.flatnonzero(free).tolist():
        best: Found | None = None
        if _moves_with_another(stack, column):
            continue
        for start, end in stack.section_bounds:
            if not start <= column < end:
                continue
            for first, last, odd, wrong in _parity_ranges(sums, bits[:, column], varies, column, (start, end), spared):
                whole = first == start  # somebody who adds a parity bit adds it to everything
                chance = log10((2 if whole else 4 * stack.columns) * stack.columns) - turns(bits[:, column])
                chance += log10(comb(rows, wrong))
                if chance < PARITY_CHANCE and (best is None or first < best.covers[0][0]):
                    best = _parity(stack, column, first, last - 1, odd, chance)
        if best is not None:
            found.append(best)
    return found


def _parities_of_words(stack: Stack, free: NDArray[np.bool_]) -> list[Found]:
    """The bits that end each word of a section, all words of one length and all with an even number of ones, or all
    with an odd one. They bear each other out.
    """
    best: list[Found] = []
    for start, end in stack.section_bounds:
        sizes = [size for size in WORD_SIZES if 2 * size <= end - start]
        for size in sizes:
            lasts = np.arange(start + size - 1, end, size)
            odd = np.bitwise_xor.reduce(stack.bits[:, start : int(lasts[-1]) + 1].reshape(stack.rows, -1, size), axis=2)
            wrong = np.minimum((odd != 0).any(axis=1).sum(), (odd != 1).any(axis=1).sum())
            telling = [c for c in lasts.tolist() if free[c] and not _moves_with_another(stack, c)]
            if wrong > damaged(stack.rows) or len(telling) < 2:
                continue
            said = sum(turns(stack.bits[:, column]) for column in telling)
            chance = log10(2 * len(sizes) * comb(stack.rows, int(wrong))) - said
            if chance < min([PARITY_CHANCE, *(each.chance for each in best)]):
                own = [column for column in lasts.tolist() if free[column] or not stack.varies[column]]
                init = int(odd.mean() > 0.5)
                best = [_parity(stack, column, column - size + 1, column - 1, init, chance) for column in own]
    return best


def _parity(stack: Stack, column: int, first: int, last: int, odd: int, chance: float) -> Found:
    """A column as the parity of a stretch of bits, its last one included."""
    at = positions(column, 1, lowest_first=True)
    check = Check(name="parity", kind="parity", at=at, covers=((first, last),), init=odd)
    return Found(check, holds_in(check, stack.bits), chance)


def _leading(stack: Stack) -> NDArray[np.bool_]:
    """The varying columns that do not move with an earlier one near them: those that do are one witness with it."""
    leads = ~stack.steady
    for column in np.flatnonzero(leads).tolist():
        leads[column] = not _together(stack, column)[max(0, column - NEAR) : column].any()
    return leads


def _moves_with_another(stack: Stack, column: int) -> bool:
    """Whether another bit turns whenever this one does: then both are one witness, and no rule is needed for it."""
    return int(np.count_nonzero(_together(stack, column))) > 1


def _together(stack: Stack, column: int) -> NDArray[np.bool_]:
    """Which columns turn whenever this one does, but for what may be damaged."""
    apart = (stack.bits ^ stack.bits[:, [column]]).sum(axis=0, dtype=np.intp)
    spared = damaged(stack.rows)
    alike: NDArray[np.bool_] = (apart <= spared) | (apart >= stack.rows - spared)
    return alike


def _parity_ranges(
    sums: NDArray[np.uint8], bit: NDArray[np.uint8], varies: NDArray[np.intp], column: int, section: tuple[int, int],
    spared: int,
) -> Iterator[tuple[int, int, int, int]]:  # fmt: skip
    """Ranges before a bit, and behind it to the section's end, of which it is the parity: first, end, odd, rows wrong.

    ``sums`` are the parities of all bits before each column, shape (rows, columns + 1).
    """
    start, end = section
    for begin, last in ((start, column), (column + 1, end)):
        firsts = np.arange(begin, last - PARITY_FEWEST + 1)
        firsts = firsts[varies[last] - varies[firsts] >= PARITY_FEWEST]
        ones = (sums[:, [last]] ^ sums[:, firsts] ^ bit[:, None]).sum(axis=0, dtype=np.intp)
        wrong = np.minimum(ones, len(bit) - ones)
        for i in np.flatnonzero(wrong <= spared).tolist():
            yield int(firsts[i]), last, int(2 * ones[i] > len(bit)), int(wrong[i])
