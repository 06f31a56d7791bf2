"""Sums and exclusive-ors over some of the bytes only, or over some of the fields."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.checks import (
    MOST_CHANCE,
    Found,
    Place,
    alike,
    chance_of,
    damaged,
    follows,
    only_counts,
    places,
    positions,
    tells_every_nibble,
)
from eager_tern.compare.field import Field
from eager_tern.compare.stack import Stack, raw_numbers
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.fields import from_keys
from eager_tern.protocol.schema import Check

MOST_UNITS = 14  # each doubles the selections
FEWEST_UNITS = 2  # what follows from one number only is a field that goes with it
WIDTHS = (8, 4)
KINDS: tuple[dict[str, object], ...] = (
    {"kind": "sum"},
    {"kind": "sum", "negate": True},
    {"kind": "xor"},
)
Spans = Sequence[tuple[int, int]]  # first and last column


class _Units(Struct, frozen=True):
    """Pieces of a frame of which some are added: ``sums`` and ``xors`` have shape (selections, rows).

    Bit j of a selection's index tells whether it has piece j.
    """

    spans: tuple[tuple[int, int], ...]
    unit: int
    sums: NDArray[np.uint8]
    xors: NDArray[np.uint8]


def find_scattered(stack: Stack, free: NDArray[np.bool_], known: Sequence[Found]) -> list[Found]:
    """Checks over some of the bytes or nibbles, not all in a row."""
    grids = [
        (unit, [(u, u + unit - 1) for start, end in stack.section_bounds for u in range(start, end - unit + 1, unit)])
        for unit in WIDTHS
    ]
    return _find(stack, free, known, grids)


def find_over_fields(
    stack: Stack, free: NDArray[np.bool_], fields: Sequence[Field], known: Sequence[Found]
) -> list[Found]:
    """Checks over the numbers that fields are, wherever they stand."""
    runs = [(min(f.positions), max(f.positions)) for f in fields]
    whole = sorted({run for run, f in zip(runs, fields, strict=True) if run[1] - run[0] + 1 == len(f.positions) <= 8})
    return _find(stack, free, known, [(8, whole)])


def _find(
    stack: Stack, free: NDArray[np.bool_], known: Sequence[Found], grids: Sequence[tuple[int, Spans]]
) -> list[Found]:
    found: list[Found] = []
    left = free.copy()
    tables = {
        lowest_first: [each for unit, spans in grids if (each := _units(stack, spans, unit, lowest_first)) is not None]
        for lowest_first in (True, False)
    }
    tried = float(len(KINDS) * len(places(stack, WIDTHS, np.ones(stack.columns, np.bool_))))
    for place in places(stack, WIDTHS, free):
        if not left[place.first : place.after].reshape(-1, 4).any(axis=1).all():
            continue
        guesses = (
            guess
            for lowest_first, units in tables.items()
            for each in units
            if (guess := _at(stack, place, each, lowest_first, tried)) is not None
        )
        best = min(guesses, key=lambda guess: guess.chance, default=None)
        if best is None or follows(best.covers, place, (*known, *found)):
            continue
        if tells_every_nibble(stack, place, best.holds):
            found.append(best)
            left[place.first : place.after] = False
    return found


def _units(stack: Stack, spans: Spans, unit: int, lowest_first: bool) -> _Units | None:
    """All selections of the pieces that vary; None where there are too few or too many."""
    numbers = [raw_numbers(stack.bits, positions(a, b - a + 1, lowest_first).index) for a, b in spans]
    varying = [(span, n.astype(np.uint8)) for span, n in zip(spans, numbers, strict=True) if np.ptp(n)]
    if not FEWEST_UNITS <= len(varying) <= MOST_UNITS:
        return None
    sums = xors = np.zeros((1, stack.rows), np.uint8)
    for _, number in varying:
        sums = np.concatenate((sums, sums + number))
        xors = np.concatenate((xors, xors ^ number))
    return _Units(tuple(span for span, _ in varying), unit, sums, xors)


def _at(stack: Stack, place: Place, units: _Units, lowest_first: bool, tried: float) -> Found | None:
    """The likeliest check at a place over some of the pieces; ``tried`` are kinds and places in all."""
    at = positions(place.first, place.width, lowest_first)
    target = raw_numbers(stack.bits, at.index).astype(np.uint8)
    if np.ptp(target) == 0 or only_counts(stack, place.first, place.width):
        return None
    chosen = np.arange(len(units.sums))
    own = sum(1 << j for j, (a, b) in enumerate(units.spans) if a < place.after and place.first <= b)
    possible = np.flatnonzero((chosen & own == 0) & (np.bitwise_count(chosen) >= FEWEST_UNITS))
    found = _holding(place, target, units, possible, tried * len(units.sums))
    best = min(found, key=lambda each: each[0], default=None)
    if best is None:
        return None
    chance, selection, seed, how = best
    covers = _joined([span for j, span in enumerate(units.spans) if selection >> j & 1], units.unit)
    said = {"name": how["kind"], "at": at, "covers": covers, "unit": units.unit} | how
    said |= {"order": "lsb" if lowest_first else "msb", ("xor_out" if how["kind"] == "xor" else "init"): seed}
    check = from_keys(Check, said)
    return Found(check, holds_in(check, stack.bits), chance)


def _holding(
    place: Place, target: NDArray[np.uint8], units: _Units, possible: NDArray[np.intp], tried: float
) -> Iterator[tuple[float, int, int, dict[str, object]]]:
    """Chance, selection, seed and kind of what agrees with all rows but a few damaged ones."""
    mask, rows = np.uint8((1 << place.width) - 1), target.size
    for how in KINDS:
        table = (units.xors if how["kind"] == "xor" else units.sums)[possible]
        mixed = target ^ table if how["kind"] == "xor" else target + table if how.get("negate") else target - table
        rest = mixed & mask
        for row in {0, rows // 2, rows - 1}:
            for at, wrong in alike(rest, row, damaged(rows)):
                selection = int(possible[at])
                distinct = np.unique(table[at] & mask).size
                chance = chance_of(place.width, distinct - 1, rows, wrong, tried)
                if chance < MOST_CHANCE:
                    seed = int(rest[at, row])
                    yield chance, selection, -seed & int(mask) if how.get("negate") else seed, how


def _joined(spans: Spans, unit: int) -> tuple[tuple[int, int], ...]:
    """Spans of whole units that touch made one."""
    out: list[tuple[int, int]] = []
    for a, b in spans:
        if out and out[-1][1] + 1 == a and b - a + 1 == unit:
            out[-1] = (out[-1][0], b)
        else:
            out.append((a, b))
    return tuple(out)
