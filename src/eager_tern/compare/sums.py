"""Sums of bytes or nibbles and their exclusive-or, over any range before and behind them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.checks import (
    BYTE,
    FEWEST_GLANCED,
    MOST_CHANCE,
    MOST_SPARED,
    NIBBLE,
    Found,
    Place,
    chance_of,
    damaged,
    follows,
    glance,
    nearly_steady,
    only_counts,
    places,
    positions,
    tells_every_nibble,
)
from eager_tern.compare.stack import BitRows, Stack, raw_numbers
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.fields import from_keys
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check

# Of the rows in which a number changes, so many at least hold where damage changed no more of them than a check tells.
LEAST_TOLD = 0.25


def find_sums(stack: Stack, free: NDArray[np.bool_], known: Sequence[Found] = ()) -> list[Found]:
    """Sums of bytes or nibbles and their exclusive-or, with a seed, negated, with carry, swapped."""
    found: list[Found] = []
    left = free.copy()
    for place in places(stack, (8, 4), free):
        told = left[place.first : place.after].reshape(-1, 4).any(axis=1)
        # What only a nibble of a byte says is a check of four bits, unless the other follows, too.
        partly = not told.all()
        if not told.any() or (partly and place.after != place.end):
            continue
        possible = sorted(_sums_at(stack, place), key=lambda guess: _preference(guess, place))
        if partly:
            possible = [guess for guess in possible if _is_natural(guess.check, place)]
        for narrow in possible:
            if follows(narrow.check.covers, place, (*known, *found)):
                continue
            guess = _wider(narrow, possible, stack)
            if follows(guess.check.covers, place, (*known, *found)):
                continue
            holds = holds_in(guess.check, stack.bits)
            if np.sum(~holds) <= damaged(stack.rows) and (partly or tells_every_nibble(stack, place, holds)):
                found.append(Found(guess.check, holds, guess.chance))
                left[place.first : place.after] = False
                break
    return found


def _is_natural(check: Check, place: Place) -> bool:
    """Whether a check of bytes goes over all before its place, with nothing to choose but its sign."""
    twisted = check.carry or check.swap or check.unit != BYTE
    return _covers_all(check, place) and not twisted and not _is_seeded(check)


def _is_seeded(check: Check) -> bool:
    """Whether a number is added or xored on that only frames tell; all bits of a sum turned are its sign."""
    return check.init != 0 or (check.kind == "xor" and check.xor_out != 0)


def _covers_all(check: Check, place: Place) -> bool:
    """Whether a check goes over all before its place, in its section or in the frame."""
    return check.covers in {((start, place.first - 1),) for start in (0, place.start, place.byte_start)}


class _Guess(Struct, frozen=True):
    """A check that agrees with all rows but ``wrong``, by arithmetic on all of them at once."""

    check: Check
    wrong: int
    chance: float


def _preference(guess: _Guess, place: Place) -> tuple[float, ...]:
    """Fewest rows against it, then the simplest: no seed, covering all that stands before.

    One twist rather than a seed, of which one in 256 fits whatever it is: a remainder by 255 of numbers that never
    passed a multiple of it is a plain sum, and something more.
    """
    check = guess.check
    turned = check.kind == "sum" and check.xor_out != 0
    seed = _is_seeded(check)
    twisted = check.negate + check.carry + check.swap + turned + (check.unit != check.at.width)
    whole = sum(last - first + 1 for first, last in check.covers)
    at_once = _covers_all(check, place) and not seed and twisted == 1
    return (guess.wrong, len(check.covers), not at_once and bool(twisted or seed), twisted, seed, -whole)


def _wider(guess: _Guess, possible: Sequence[_Guess], stack: Stack) -> _Guess:
    """The guess over more of what nothing but damage changed: it covers that as well, or the damage is not seen."""

    def covered(check: Check) -> set[int]:
        return {column for first, last in check.covers for column in range(first, last + 1)}

    def how(check: Check) -> tuple[object, ...]:
        turned = check.xor_out if check.kind == "sum" else None
        at = tuple(check.at.index.tolist())
        return check.kind, check.unit, check.order, check.negate, check.carry, check.swap, turned, at

    own, steady = covered(guess.check), nearly_steady(stack)
    alike = [g for g in possible if how(g.check) == how(guess.check) and own < covered(g.check)]
    wider = [g for g in alike if steady[list(covered(g.check) - own)].all()]
    return max(wider, key=lambda g: len(covered(g.check)), default=guess)


def _sums_at(stack: Stack, place: Place) -> Iterator[_Guess]:
    """The sums that the bits at a place could be."""
    if only_counts(stack, place.first, place.width):
        return
    starts = sorted({0, place.start, place.byte_start})
    for lowest_first in (True, False):
        at = positions(place.first, place.width, lowest_first)
        target = raw_numbers(stack.bits, at.index)
        for start in starts:
            for unit in (8, 4):
                if unit == place.width or (unit, place.width) == (4, 8):
                    yield from _sums_over(stack, place, at, target, start, unit, lowest_first)


def _sums_over(
    stack: Stack, place: Place, at: Positions, target: NDArray[np.int64], start: int, unit: int, lowest_first: bool
) -> Iterator[_Guess]:
    """Of units from ``start`` to the place, of those behind it, and of both."""
    before = list(range(start, place.first - unit + 1, unit))
    behind = list(range(place.after, place.end - unit + 1, unit))
    order = "lsb" if lowest_first else "msb"
    mask, rows = (1 << place.width) - 1, stack.rows
    spared = damaged(rows)
    values = [raw_numbers(stack.bits, positions(u, unit, lowest_first).index) for u in (*before, *behind)]
    if not values:
        return
    units = np.stack(values, axis=1)
    sums = np.concatenate((np.zeros((rows, 1), np.int64), np.cumsum(units, axis=1)), axis=1)
    xors = np.concatenate((np.zeros((rows, 1), np.int64), np.bitwise_xor.accumulate(units, axis=1)), axis=1)
    whole, split = len(before) + len(behind), len(before)
    ranges = [(a, b) for b in range(1, split + 1) for a in range(b)]
    ranges += [(split, b) for b in range(split + 1, whole + 1)]
    if split and behind:
        ranges += [(a, whole) for a in range(split)]
    firsts, lasts = (np.array(ends) for ends in zip(*ranges, strict=True))
    kinds: list[dict[str, Any]] = [{"kind": "sum"}, {"kind": "sum", "negate": True}, {"kind": "sum", "carry": True}]
    if unit == place.width:
        kinds.append({"kind": "xor"})
    if place.width == 8:
        kinds += [{"kind": "sum", "swap": True}, {"kind": "xor", "swap": True}]
    if unit == 8:  # the other way to say minus: all bits turned
        kinds.append({"kind": "sum", "xor_out": mask})
    told = NIBBLE * sum(np.ptp(target >> shift & 15) > 0 for shift in range(0, place.width, NIBBLE))
    chosen_rows = list(dict.fromkeys((0, rows // 2, rows - 1)))
    some, telling = np.unique([*glance(rows), *chosen_rows]), _some_that_change(target)
    looked_at = np.concatenate((some, telling))
    total = (sums[looked_at][:, lasts] - sums[looked_at][:, firsts]).T  # shape (ranges, rows looked at)
    mixed = (xors[looked_at][:, lasts] ^ xors[looked_at][:, firsts]).T
    rests = np.array([_rest(how, mask, target[looked_at], total, mixed)[0] for how in kinds])
    left = rests[:, :, np.searchsorted(some, chosen_rows)].transpose(0, 2, 1)
    agrees = rests[:, None] == left[..., None]  # shape (kinds, chosen rows, ranges, rows looked at)
    likely = np.count_nonzero(agrees[..., : some.size], axis=3) >= some.size - min(spared, MOST_SPARED)
    likely &= np.count_nonzero(agrees[..., some.size :], axis=3) >= LEAST_TOLD * telling.size
    for kind, which, i in np.argwhere(likely).tolist():
        how, chosen, (a, b) = kinds[kind], chosen_rows[which], ranges[i]
        rest, said = _rest(how, mask, target, sums[:, b] - sums[:, a], xors[:, b] ^ xors[:, a])
        wrong = int(np.count_nonzero(rest != rest[chosen]))
        if wrong > spared:
            continue
        chance = chance_of(told, np.unique(said).size - 1, rows, wrong, 60.0 * len(ranges))
        if chance >= MOST_CHANCE:
            continue
        seed = int(rest[chosen])
        parameters = {"xor_out": seed} if how["kind"] == "xor" else {"init": seed}
        covers = _covers(a, b, before, behind, unit)
        said_so = {"name": how["kind"], "at": at, "covers": covers, "unit": unit, "order": order}
        yield _Guess(from_keys(Check, said_so | parameters | how), wrong, chance)


def _some_that_change(target: NDArray[np.int64]) -> NDArray[np.intp]:
    """Some rows in which a number is not what it mostly is: what a check of it has to tell."""
    values, of = np.unique(target, return_inverse=True)
    changed = np.flatnonzero(of != np.bincount(of, minlength=values.size).argmax())
    return changed[np.unique(np.linspace(0, changed.size - 1, FEWEST_GLANCED).astype(np.intp))]


def _rest(
    how: Mapping[str, Any], mask: int, target: NDArray[np.int64], total: NDArray[np.int64], mixed: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """What a kind of sum leaves of what stands at its place, and what it says; ``total`` and ``mixed`` are the plain
    sum and exclusive-or, of one range of units or of many.
    """
    if "swap" in how:
        target = (target << 4 | target >> 4) & mask
    if how["kind"] == "xor":
        return target ^ mixed & mask, mixed & mask
    if "carry" in how:
        return (target - total) % mask, total % mask
    if "negate" in how:
        return -(target + total) & mask, total & mask
    return (target ^ how.get("xor_out", 0)) - total & mask, total & mask


def by_modulus(found: Found, bits: BitRows) -> Found:
    """A sum with end-around carry, or the remainder of a sum where that holds in more rows: it is never all ones."""
    check = found.check
    if not check.carry or check.init or found.holds.all():
        return found
    remainder = replace(check, carry=False, modulus=(1 << check.at.width) - 1)
    holds = holds_in(remainder, bits)
    return replace(found, check=remainder, holds=holds) if holds.sum() > found.holds.sum() else found


def _covers(a: int, b: int, before: list[int], behind: list[int], unit: int) -> tuple[tuple[int, int], ...]:
    """The bit ranges of units a to b of those before and behind the check."""
    every = [*before, *behind]
    split = len(before)
    if a < split < b:
        return ((every[a], before[-1] + unit - 1), (behind[0], every[b - 1] + unit - 1))
    return ((every[a], every[b - 1] + unit - 1),)
