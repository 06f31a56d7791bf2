"""CRCs of any polynomial, start and final value, found by algebra."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import compress, groupby
from operator import attrgetter

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
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
    places,
    witnesses,
)
from eager_tern.compare.polynomials import gcd_degrees, poly_gcd, poly_mod, rank
from eager_tern.compare.stack import Stack, as_integers, raw_numbers
from eager_tern.protocol.checks import expected_value, holds_in
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check

CRC_WIDTHS = (16, 12, 10, 8, 7, 6, 5, 4, 3)
FEWEST_FRAMES = 3  # beside the first, that say whether a polynomial divides them all
MOST_OVER = 12  # degrees that the common divisor may have too many
DISTINCT = 24  # differences of which the common divisor is taken
SUBSETS = 3
ORDERS, MESSAGES = 8, 6  # at most, in which a CRC's bits may be taken and over which it may be


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


class _Way(Struct, frozen=True):
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
    if not ways or rows.size <= FEWEST_FRAMES:
        return
    words = [way.columns for way in ways]
    size = max(map(len, words))
    columns = np.array([[stack.columns] * (size - len(word)) + word for word in words])
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
        poly = _common_divisor(as_integers(stack.bits, way.columns), way.place.width)
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


def _common_divisor(words: Sequence[int], width: int) -> int | None:
    """The polynomial of so many bits that divides the differences of the words, without a factor x; None: none does.

    Some words may be damaged: of several subsets one need not have any.
    """
    differences = [word ^ words[0] for word in words[1:]]
    if len(differences) < FEWEST_FRAMES:
        return None
    for subset in range(SUBSETS):
        base = words[subset * len(words) // SUBSETS]
        some = [word ^ base for word in words[subset::SUBSETS] if word != base][:DISTINCT]
        if len(some) < FEWEST_FRAMES:
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
        check = replace(plain, xor_out=final)
        holds = holds_in(check, stack.bits)
        if np.sum(~holds) <= spared:
            told = witnesses(raw_numbers(stack.bits[holds], at.index))
            independent = min(rank(as_integers(stack.bits[holds], message)) - 1, told)
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
