"""Sums and exclusive-ors that begin with a number of their own for each kind of message, which some bits name."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.checks import (
    MOST_CHANCE,
    NIBBLE,
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
from eager_tern.compare.running import Order, in_units
from eager_tern.compare.stack import Stack, raw_numbers
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.fields import from_keys
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check

MOST_SEEDS = 4  # a maker has a few kinds of messages; more seeds would say any take
FEWEST_EACH = 4  # different messages of each kind: one seed is made for the first of them
KINDS: tuple[dict[str, object], ...] = ({"kind": "sum"}, {"kind": "sum", "negate": True}, {"kind": "xor"})
ORDERS: tuple[Order, ...] = ("lsb", "msb")
Ints = NDArray[np.int64]


class _Named(Struct, frozen=True):
    """Bits that name the kind of a message, and the number that they have in each row."""

    by: Positions
    raw: Ints


def find_seeded(stack: Stack, free: NDArray[np.bool_], known: Sequence[Found]) -> list[Found]:
    """Bytes that are a sum or an exclusive-or of all that stands before them, from a seed that other bits choose."""
    names = {order: _names(stack, order) for order in ORDERS}
    found: list[Found] = []
    for place in places(stack, (8,), free) if names["lsb"] else ():
        if not free[place.first : place.after].all() or only_counts(stack, place.first, place.width):
            continue
        guesses = (g for g in _at(stack, place, names) if not follows(g.covers, place, (*known, *found)))
        best = min(guesses, key=lambda guess: guess.chance, default=None)
        if best is not None and tells_every_nibble(stack, place, best.holds):
            found.append(best)
    return found


def _names(stack: Stack, order: Order) -> list[_Named]:
    """The nibbles, and else the bits, that have a few values and could name the kind of a message."""
    found = []
    for width in (NIBBLE, 1):
        for start, end in stack.section_bounds:
            for first in range(start, end - width + 1, width):
                by = positions(first, width, lowest_first=order == "lsb")
                raw = raw_numbers(stack.bits, by.index)
                counts = np.unique(raw, return_counts=True)[1]
                if 2 <= counts.size <= MOST_SEEDS and counts.min() >= FEWEST_EACH:
                    found.append(_Named(by, raw))
    return found


def _at(stack: Stack, place: Place, names: Mapping[Order, Sequence[_Named]]) -> Iterator[Found]:
    """What a place could be; ``names`` as they are preferred."""
    mask = (1 << place.width) - 1
    for start in sorted({place.start, place.byte_start, 0}):
        for unit in (8, 4):
            if (place.first - start) % unit or place.first - start < 2 * unit:
                continue
            for order in ORDERS:
                at = positions(place.first, place.width, lowest_first=order == "lsb")
                target = raw_numbers(stack.bits, at.index)
                units = in_units(stack.bits[:, start : place.first], unit, order)
                for how in KINDS if unit == place.width else KINDS[:2]:
                    mixed = np.bitwise_xor.reduce(units, axis=1) if how["kind"] == "xor" else units.sum(axis=1)
                    if how["kind"] == "xor":
                        seeds = target ^ mixed
                    else:
                        seeds = ((-target if "negate" in how else target) - mixed) & mask
                    said = {"name": how["kind"], "at": at, "covers": ((start, place.first - 1),), "unit": unit}
                    yield from _seeded(stack, names[order], said | how | {"order": order}, seeds, mixed & mask)


def _seeded(
    stack: Stack, names: Sequence[_Named], check: dict[str, object], seeds: Ints, mixed: Ints
) -> Iterator[Found]:
    """The check with the seeds that each of the names gives it, where they are not all the same; ``seeds`` would make
    each row right, ``mixed`` is what is added to them.
    """
    if np.unique(seeds).size > MOST_SEEDS + damaged(stack.rows):
        return
    for name in names:
        usual = {int(kind): int(np.bincount(seeds[name.raw == kind]).argmax()) for kind in np.unique(name.raw).tolist()}
        right = seeds == np.array([usual[kind] for kind in name.raw.tolist()])
        different = [np.unique(mixed[right & (name.raw == kind)]).size for kind in usual]
        if len(set(usual.values())) < 2 or np.sum(~right) > damaged(stack.rows) or min(different) < FEWEST_EACH:
            continue
        made = from_keys(Check, check | {"by": name.by, "seeds": usual})
        holds = holds_in(made, stack.bits)
        tried = 12.0 * len(names) * stack.columns
        chance = chance_of(made.at.width, sum(different) - len(usual), stack.rows, int(np.sum(~holds)), tried)
        if np.sum(~holds) <= damaged(stack.rows) and chance < MOST_CHANCE:
            yield Found(made, holds, chance)
