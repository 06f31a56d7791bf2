"""What all searches for a check share: where one may stand, which rows are looked at first, what chance would do."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from math import comb, log10

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.stack import BitRows, Stack, raw_numbers
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check

NIBBLE, BYTE = 4, 8  # bits
MOST_DAMAGED = 0.08  # of the rows
COUNTS = 0.9  # of the steps of a counter are alike, where a row is missing now and then
# Rows looked at first: three times as many as may be damaged. Of 200 rows and more 48, of which more than a third are
# damaged once in ten million cases.
FEWEST_GLANCED, MOST_GLANCED = 12, 48
MOST_SPARED = MOST_GLANCED // 3
MOST_CHANCE = -4.0  # log10, of an accident among all that was tried


class Found(Struct, frozen=True):
    """A check of the sheet language, and the rows in which it holds. ``chance`` is log10 of that by accident."""

    check: Check
    holds: NDArray[np.bool_]
    chance: float

    @property
    def kind(self) -> str:
        return self.check.kind

    @property
    def positions(self) -> tuple[int, ...]:
        return tuple(self.check.at.index.tolist())

    @property
    def covers(self) -> tuple[tuple[int, int], ...]:
        of = self.check.of
        return ((int(of.index.min()), int(of.index.max())),) if of is not None else self.check.covers


class Place(Struct, frozen=True):
    """Where a check may stand: a run of bits within a section that begins at ``start`` and ends before ``end``."""

    first: int
    width: int
    start: int
    end: int

    @property
    def byte_start(self) -> int:
        """Where the section's whole bytes begin, counted from its end."""
        return self.start + (self.end - self.start) % 8

    @property
    def after(self) -> int:
        return self.first + self.width


def damaged(rows: int) -> int:
    """How many rows may be damaged."""
    return int(MOST_DAMAGED * rows) if rows >= 8 else 0


def nearly_steady(stack: Stack) -> NDArray[np.bool_]:
    """Which columns change in no more rows than may be damaged."""
    ones = stack.bits.sum(axis=0, dtype=np.intp)
    steady: NDArray[np.bool_] = np.minimum(ones, stack.rows - ones) <= damaged(stack.rows)
    return steady


def places(stack: Stack, widths: Sequence[int], free: NDArray[np.bool_]) -> list[Place]:
    """Where a check of one of the widths may stand: on nibbles and at sections' ends; width by width, last ones first.

    ``free`` tells of each column whether it varies and nothing accounts for it yet.
    """
    found = []
    for start, end in stack.section_bounds:
        for width in widths:
            grid = 4 if width <= 8 else 8
            firsts = {end - width}
            if width in (4, 8, 16):  # counted from the section's beginning, or from its end where a start bit leads
                firsts |= set(range(start, end - width + 1, grid)) | set(range(end - width, start - 1, -grid))
            for first in firsts:
                if first >= start and free[first : first + width].any() and changes(stack, first, width):
                    found.append(Place(first, width, start, end))
    return sorted(found, key=lambda place: (list(widths).index(place.width), -place.first))


def changes(stack: Stack, first: int, width: int) -> bool:
    """Whether a run of bits changes in more rows than may be damaged."""
    return stack.rows - stack.most_alike(first, width) > damaged(stack.rows)


@lru_cache(maxsize=64)
def glance(rows: int) -> NDArray[np.intp]:
    """Some rows that rule out nearly all of what does not hold in most."""
    count = min(max(FEWEST_GLANCED, 3 * damaged(rows)), MOST_GLANCED)
    return np.unique(np.linspace(0, rows - 1, count).astype(np.intp))


def alike(rests: NDArray[np.integer], row: int, spared: int) -> Iterator[tuple[int, int]]:
    """Which candidates leave the same rest in all rows but ``spared`` as in one of them, and in how many they do not.

    ``rests`` has shape (candidates, rows).
    """
    some = glance(rests.shape[1])
    wrong = np.count_nonzero(rests[:, some] != rests[:, [row]], axis=1)
    left = np.flatnonzero(wrong <= min(spared, MOST_SPARED))
    wrong = np.count_nonzero(rests[left] != rests[left][:, [row]], axis=1)
    yield from zip(left[wrong <= spared].tolist(), wrong[wrong <= spared].tolist(), strict=True)


def tells_every_nibble(stack: Stack, place: Place, holds: NDArray[np.bool_]) -> bool:
    """Whether a check tells how each nibble of its place changes: one that only damage changed is no part of it."""
    for first in range(place.first, place.after, 4):
        numbers = raw_numbers(stack.bits, range(first, first + 4))
        changed = numbers != np.bincount(numbers).argmax()
        if np.sum(changed & holds) <= np.sum(changed & ~holds):
            return False
    return True


def positions(first: int, width: int, lowest_first: bool) -> Positions:
    """A run of bits as a number whose lowest bit is sent first, or last."""
    index = np.arange(first, first + width)
    return Positions(index[::-1] if lowest_first else index, np.zeros(width, np.uint8))


def chance_of(width: int, independent: int, rows: int, wrong: int, tried: float) -> float:
    """log10 of how likely a check of so many bits holds by accident in so many independent rows beyond the first."""
    score = log10(max(tried, 1)) - width * independent * log10(2)
    return score + (log10(comb(rows, wrong)) if wrong else 0.0)


def witnesses(numbers: NDArray[np.int64]) -> int:
    """How many things some bits have said: a value that came again says nothing that was not known.

    A run of rows in which an id or a battery's state stays the same is one observation, however long it is.
    """
    return int(np.unique(numbers).size) - 1


def only_counts(stack: Stack, first: int, width: int) -> bool:
    """Whether some bits do little but count from row to row, the first of them lowest or highest: then they go along
    with whatever else counts. Bits that mostly stay as they are count, too, if all their steps are alike.
    """
    return stack.answered(_only_counts, first, width)


def _only_counts(bits: BitRows, first: int, width: int) -> bool:
    index = np.arange(first, first + width)
    for order in (index, index[::-1]):
        steps = np.diff(raw_numbers(bits, order)) % (1 << width)
        moved = steps[steps != 0]
        if moved.size == 0 or np.unique(moved, return_counts=True)[1].max() >= COUNTS * moved.size:
            return not _moved_by_several(bits, first, width)
    return False


def _moved_by_several(bits: BitRows, first: int, width: int) -> bool:
    """Whether several numbers of the frame move some bits, each of them alone: then they do more than go along."""
    changed = bits[1:] != bits[:-1]
    own = changed[:, first : first + width].any(axis=1)
    rest = np.delete(changed, np.arange(first, first + width), axis=1)
    nibbles = rest[:, : rest.shape[1] // 4 * 4].reshape(len(rest), -1, 4).any(axis=2)
    alone = nibbles[own & (nibbles.sum(axis=1) == 1)]
    return int(np.count_nonzero(alone.any(axis=0))) > 1


def follows(covers: Sequence[tuple[int, int]], place: Place, known: Sequence[Found]) -> bool:
    """Whether a check at a place only says again what a known one says, which covers the place and is covered by it."""
    for other in known:
        covers_place = any(a < place.after and place.first <= b for a, b in other.covers)
        is_covered = any(a <= at <= b for a, b in covers for at in other.positions)
        if covers_place and is_covered:
            return True
    return False
