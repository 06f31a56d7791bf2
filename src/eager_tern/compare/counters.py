"""Bits that change by themselves: toggles, counters and ids."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from eager_tern.compare.stack import Stack, raw_numbers
from eager_tern.signal.stretches import stretches

Kind = Literal["counter", "toggle", "id"]
MOST_MISSED = 0.15  # of the steps from row to row: presses that were not recorded, or a frame that was damaged
FEWEST_ROWS = 4
WIDEST = 16
FEWEST_STAYING = 0.8  # of the steps, over which an id stays


@dataclass(frozen=True)
class Counter:
    """``positions`` run from the most significant bit to the least."""

    kind: Kind
    positions: tuple[int, ...]


def find_counters(stack: Stack, free: NDArray[np.bool_]) -> list[Counter]:
    """Counters and toggles among the columns nothing accounts for, in shooting order."""
    if stack.rows < FEWEST_ROWS:
        return []
    left, found = free.copy(), []
    for column in np.flatnonzero(free).tolist():
        # The lowest bit of a counter changes with every row, the next one with every second.
        if left[column] and _step(stack, (column,)) == 1:
            best = _grown(stack, column, left)
            found.append(Counter("toggle" if len(best) == 1 else "counter", best))
            left[list(best)] = False
    return found


def find_ids(stack: Stack, free: NDArray[np.bool_]) -> list[Counter]:
    """Runs of columns nothing accounts for whose number seldom changes."""
    found = []
    for first, last in stretches(free) if stack.rows >= FEWEST_ROWS else ():
        run = tuple(range(last, first - 1, -1))
        raw = raw_numbers(stack.bits, run[-62:])
        stays = float(np.mean(raw[1:] == raw[:-1]))
        if last - first >= 3 and stays >= FEWEST_STAYING:
            found.append(Counter("id", run))
    return found


def _step(stack: Stack, positions: tuple[int, ...]) -> int:
    """By how much a number changes from nearly every row to the next; 0 where it does not do so evenly."""
    raw = raw_numbers(stack.bits, positions)
    steps = np.diff(raw) % (1 << len(positions))
    usual = int(np.bincount(steps).argmax())
    return usual if np.mean(steps != usual) <= MOST_MISSED else 0


def _grown(stack: Stack, lowest: int, left: NDArray[np.bool_]) -> tuple[int, ...]:
    """The widest counter with its lowest bit there, growing to either side."""
    best: tuple[int, ...] = (lowest,)
    for direction in (1, -1):
        positions: tuple[int, ...] = (lowest,)
        while len(positions) < WIDEST:
            column = lowest + direction * len(positions)
            if not 0 <= column < stack.columns or not left[column] or _step(stack, (column, *positions)) != 1:
                break
            positions = (column, *positions)
        best = max(best, positions, key=len)
    return best
