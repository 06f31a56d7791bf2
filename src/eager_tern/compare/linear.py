"""Checks that are linear over exclusive-or: parity, CRC found by algebra, and any other digest of that kind."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import compress, groupby
from math import comb, log10
from operator import attrgetter

import numpy as np
from numpy.typing import NDArray

from eager_tern.compare.checks import (
    BYTE,
    MOST_CHANCE,
    NIBBLE,
    Found,
    Place,
    chance_of,
    damaged,
    follows,
    held,
    only_counts,
    places,
    positions,
    witnesses,
)
from eager_tern.compare.evidence import turns
from eager_tern.compare.polynomials import gcd_degrees, poly_gcd, poly_mod
from eager_tern.compare.stack import BitRows, Stack, raw_numbers
from eager_tern.protocol.checks import expected_value
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check

CRC_WIDTHS = (16, 12, 10, 8, 7, 6, 5, 4, 3)
FEWEST_INDEPENDENT = 3
MOST_OVER = 12  # degrees that the common divisor may have too many
DISTINCT = 24  # differences of which the common divisor is taken
SUBSETS = 3
ORDERS, MESSAGES = 8, 6  # at most, in which a CRC's bits may be taken and over which it may be
PARITY_CHANCE = -3.0  # log10; a single bit does not say more in the few rows that there are
NEAR = 8  # columns within which the upper bits of one number move together
WORD_SIZES = range(4, 14)  # bits, with the parity
PARITY_FEWEST = 3  # varying bits that a parity bit covers


def find_crcs(stack: Stack, free: NDArray[np.bool_], known: Sequence[Found] = ()) -> list[Found]:
    """CRCs of 3 to 16 bits of any polynomial, start and final value and either reflection.

    A frame with its CRC is a multiple of the polynomial plus what start and final value make of it; that falls out of
    the difference of two frames: the polynomial divides all of them (Williams 1993, section 4, on the division).
    """
    found: list[Found] = []
    left = free.copy()
    for place, some in _divided([way for at in places(stack, CRC_WIDTHS, free) for way in _ways(stack, at)], stack):
        there = [c for c in (*known, *found) if any(place.first <= at < place.after for at in c.positions)]
        if not left[place.first : place.after].any() or not all(_may_be_implied(c, place.width) for c in there):
            continue
        crcs = (crc for crc in _crcs_at(stack, some) if not follows(crc.covers, place, (*known, *found)))
        # Damage to other bits than theirs fails the CRC alone.
        fewest = max((int(c.holds.sum()) for c in there), default=0) - damaged(stack.rows)
        best = next((crc for crc in crcs if crc.holds.sum() >= fewest), None)
        if best is not None:
            found.append(best)
            left[place.first : place.after] = False
    return found


def _may_be_implied(check: Found, width: int) -> bool:
    """Whether a check may hold only because a CRC of that width does: the exclusive-or of nibbles does, where x⁴ + 1
    divides the polynomial. The CRC says more, then.
    """
    return check.kind == "xor" and check.check.at.width == NIBBLE < width


@dataclass(frozen=True)
class _Way:
    """A way to compute a CRC: over which bits, each byte as sent or ``turned``, and in which order its own are sent."""

    place: Place
    message: list[int]
    turned: bool
    at: list[int]
    crc_turned: bool

    @property
    def columns(self) -> list[int]:
        """The frame's bits as the polynomial that the CRC's own divides, the highest coefficient first."""
        message = _turned(self.message) if self.turned else self.message
        return [*message, *(self.at[::-1] if self.crc_turned else self.at)]


def _ways(stack: Stack, place: Place) -> Iterator[_Way]:
    for message in _messages(stack, place):
        for turned in (False, True):
            for at, crc_turned in _orders(place):
                yield _Way(place, message, turned, at, crc_turned)


def _divided(ways: Sequence[_Way], stack: Stack) -> Iterator[tuple[Place, list[_Way]]]:
    """Place by place the ways that some polynomial could divide, which three frames rule out of nearly all.

    One of them may be damaged: as many threes are tried as there are subsets later, and one of them is enough.
    """
    rows = np.sort(np.unique(stack.bits, axis=0, return_index=True)[1])
    if not ways or rows.size <= FEWEST_INDEPENDENT:
        return
    sizes = max(len(way.columns) for way in ways)
    columns = np.full((len(ways), sizes), stack.columns)
    for n, way in enumerate(ways):
        columns[n, sizes - len(way.columns) :] = way.columns
    widths = np.array([way.place.width for way in ways])
    possible = np.zeros(len(ways), np.bool_)
    for first in range(SUBSETS if damaged(stack.rows) else 1):
        three = stack.bits[rows[np.linspace(first, rows.size - SUBSETS + first, 3).astype(int)]]
        base, *others = np.pad(three, ((0, 0), (0, 1)))  # behind the last column, a zero
        still = np.flatnonzero(~possible)
        a, b = ((base ^ other)[columns[still]] for other in others)
        degrees = gcd_degrees(a, b)
        possible[still] = (degrees >= widths[still]) | ~a.any(axis=1) | ~b.any(axis=1)
    for place, some in groupby(compress(ways, possible), attrgetter("place")):
        yield place, list(some)


def _crcs_at(stack: Stack, ways: Sequence[_Way]) -> Iterator[Found]:
    for way in ways:
        poly = _common_divisor(_as_integers(stack.bits, way.columns), way.place.width)
        if poly is None:
            continue
        found = _verified(stack, way.place, way.message, way.turned, way.at, way.crc_turned, poly)
        if found is not None:
            yield found


def _orders(place: Place) -> Iterator[tuple[list[int], bool]]:
    """The orders in which a CRC's bits may be sent, its highest first: whether that is the other way round as a whole.

    Of two bytes, each may be turned by itself, and the lower one sent first.
    """
    at = list(range(place.first, place.after))
    yield at, False
    yield at, True
    if place.width == 2 * BYTE:
        yield _turned(at), False
        yield at[BYTE:] + at[:BYTE], False


def _messages(stack: Stack, place: Place) -> list[list[int]]:
    """What a CRC may be taken over: all before it in its section or the frame, all behind it, and both."""
    spans = []
    for start in dict.fromkeys((place.start, place.byte_start, 0, place.start + 8, place.start + 4)):
        if start < place.first:
            spans.append(list(range(start, place.first)))
    behind = list(range(place.after, place.end))
    if behind:
        spans.append(behind)
        if place.start < place.first:
            spans.append(list(range(place.start, place.first)) + behind)
    return [span for span in spans if stack.varies[span].any()]


def _turned(message: Sequence[int]) -> list[int]:
    """The bits with each byte turned round."""
    return [bit for at in range(0, len(message), 8) for bit in message[at : at + 8][::-1]]


def _as_integers(bits: BitRows, columns: Sequence[int]) -> list[int]:
    """Each row's bits at some columns as one number, the first the highest; equal rows once, in their order."""
    packed = np.packbits(bits[:, np.asarray(columns, np.intp)], axis=1)
    size, spare = packed.shape[1], -len(columns) % 8
    text = packed.tobytes()
    every = (int.from_bytes(text[at : at + size], "big") >> spare for at in range(0, len(text), size))
    return list(dict.fromkeys(every))


def _common_divisor(words: Sequence[int], width: int) -> int | None:
    """The polynomial of so many bits that divides the differences of the words, without a factor x; None: none does.

    Some words may be damaged: of several subsets one need not have any.
    """
    differences = [word ^ words[0] for word in words[1:]]
    if len(differences) < FEWEST_INDEPENDENT:
        return None
    for subset in range(SUBSETS):
        base = words[subset * len(words) // SUBSETS]
        some = [word ^ base for word in words[subset::SUBSETS] if word != base][:DISTINCT]
        if len(some) < FEWEST_INDEPENDENT:
            some = differences
        common = 0
        for difference in some:
            common = poly_gcd(difference, common)
            if common.bit_length() <= width:
                break
        common >>= (common & -common).bit_length() - 1  # factors x come from zeros at the end
        degree = common.bit_length() - 1
        if degree == width:
            return common
        if width < degree <= width + MOST_OVER:
            factor = _factor(common, width)
            if factor is not None:
                return factor
    return None


def _factor(common: int, width: int) -> int | None:
    """A divisor of that degree with a constant term; the one with most weight on being published is the smallest."""
    if width > 10:
        return None
    candidates = range((1 << width) + 1, 1 << (width + 1), 2)
    return next((poly for poly in candidates if poly_mod(common, poly) == 0), None)


def _verified(
    stack: Stack, place: Place, message: list[int], turned: bool, order: list[int], crc_turned: bool, poly: int
) -> Found | None:
    """The CRC as a check of the sheet language, its final value from a row, if it holds in nearly all."""
    covers = _as_ranges(message)
    # A piece shorter than a byte is processed as it was sent, in units that leave no rest.
    unit = next(unit for unit in (8, 4, 1) if all((last + 1 - first) % unit == 0 for first, last in covers))
    if turned and unit < BYTE:
        return None
    # Read with the first bit sent highest, a byte is processed as sent unless it is reflected.
    at = Positions(np.array(order), np.zeros(place.width, np.uint8))
    plain = Check(
        name="CRC", kind="crc", at=at, covers=covers, unit=unit, order="msb", poly=poly & ((1 << place.width) - 1),
        reflect_in=turned, reflect_out=crc_turned,
    )  # fmt: skip
    spared = damaged(stack.rows)
    for row in (0, stack.rows // 2, stack.rows - 1):
        final = expected_value(plain, stack.bits[row]) ^ at.read(stack.bits[row])
        check = plain.model_copy(update={"xor_out": final})
        holds = held(check, stack.bits)
        if np.sum(~holds) <= spared:
            told = witnesses(raw_numbers(stack.bits[holds], at.index))
            independent = min(_rank(_as_integers(stack.bits[holds], message)) - 1, told)
            # Of all that was tried, what a maker does first has half of the weight: a CRC behind all that it is of.
            usual = place.after == place.end and message == list(range(place.start, place.first))
            tried = 2.0 * len(CRC_WIDTHS) * (ORDERS if usual else ORDERS * MESSAGES * stack.columns / 4)
            wrong = int(np.sum(~holds))
            chance = chance_of(place.width, independent - 1, stack.rows, wrong, tried)
            return Found(check, holds, chance) if chance < MOST_CHANCE else None
    return None


def _as_ranges(columns: Sequence[int]) -> tuple[tuple[int, int], ...]:
    found: list[tuple[int, int]] = []
    for column in columns:
        if found and found[-1][1] == column - 1:
            found[-1] = (found[-1][0], column)
        else:
            found.append((column, column))
    return tuple(found)


def _rank(words: Sequence[int]) -> int:
    """How many of the words' differences are independent over GF(2), plus one."""
    basis: list[int] = []
    for word in words[1:]:
        rest = word ^ words[0]
        for vector in basis:
            rest = min(rest, rest ^ vector)
        if rest:
            basis.append(rest)
    return len(basis) + 1


def find_parities(stack: Stack, free: NDArray[np.bool_]) -> list[Found]:
    """Single bits that make the number of ones in a stretch even or odd: in each word of the frame, or anywhere."""
    bits, rows = stack.bits, stack.rows
    of_words = _parities_of_words(stack, free)
    free = free.copy()
    free[[column for found in of_words for column in found.positions]] = False
    sums = np.concatenate((np.zeros((rows, 1), np.uint8), np.bitwise_xor.accumulate(bits, axis=1)), axis=1)
    varies = np.concatenate(([0], np.cumsum(_leading(stack))))
    spared = damaged(rows)
    found = of_words
    for column in np.flatnonzero(free).tolist():
        best: Found | None = None
        if _moves_with_another(stack, column):
            continue
        for start, end in stack.section_bounds:
            if not start <= column < end:
                continue
            for first, last, odd, wrong in _parity_ranges(sums, bits[:, column], varies, column, (start, end), spared):
                whole = first == start  # somebody who adds a parity bit adds it to everything
                chance = log10((2 if whole else 4 * stack.columns) * stack.columns) - turns(bits[:, column])
                chance += log10(comb(rows, wrong))
                if chance < PARITY_CHANCE and (best is None or first < best.covers[0][0]):
                    best = _parity(stack, column, first, last - 1, odd, chance)
        if best is not None:
            found.append(best)
    return found


def _parities_of_words(stack: Stack, free: NDArray[np.bool_]) -> list[Found]:
    """The bits that end each word of a section, all words of one length and all with an even number of ones, or all
    with an odd one. They bear each other out.
    """
    best: list[Found] = []
    for start, end in stack.section_bounds:
        sizes = [size for size in WORD_SIZES if 2 * size <= end - start]
        for size in sizes:
            lasts = np.arange(start + size - 1, end, size)
            odd = np.bitwise_xor.reduce(stack.bits[:, start : int(lasts[-1]) + 1].reshape(stack.rows, -1, size), axis=2)
            wrong = np.minimum((odd != 0).any(axis=1).sum(), (odd != 1).any(axis=1).sum())
            telling = [c for c in lasts.tolist() if free[c] and not _moves_with_another(stack, c)]
            if wrong > damaged(stack.rows) or len(telling) < 2:
                continue
            said = sum(turns(stack.bits[:, column]) for column in telling)
            chance = log10(2 * len(sizes) * comb(stack.rows, int(wrong))) - said
            if chance < min([PARITY_CHANCE, *(each.chance for each in best)]):
                own = [column for column in lasts.tolist() if free[column] or not stack.varies[column]]
                init = int(odd.mean() > 0.5)
                best = [_parity(stack, column, column - size + 1, column - 1, init, chance) for column in own]
    return best


def _parity(stack: Stack, column: int, first: int, last: int, odd: int, chance: float) -> Found:
    """A column as the parity of a stretch of bits, its last one included."""
    at = positions(column, 1, lowest_first=True)
    check = Check(name="parity", kind="parity", at=at, covers=((first, last),), init=odd)
    return Found(check, held(check, stack.bits), chance)


def _leading(stack: Stack) -> NDArray[np.bool_]:
    """The varying columns that do not move with an earlier one near them: those that do are one witness with it."""
    leads = ~stack.steady
    for column in np.flatnonzero(leads).tolist():
        leads[column] = not _together(stack, column)[max(0, column - NEAR) : column].any()
    return leads


def _moves_with_another(stack: Stack, column: int) -> bool:
    """Whether another bit turns whenever this one does: then both are one witness, and no rule is needed for it."""
    return int(np.count_nonzero(_together(stack, column))) > 1


def _together(stack: Stack, column: int) -> NDArray[np.bool_]:
    """Which columns turn whenever this one does, but for what may be damaged."""
    apart = (stack.bits ^ stack.bits[:, [column]]).sum(axis=0, dtype=np.intp)
    spared = damaged(stack.rows)
    alike: NDArray[np.bool_] = (apart <= spared) | (apart >= stack.rows - spared)
    return alike


def _parity_ranges(
    sums: NDArray[np.uint8], bit: NDArray[np.uint8], varies: NDArray[np.intp], column: int, section: tuple[int, int],
    spared: int,
) -> Iterator[tuple[int, int, int, int]]:  # fmt: skip
    """Ranges before a bit, and behind it to the section's end, of which it is the parity: first, end, odd, rows wrong.

    ``sums`` are the parities of all bits before each column, shape (rows, columns + 1).
    """
    start, end = section
    for begin, last in ((start, column), (column + 1, end)):
        firsts = np.arange(begin, last - PARITY_FEWEST + 1)
        firsts = firsts[varies[last] - varies[firsts] >= PARITY_FEWEST]
        ones = (sums[:, [last]] ^ sums[:, firsts] ^ bit[:, None]).sum(axis=0, dtype=np.intp)
        wrong = np.minimum(ones, len(bit) - ones)
        for i in np.flatnonzero(wrong <= spared).tolist():
            yield int(firsts[i]), last, int(2 * ones[i] > len(bit)), int(wrong[i])


def find_digests(stack: Stack, free: NDArray[np.bool_], apart: NDArray[np.bool_]) -> list[Found]:
    """Bytes of which every bit is an exclusive-or of other bits, whichever: what tables and shift registers make.

    ``free`` are varying columns that nothing accounts for, ``apart`` those that a digest is not taken over.
    """
    found: list[Found] = []
    left = free.copy()
    for place in places(stack, (8,), free):
        ones = stack.bits[:, place.first : place.after].sum(axis=0)
        seldom = np.minimum(ones, stack.rows - ones)
        if not left[place.first : place.after].any() or seldom.max() < FEWEST_INDEPENDENT:  # a damaged frame's
            continue
        if only_counts(stack.bits, place.first, place.width):
            continue
        for start, end in dict.fromkeys(((place.start, place.end), (0, stack.columns))):
            over = [c for c in range(start, end) if not apart[c] and not place.first <= c < place.after]
            digest = _digest(stack, place, over)
            if digest is not None:
                found.append(digest)
                left[place.first : place.after] = False
                break
    return found


def _digest(stack: Stack, place: Place, over: list[int]) -> Found | None:
    """The columns of a linear digest at a place, by elimination; None where rows contradict or are too few."""
    columns = [c for c in over if stack.varies[c]]
    targets = list(range(place.first, place.after))
    words = _as_integers(stack.bits, [*columns, *targets])
    width, count = place.width, len(columns)
    basis: list[int] = []
    spare = 0
    for word in words[1:]:
        rest = word ^ words[0]
        for vector in basis:
            rest = min(rest, rest ^ vector)
        if rest >> width:
            basis = sorted([*basis, rest], reverse=True)
        elif rest:
            return None  # the same message bits, another digest
        else:
            spare += 1
    # Each column of the digest was learnt from a value of its own; what is left over are witnesses.
    spare = min(spare, witnesses(raw_numbers(stack.bits, targets)) - len(basis))
    chance = chance_of(_independent_bits(stack, targets), spare, stack.rows, 0, stack.columns / 4)
    if chance >= MOST_CHANCE or not basis:
        return None
    reduced = _reduced(basis)
    weights = {columns[count + width - vector.bit_length()]: vector & ((1 << width) - 1) for vector in reduced}
    first, last = min(over), max(over)
    covers = tuple(r for r in ((first, place.first - 1), (place.after, last)) if r[0] <= r[1])
    covered = [c for a, b in covers for c in range(a, b + 1)]
    at = positions(place.first, width, lowest_first=False)
    check = Check(name="digest", kind="linear", at=at, covers=covers, columns=tuple(weights.get(c, 0) for c in covered))
    final = expected_value(check, stack.bits[0]) ^ at.read(stack.bits[0])
    check = check.model_copy(update={"xor_out": final})
    holds = held(check, stack.bits)
    return Found(check, holds, chance) if holds.all() else None


def _independent_bits(stack: Stack, columns: Sequence[int]) -> int:
    """How many of some columns say something that the others do not: those that move together are one."""
    turned = (stack.bits[:, columns] ^ stack.bits[:1, columns]).T
    return _rank([0, *_as_integers(turned, list(range(stack.rows)))]) - 1


def _reduced(basis: Sequence[int]) -> list[int]:
    """The basis with each leading bit in one vector only."""
    out = list(basis)
    for i, vector in enumerate(out):
        lead = 1 << (vector.bit_length() - 1)
        for j in range(i):
            if out[j] & lead:
                out[j] ^= vector
    return out
