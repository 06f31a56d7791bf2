"""Copies and complements: runs of bits that say again what an earlier run says."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from eager_tern.compare.checks import (
    BYTE,
    MOST_CHANCE,
    NIBBLE,
    Found,
    chance_of,
    damaged,
    only_counts,
    positions,
)
from eager_tern.compare.stack import Stack
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.schema import Check
from eager_tern.signal.stretches import stretches

FEWEST_PAIRS = 2  # of changing bytes and their complements, that make a rule of it


def find_copies(stack: Stack) -> list[Found]:
    """Runs of bits that are those of an earlier run, or their complement."""
    bits, found = stack.bits, []
    claimed = np.zeros(stack.columns, np.bool_)
    for distance in sorted(range(4, stack.columns), key=lambda d: (d % 8 != 0, d % 4 != 0, d)):
        for kind in ("complement", "copy"):
            differs = (bits[:, distance:] ^ bits[:, :-distance]) != (kind == "complement")
            same = differs.sum(axis=0) <= damaged(stack.rows)
            for first, last in stretches(same):
                run = _on_grid(first + distance, last + distance, stack, BYTE) if distance == BYTE else None
                run = run or _on_grid(first + distance, last + distance, stack, NIBBLE)
                if run is None or claimed[run[0] : run[1] + 1].any():
                    continue
                a, b = run
                told = int(np.sum(np.ptp(bits[:, a : b + 1], axis=0) > 0))
                patterns = np.unique(bits[:, a : b + 1], axis=0).shape[0]
                if told < 2 or patterns < 3 or only_counts(stack, a, b - a + 1):
                    continue
                at = positions(a, b - a + 1, lowest_first=True)
                check = Check(name=kind, kind=kind, at=at, of=positions(a - distance, b - a + 1, lowest_first=True))
                holds = holds_in(check, bits)
                # A byte behind its like is the first thing that somebody would look for.
                tried = stack.columns / BYTE if distance == BYTE else stack.columns**2
                chance = chance_of(told, patterns - 1, stack.rows, int(np.sum(~holds)), tried)
                if chance < MOST_CHANCE and np.sum(~holds) <= damaged(stack.rows):
                    found.append(Found(check, holds, chance))
                    claimed[a : b + 1] = True
    return found + _alike_elsewhere(stack, found, claimed)


def _alike_elsewhere(stack: Stack, found: Sequence[Found], claimed: NDArray[np.bool_]) -> list[Found]:
    """The complements of bytes that change too seldom to tell, where others are each followed by their own."""
    pairs = twins(found)
    more: list[Found] = []
    for start, end in stack.section_bounds if pairs else ():
        places = {(f.positions[-1] - start) % (2 * BYTE) for f in pairs if start <= f.positions[-1] < end}
        for place in range(start + min(places), end - BYTE + 1, 2 * BYTE) if len(places) == 1 else ():
            if place < start + BYTE or claimed[place - BYTE : place + BYTE].any():
                continue
            at, of = (positions(first, BYTE, lowest_first=True) for first in (place, place - BYTE))
            check = Check(name="complement", kind="complement", at=at, of=of)
            holds = holds_in(check, stack.bits)
            if np.sum(~holds) <= damaged(stack.rows):
                more.append(Found(check, holds, max(f.chance for f in pairs)))
    return more


def twins(copies: Sequence[Found]) -> list[Found]:
    """The bytes that only say again, turned, what the byte before says; none where they are no rule of the frame."""
    found = [
        copy
        for copy in copies
        if copy.kind == "complement" and copy.check.at.width == BYTE
        and abs(copy.positions[-1] - copy.covers[0][0]) == BYTE
    ]  # fmt: skip
    return found if len(found) >= FEWEST_PAIRS else []


def _on_grid(first: int, last: int, stack: Stack, size: int) -> tuple[int, int] | None:
    """A run cut to whole bytes or nibbles (``size`` bits) of its section, if that leaves one."""
    start = stack.section_start(first)
    a = start + -(-(first - start) // size) * size
    b = start + (last + 1 - start) // size * size - 1
    return (a, b) if b > a else None
