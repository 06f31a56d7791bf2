"""Which bits follow from others: copies and complements, sums, exclusive-ors, parity, CRC and other linear digests."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache
from math import comb, log10
from typing import Any

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.stack import BitRows, Stack, raw_numbers
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.fields import from_keys
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check
from eager_tern.signal.stretches import stretches

NIBBLE, BYTE = 4, 8  # bits
FEWEST_PAIRS = 2  # of changing bytes and their complements, that make a rule of it
MOST_DAMAGED = 0.08  # of the rows
COUNTS = 0.9  # of the steps of a counter are alike, where a row is missing now and then
# Rows looked at first: three times as many as may be damaged. Of 200 rows and more 48, of which more than a third are
# damaged once in ten million cases.
FEWEST_GLANCED, MOST_GLANCED = 12, 48
MOST_SPARED = MOST_GLANCED // 3
# Of the rows in which a number changes, so many at least hold where damage changed no more of them than a check tells.
LEAST_TOLD = 0.25
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


# Copies and complements


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


# Sums and exclusive-ors


def find_sums(stack: Stack, free: NDArray[np.bool_], known: Sequence[Found] = ()) -> list[Found]:
    """Sums of bytes or nibbles and their exclusive-or, with a seed, negated, with carry, swapped."""
    found: list[Found] = []
    left = free.copy()
    for place in places(stack, (8, 4), free):
        told = left[place.first : place.after].reshape(-1, 4).any(axis=1)
        if not told.any():
            continue
        possible = sorted(_sums_at(stack, place), key=lambda guess: _preference(guess, place))
        if not told.all():  # what only a nibble of it says is a check of four bits, unless the other follows, too
            possible = [guess for guess in possible if _is_natural(guess, place)]
        for narrow in possible:
            if follows(narrow.check.covers, place, (*known, *found)):
                continue
            guess = _wider(narrow, possible, stack)
            if follows(guess.check.covers, place, (*known, *found)):
                continue
            holds = holds_in(guess.check, stack.bits)
            if np.sum(~holds) <= damaged(stack.rows) and (not told.all() or tells_every_nibble(stack, place, holds)):
                found.append(Found(guess.check, holds, guess.chance))
                left[place.first : place.after] = False
                break
    return found


def _is_natural(guess: _Guess, place: Place) -> bool:
    """Whether a check in the last byte of a section goes over all before it, with nothing to choose but its sign."""
    check = guess.check
    plain = not (check.init or check.carry or check.swap) and check.unit == BYTE
    return (
        place.after == place.end and _covers_all(check, place) and plain and not (check.xor_out and check.kind == "xor")
    )


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
    seed = check.init != 0 or (check.xor_out != 0 and not turned)
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
