"""Checks that go on from unit to unit: the number of ones, sums of another modulus, values that turn between units."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Literal

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.checks import (
    MOST_CHANCE,
    Found,
    Place,
    chance_of,
    damaged,
    follows,
    only_counts,
    places,
    positions,
    tells_every_nibble,
)
from eager_tern.compare.stack import BitRows, Stack
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.schema import Check

Order = Literal["lsb", "msb"]
Numbers = NDArray[np.int64]
SHORTEST_COVER = 2  # units that a check goes over


class Kind(Struct, frozen=True):
    """A way to compute a check of ``width`` bits over units; ``tried`` counts how many there are of its sort."""

    kind: Literal["sum", "xor", "ones"]
    negate: bool = False
    modulus: int = 0
    rotate: int = 0
    usual: bool = True


KINDS = (
    Kind("sum"), Kind("xor"), Kind("sum", negate=True), Kind("ones"), Kind("ones", negate=True),
    Kind("sum", modulus=255, usual=False), Kind("sum", modulus=15, usual=False),
    *(Kind(kind, rotate=by, usual=False) for kind in ("xor", "sum") for by in (1, 7, 4)),
)  # fmt: skip


def find_running(stack: Stack, free: NDArray[np.bool_], known: Sequence[Found]) -> list[Found]:
    """Checks of the unusual kinds over all that stands before them, in their section or in the frame."""
    found: list[Found] = []
    left = free.copy()
    wanted = places(stack, (8, 4), free)
    table = _Table(stack.bits)
    for place in wanted:
        nibbles = left[place.first : place.after].reshape(-1, 4).any(axis=1)
        if not nibbles.any() or only_counts(stack, place.first, place.width):
            continue
        guesses = [g for g in _at(stack, table, place, len(wanted)) if not follows(g.covers, place, (*known, *found))]
        if not nibbles.all():  # the number of ones seldom fills a byte
            guesses = [guess for guess in guesses if guess.kind == "ones"]
        best = min(guesses, key=lambda guess: guess.chance, default=None)
        if best is not None and (best.kind == "ones" or tells_every_nibble(stack, place, best.holds)):
            found.append(best)
            left[place.first : place.after] = False
    return found


class _Table:
    """What the kinds come to from a column on, for all places at once: each asks for one of the values between."""

    def __init__(self, bits: BitRows) -> None:
        self._bits = bits
        self._units: dict[tuple[int, int, Order], Numbers] = {}
        self._so_far: dict[tuple[int, int, Order, int, Kind], Numbers] = {}

    def units(self, begin: int, unit: int, order: Order) -> Numbers:
        """All whole units from a column on, shape (rows, units)."""
        if (begin, unit, order) not in self._units:
            end = begin + (self._bits.shape[1] - begin) // unit * unit
            self._units[begin, unit, order] = in_units(self._bits[:, begin:end], unit, order)
        return self._units[begin, unit, order]

    def computed(self, begin: int, unit: int, order: Order, width: int, kind: Kind) -> Numbers:
        """What a kind comes to after each number of units, shape (units + 1, rows)."""
        key = begin, unit, order, width, kind
        if key not in self._so_far:
            self._so_far[key] = computed(self.units(begin, unit, order), kind, width)
        return self._so_far[key]


def _at(stack: Stack, table: _Table, place: Place, tried_places: int) -> Iterator[Found]:
    for begin in sorted({place.start, place.byte_start, 0}):
        for unit in (8, 4):
            if unit < place.width // 2 or (place.first - begin) % unit or place.first - begin < SHORTEST_COVER * unit:
                continue
            for order in ("lsb", "msb"):
                count = (place.first - begin) // unit
                units = table.units(begin, unit, order)[:, :count]
                told = in_units(stack.bits[:, place.first : place.after], place.width, order)[:, 0]
                for kind in KINDS:
                    said = table.computed(begin, unit, order, place.width, kind)[count]
                    rest = rest_of(told, said, kind, place.width, damaged(stack.rows))
                    if rest is None or (kind.modulus and rest):
                        continue
                    check = check_of(kind, place.first, place.width, begin, unit, order, rest)
                    holds = holds_in(check, stack.bits)
                    wrong = int(np.sum(~holds))
                    independent = min(np.unique(told[holds]).size, np.unique(units[holds], axis=0).shape[0])
                    independent -= not is_plain(rest, place.width)  # one frame tells the seed
                    tried = 12.0 * len(KINDS) * tried_places
                    chance = chance_of(place.width, independent, stack.rows, wrong, tried)
                    if wrong <= damaged(stack.rows) and chance < MOST_CHANCE:
                        yield Found(check, holds, chance)


def check_of(kind: Kind, first: int, width: int, begin: int, unit: int, order: Order, rest: int) -> Check:
    """The check in the sheet language; ``rest`` is what all frames have beside the computed number."""
    at_the_end = kind.kind == "xor" or kind.negate or bool(kind.rotate)
    return Check(
        name=kind.kind, kind=kind.kind, at=positions(first, width, lowest_first=order == "lsb"),
        covers=((begin, first - 1),), unit=unit, order=order, negate=kind.negate, modulus=kind.modulus,
        rotate=kind.rotate, init=0 if at_the_end else rest, xor_out=rest if at_the_end else 0,
    )  # fmt: skip


def in_units(bits: BitRows, unit: int, order: Order) -> Numbers:
    """Numbers of ``unit`` bits each, shape (rows, units)."""
    weights = 1 << np.arange(unit) if order == "lsb" else 1 << np.arange(unit)[::-1]
    numbers: Numbers = bits.reshape(len(bits), -1, unit).astype(np.int64) @ weights
    return numbers


def computed(units: Numbers, kind: Kind, width: int) -> Numbers:
    """What a kind comes to after each number of units, shape (units + 1, rows)."""
    mask = (1 << width) - 1
    values = np.zeros((units.shape[1] + 1, len(units)), np.int64)
    if kind.kind == "ones":
        values[1:] = np.cumsum(np.bitwise_count(units), axis=1, dtype=np.int64).T
        return values
    for n, column in enumerate(units.T):
        value = values[n]
        if kind.rotate:
            by = kind.rotate % width
            value = ((value & mask) << by | (value & mask) >> (width - by)) & mask
        values[n + 1] = value ^ column if kind.kind == "xor" else value + column
    return values % kind.modulus if kind.modulus else values


def is_plain(rest: int, width: int) -> bool:
    """Whether what frames have beside a computed number is no seed: nothing, or all bits turned."""
    return rest in (0, (1 << width) - 1)


def rest_of(told: Numbers, said: Numbers, kind: Kind, width: int, spared: int = 0) -> int | None:
    """What all frames but ``spared`` have beside the computed number: a seed, or what is taken to it at the end; None
    if it differs.
    """
    mask = (1 << width) - 1
    if kind.kind == "xor" or kind.negate or kind.rotate:
        rests = ((-said if kind.negate else said) & mask) ^ told
    else:
        rests = (told - said) & mask
    usual = np.sort(rests)[rests.size // 2]  # what more than half of them are stands in the middle
    return int(usual) if np.count_nonzero(rests != usual) <= spared else None
