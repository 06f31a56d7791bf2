"""Bits that change by themselves: toggles, counters, ids, and codes that are new with each press."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from math import comb, log10
from typing import Literal

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.checks import BYTE, NIBBLE
from eager_tern.compare.stack import Stack, raw_numbers
from eager_tern.signal.stretches import stretches

Kind = Literal["counter", "toggle", "id", "rolling"]
MOST_MISSED = 0.15  # of the steps from row to row: presses that were not recorded, or a frame that was damaged
FEWEST_ROWS = 4
WIDEST = 32
FEWEST_STAYING = 0.8  # of the steps, over which an id stays
FEWEST_MOVES = 3  # of a counter that steps now and then
MOST_CHANCE = -1.5  # log10, that something steps evenly by accident
FEWEST_ROLLING = 12  # bits: two presses in hundreds have the same number of so many by accident
FEWEST_PAIRS = 2  # of presses alike in all else whose codes differ
EVENLY = 4.5  # standard deviations from half ones, within which the bits of a rolling code are


class Counter(Struct, frozen=True):
    """``positions`` run from the most significant bit to the least; ``chance`` is log10 of an accident."""

    kind: Kind
    positions: tuple[int, ...]
    chance: float


def find_counters(stack: Stack, free: NDArray[np.bool_]) -> list[Counter]:
    """Counters and toggles among the columns nothing accounts for, in shooting order."""
    if stack.rows < FEWEST_ROWS:
        return []
    left, found = free.copy(), []
    for column in np.flatnonzero(free).tolist():
        # The lowest bit of a counter changes with every row, the next one with every second.
        if left[column] and _step(stack, (column,)) == 1:
            best = _grown(stack, column, left)
            chance = _chance_of(stack, best) + log10(np.count_nonzero(free))
            if chance > MOST_CHANCE:
                continue
            best = _to_border(stack, best)
            found.append(Counter("toggle" if len(best) == 1 else "counter", best, chance))
            left[list(best)] = False
    for counter in _now_and_then(stack, left):
        found.append(counter)
        left[list(counter.positions)] = False
    return found


def _chance_of(stack: Stack, run: tuple[int, ...]) -> float:
    """log10 of how likely a number that takes any value steps as evenly."""
    steps = np.diff(raw_numbers(stack.bits, run)) % (1 << len(run))
    wrong = int(np.sum(steps != _step(stack, run)))
    return log10(comb(stack.rows - 1, wrong)) - (stack.rows - 1 - wrong) * len(run) * log10(2)


def _now_and_then(stack: Stack, left: NDArray[np.bool_]) -> Iterator[Counter]:
    """Counters that stay as they are from some presses to the next: whenever they move, they move by one."""
    for first, last in stretches(left):
        best: tuple[float, tuple[int, ...]] | None = None
        for run in _evenly_moving(stack, first, last):
            moves = int(np.count_nonzero(np.diff(raw_numbers(stack.bits, run))))
            chance = log10((last - first + 1) ** 2) - (moves - 1) * log10((1 << len(run)) - 1)
            if moves >= FEWEST_MOVES and chance < MOST_CHANCE:
                best = min(best or (0.0, ()), (chance, run))
        if best is not None:
            yield Counter("counter", _to_border(stack, best[1]), best[0])


def _evenly_moving(stack: Stack, first: int, last: int) -> Iterator[tuple[int, ...]]:
    """The runs within a stretch, two bits and more, whose number moves by one whenever it moves; so do their low bits,
    from which each is grown."""
    for low in range(first, last + 1):
        for direction in (1, -1):
            run: tuple[int, ...] = (low,)
            while first <= run[0] + direction <= last and len(run) < WIDEST:
                run = (run[0] + direction, *run)
                steps = np.diff(raw_numbers(stack.bits, run)) % (1 << len(run))
                if (steps > 1).any():
                    break
                yield run


def _to_border(stack: Stack, run: tuple[int, ...]) -> tuple[int, ...]:
    """A counter with the bits above it that it has not come to, to the border of its nibble, or of the byte that it
    begins; not if it began again, which tells how wide it is.
    """
    steps = np.diff(raw_numbers(stack.bits, run))
    direction = run[0] - run[1] if len(run) > 1 else 0
    if direction == 0 or (steps < 0).any():
        return run
    low = run[-1] - stack.section_start(min(run)) + (direction < 0)  # the border that its lowest bit would stand at
    for border in (BYTE, NIBBLE):
        wide = (*(run[0] + direction * n for n in range(-len(run) % border, 0, -1)), *run)
        inside = min(wide) >= 0 and max(wide) < stack.columns
        if low % border == 0 and inside and not stack.varies[list(wide[: len(wide) - len(run)])].any():
            return wide
    return run


def find_rolling(stack: Stack, free: NDArray[np.bool_], known: Sequence[int]) -> list[Counter]:
    """Runs of columns nothing accounts for that are new in every press, though all else is as in another press: a code
    that rolls, or is enciphered. ``known`` are columns that follow from others or change by themselves.
    """
    found = []
    spread = np.abs(stack.bits.mean(axis=0) - 0.5) <= EVENLY / (2 * np.sqrt(max(stack.rows, 1)))
    for first, last in stretches(free & spread) if stack.rows >= FEWEST_ROWS else ():
        run = np.arange(first, last + 1)
        codes = np.unique(stack.bits[:, run], axis=0)
        rest = np.delete(stack.bits, np.union1d(run, np.asarray(known, np.intp)), axis=1)
        pairs = stack.rows - len(np.unique(rest, axis=0))
        if run.size >= FEWEST_ROLLING and len(codes) == stack.rows and pairs >= FEWEST_PAIRS:
            # Were it told by the rest, presses that are alike would have one code.
            chance = log10(stack.columns) - pairs * run.size * log10(2)
            found.append(Counter("rolling", tuple(run.tolist()), chance))
    return found


def find_ids(stack: Stack, free: NDArray[np.bool_]) -> list[Counter]:
    """Bits nothing accounts for that seldom change, as when a battery is put in: their whole nibbles, bytes where both
    halves change, but for what else accounts for.
    """
    if stack.rows < FEWEST_ROWS:
        return []
    changes = (stack.bits[1:] != stack.bits[:-1]).mean(axis=0)
    seldom = free & (changes <= 1 - FEWEST_STAYING)
    found = []
    for start, end in stack.section_bounds:
        for first, last in stretches(_whole_nibbles(seldom[start:end], (seldom | ~stack.varies)[start:end])):
            run = tuple(range(start + first, start + last + 1))
            number = raw_numbers(stack.bits, run[-62:])
            told = int(np.count_nonzero(seldom[list(run)]))
            if told > 1 and np.mean(number[1:] == number[:-1]) >= FEWEST_STAYING:
                # Bits that change together were given together: as many as do have said so.
                found.append(Counter("id", run, log10(stack.columns) - told * log10(stack.rows - 1)))
    return found


def _whole_nibbles(seldom: NDArray[np.bool_], may: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which columns of a section are part of a nibble of which a bit changes seldom, and no bit does anything else."""
    whole = np.zeros(len(seldom), np.bool_)
    for first in range(0, len(seldom), NIBBLE):
        nibble = slice(first, first + NIBBLE)
        whole[nibble] = seldom[nibble].any() and may[nibble].all()
    return whole | seldom


def _step(stack: Stack, positions: tuple[int, ...]) -> int:
    """By how much a number changes from nearly every row to the next; 0 where it does not do so evenly."""
    raw = raw_numbers(stack.bits, positions)
    steps = np.diff(raw) % (1 << len(positions))
    usual = int(np.bincount(steps).argmax()) if len(positions) <= BYTE else int(np.median(steps))
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
