"""Digests: bytes of which every bit is an exclusive-or of other bits, learnt by elimination."""

from __future__ import annotations

from collections.abc import Sequence
from math import log10

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.checks import (
    MOST_CHANCE,
    Found,
    Place,
    chance_of,
    damaged,
    only_counts,
    places,
    positions,
    witnesses,
)
from eager_tern.compare.polynomials import eliminated, rank
from eager_tern.compare.stack import Stack, as_integers, raw_numbers
from eager_tern.protocol.checks import expected_value, holds_in
from eager_tern.protocol.schema import Check

FEWEST_INDEPENDENT = 3  # rows in which a digest's most lively bit is not as usual: fewer are damage


def find_digests(stack: Stack, free: NDArray[np.bool_], apart: NDArray[np.bool_]) -> list[Found]:
    """Bytes of which every bit is an exclusive-or of other bits, whichever: what tables and shift registers make.

    ``free`` are varying columns that nothing accounts for, ``apart`` those that a digest is not taken over.
    """
    found: list[Found] = []
    left, apart = free.copy(), apart.copy()
    for place in places(stack, (8,), free):
        ones = stack.bits[:, place.first : place.after].sum(axis=0)
        seldom = np.minimum(ones, stack.rows - ones)
        if not left[place.first : place.after].any() or seldom.max() < FEWEST_INDEPENDENT:  # a damaged frame's
            continue
        if only_counts(stack, place.first, place.width):
            continue
        for start, end in dict.fromkeys(((place.start, place.end), (0, stack.columns))):
            over = [c for c in range(start, end) if not apart[c] and not place.first <= c < place.after]
            digest = _digest(stack, place, over) or _but_for_one(stack, place, over)
            if digest is not None:
                found.append(digest)
                left[place.first : place.after] = False
                apart[place.first : place.after] = True  # the same equation, solved for a byte of the message
                break
    return found


def _but_for_one(stack: Stack, place: Place, over: list[int]) -> Found | None:
    """The digest of all frames but the one that contradicts the others, where one does."""
    if not damaged(stack.rows):
        return None
    row = _contradicting(stack, [c for c in over if stack.varies[c]], list(range(place.first, place.after)))
    if row is None:
        return None
    found = _digest(stack.of_rows([r for r in range(stack.rows) if r != row]), place, over)
    if found is None:
        return None
    chance = found.chance + log10(stack.rows)
    return replace(found, holds=holds_in(found.check, stack.bits), chance=chance) if chance < MOST_CHANCE else None


def _contradicting(stack: Stack, columns: list[int], targets: list[int]) -> int | None:
    """The row whose digest alone is not what the others' would be; None where there is no such row.

    Rows whose message bits cancel out must cancel in the digest: what is left over is the error of the damaged row,
    the same in each such sum that this row is in.
    """
    rows, width = stack.rows, len(targets)
    basis: list[int] = []
    left: list[tuple[int, int]] = []  # the rows that cancel out, a bit each, and what is left of their digests
    for row, word in enumerate(as_integers(stack.bits, [*columns, *targets])):
        digest = word & ((1 << width) - 1)
        tagged = (((word >> width << 1 | 1) << width | digest) << rows) | 1 << row  # a constant behind the message
        rest = eliminated(tagged, basis)
        if rest >> (width + rows):
            basis = sorted([*basis, rest], reverse=True)
        else:
            left.append((rest & ((1 << rows) - 1), rest >> rows))
    wrong = [error for _, error in left if error]
    if not wrong or len(set(wrong)) > 1:
        return None
    suspects = (1 << rows) - 1
    for some, error in left:
        suspects &= some if error else ~some
    if suspects.bit_count() != 1:
        return None
    _, first = np.unique(stack.bits[:, [*columns, *targets]], axis=0, return_index=True)  # equal rows were asked once
    return int(np.sort(first)[suspects.bit_length() - 1])


def _digest(stack: Stack, place: Place, over: list[int]) -> Found | None:
    """The columns of a linear digest at a place, by elimination; None where rows contradict or are too few."""
    columns = [c for c in over if stack.varies[c]]
    targets = list(range(place.first, place.after))
    words = as_integers(stack.bits, [*columns, *targets])
    width, count = place.width, len(columns)
    basis: list[int] = []
    spare = 0
    for word in words[1:]:
        rest = eliminated(word ^ words[0], basis)
        if rest >> width:
            basis = sorted([*basis, rest], reverse=True)
        elif rest:
            return None  # the same message bits, another digest
        else:
            spare += 1
    # Each column of the digest was learnt from a value of its own; what is left over are witnesses.
    spare = min(spare, witnesses(raw_numbers(stack.bits, targets)) - len(basis))
    chance = chance_of(_independent_bits(stack, targets), spare, stack.rows, 0, stack.columns / 4)
    if chance >= MOST_CHANCE or not basis:
        return None
    reduced = _reduced(basis)
    weights = {columns[count + width - vector.bit_length()]: vector & ((1 << width) - 1) for vector in reduced}
    first, last = min(over), max(over)
    covers = tuple(r for r in ((first, place.first - 1), (place.after, last)) if r[0] <= r[1])
    covered = [c for a, b in covers for c in range(a, b + 1)]
    at = positions(place.first, width, lowest_first=False)
    check = Check(name="digest", kind="linear", at=at, covers=covers, columns=tuple(weights.get(c, 0) for c in covered))
    final = expected_value(check, stack.bits[0]) ^ at.read(stack.bits[0])
    check = replace(check, xor_out=final)
    holds = holds_in(check, stack.bits)
    return Found(check, holds, chance) if holds.all() else None


def _independent_bits(stack: Stack, columns: Sequence[int]) -> int:
    """How many of some columns say something that the others do not: those that move together are one."""
    turned = (stack.bits[:, columns] ^ stack.bits[:1, columns]).T
    return rank([0, *as_integers(turned, list(range(stack.rows)))]) - 1


def _reduced(basis: Sequence[int]) -> list[int]:
    """The basis with each leading bit in one vector only."""
    out = list(basis)
    for i, vector in enumerate(out):
        lead = 1 << (vector.bit_length() - 1)
        for j in range(i):
            if out[j] & lead:
                out[j] ^= vector
    return out
