"""What frames say of themselves, without any label: bytes and their complements, checks at the end of a section."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from math import log10

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.checks import BYTE, MOST_CHANCE, Found, damaged, positions
from eager_tern.compare.copies import find_copies
from eager_tern.compare.crcs import find_crcs
from eager_tern.compare.running import KINDS, SHORTEST_COVER, Order, check_of, computed, in_units, is_plain, rest_of
from eager_tern.compare.stack import BitRows, Stack
from eager_tern.compare.sums import find_sums
from eager_tern.compare.twins import bytes_alone, check_of_frame
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.schema import Check

FEWEST_FOR_UNUSUAL = 6  # distinct frames, with which checks of any kind are sought
ENOUGH = 96  # frames: what holds in as many is no accident, and each is one more to compare
DAMAGED = 0.005  # of the frames: in so few a bit is turned that never is otherwise
SHORTEST_HALF = 12  # bits: of shorter ones, two bytes say the same
USUAL_TRIED = 24.0  # natural checks of a section: kinds, orders and widths
SEEDS = 256.0  # of which one may fit by accident


class Structure(Struct, frozen=True):
    """``order`` is None where nothing tells which bit of a unit is lowest."""

    unit: int
    order: Order | None
    checks: tuple[Found, ...]


def structure_of(rows: BitRows, sections: Sequence[int] = ()) -> Structure | None:
    """The structure of one gadget's frames, shape (frames, bits); None where chance could do as much.

    Frames that are the same are one: evidence is counted for each distinct one. Of many, some are searched, and what
    these say is held against all.
    """
    distinct = np.unique(rows, axis=0)
    some = _some_of(distinct)
    checks = [Found(each.check, holds_in(each.check, distinct), each.chance) for each in _checks_of(some, sections)]
    checks = [each for each in checks if np.sum(~each.holds) <= damaged(len(distinct))]
    if not checks:
        return None
    orders = {check.check.order for check in checks if check.kind in ("sum", "ones")}
    order: Order | None = "lsb" if orders == {"lsb"} else "msb" if orders == {"msb"} else None
    nibbles = all(check.check.unit == 4 for check in checks)
    return Structure(4 if nibbles else BYTE, order, tuple(sorted(checks, key=lambda check: min(check.positions))))


def _some_of(rows: BitRows) -> BitRows:
    """Some frames, and two more for each bit in which it is what it seldom is; damaged ones are no more among them than
    among all.
    """
    if len(rows) <= ENOUGH:
        return rows
    rows = np.random.default_rng(0).permutation(rows)  # always the same one
    ones = rows.mean(axis=0)
    seldom = (rows == (ones < 0.5))[:, np.minimum(ones, 1 - ones) > DAMAGED]
    told = np.cumsum(seldom, axis=0)
    two_of_each = (seldom & (told <= 2)).any(axis=1)
    some: BitRows = rows[two_of_each | (np.arange(len(rows)) < ENOUGH)]
    return some


def _checks_of(distinct: BitRows, sections: Sequence[int]) -> list[Found]:
    """The checks that hold in frames none of which is another's copy."""
    stack = Stack(distinct, {}, tuple(sections))
    checks = _complements(stack)
    alone, columns = bytes_alone(stack, checks)
    natural = [check_of_frame(each, columns) for each in _at_ends(alone)]
    for some in (natural, _at_ends(stack), _unusual(alone, columns, checks + natural)):
        told = {column for check in checks for column in check.positions}
        checks += [check for check in some if not told.intersection(check.positions)]
    return checks


def _unusual(alone: Stack, columns: NDArray[np.intp], natural: Sequence[Found]) -> list[Found]:
    """Checks of any kind and in any place, where frames enough bear witness; in the columns of a frame that none of
    the natural ones turns.
    """
    if alone.rows < FEWEST_FOR_UNUSUAL:
        return []
    taken = [column for check in natural for column in check.positions]
    free = alone.varies & ~np.isin(columns, taken)
    found: list[Found] = []
    for search in (find_copies, lambda s: find_sums(s, free, found), lambda s: find_crcs(s, free, found)):
        for check in search(alone):
            if free[list(check.positions)].any():
                found.append(check)
                free[list(check.positions)] = False
    return [check_of_frame(each, columns) for each in found]


def _complements(stack: Stack) -> list[Found]:
    """Halves and bytes that are each followed by their complement."""
    found: list[Found] = []
    in_halves: set[int] = set()
    for start, end in dict.fromkeys(((0, stack.columns), *stack.section_bounds)):
        half, odd = divmod(end - start, 2)
        one, two = stack.bits[:, start : start + half], stack.bits[:, start + half : end]
        if half >= SHORTEST_HALF and not odd and start not in in_halves and (one != two).all():
            found.append(_complement(start + half, start, half, stack.rows))
            in_halves |= {*found[-1].positions}
    for start, end in stack.section_bounds:
        at = start
        while at + 2 * BYTE <= end:
            one, two = (stack.bits[:, a : a + BYTE] for a in (at, at + BYTE))
            if in_halves.intersection(range(at, at + 2 * BYTE)) or not (one != two).all():
                at += BYTE
                continue
            found.append(_complement(at + BYTE, at, BYTE, stack.rows))
            at += 2 * BYTE
    # All pairs are one claim: each value that was seen is told, zeros less than others.
    seen = {(f.covers[0], row[f.covers[0][0] : f.covers[0][1] + 1].tobytes()) for f in found for row in stack.bits}
    bits = sum(2 if len(set(value)) == 1 else len(value) for _, value in seen)
    chance = log10(stack.columns / BYTE * 2) * len(found) - bits * log10(2)
    return [Found(each.check, each.holds, chance) for each in found] if found and chance < MOST_CHANCE else []


def _complement(first: int, of_first: int, width: int, rows: int) -> Found:
    at, of = (positions(each, width, lowest_first=True) for each in (first, of_first))
    return Found(Check(name="complement", kind="complement", at=at, of=of), np.ones(rows, np.bool_), 0.0)


def _at_ends(stack: Stack) -> list[Found]:
    """Checks in the last byte or nibble of a section, over all before it in the section or in the frame."""
    found: list[Found] = []
    for start, end in stack.section_bounds:
        best: Found | None = None
        for begin in sorted({start, 0}, reverse=True):
            for width, unit in ((8, 8), (8, 4), (4, 4)):
                first = end - width
                if (first - begin) % unit or first - begin < SHORTEST_COVER * unit:
                    continue
                for order in ("lsb", "msb"):
                    for each in _holding(stack, begin, first, width, unit, order):
                        if best is None or each.chance < best.chance - 0.5:
                            best = each
        if best is not None and best.chance < MOST_CHANCE:
            found.append(best)
    return found


def _holding(stack: Stack, begin: int, first: int, width: int, unit: int, order: Order) -> Iterator[Found]:
    units = in_units(stack.bits[:, begin:first], unit, order)
    told = in_units(stack.bits[:, first : first + width], width, order)[:, 0]
    if told.min() == told.max():
        return
    for kind in KINDS:
        rest = rest_of(told, computed(units, kind, width)[-1], kind, width)
        if rest is None or (kind.modulus and rest):
            continue
        check = check_of(kind, first, width, begin, unit, order, rest)
        holds = holds_in(check, stack.bits)
        if not holds.all():
            continue
        # The seed is told by one of the frames.
        independent = len(np.unique(np.column_stack((units, told)), axis=0)) - (not is_plain(rest, width))
        tried = USUAL_TRIED * (1.0 if kind.usual else 4.0) * (1.0 if rest == 0 else SEEDS if independent else 1.0)
        yield Found(check, holds, log10(tried) - independent * width * log10(2))
