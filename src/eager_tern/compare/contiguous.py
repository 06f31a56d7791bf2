"""Numbers as makers lay them: bits in a row, and what their value says exactly, whatever stands above.

A take shows a narrow part of a number: bits above stay what they are, or turn together where a border is crossed. Every
width that says the labels is a description of its own; they differ in the offset, which a maker chooses round, and in
where the number ends, which a maker lays on bytes and nibbles.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from math import comb, log10

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.checks import BYTE, NIBBLE
from eager_tern.compare.evidence import of_numbers
from eager_tern.compare.number import Encoding, Number, decoded
from eager_tern.compare.stack import BitRows, raw_numbers, runs_of
from eager_tern.signal.values import Floats

WIDEST = 32
PARTS_OF_STEP = (1, 5, 3, 15, 25)  # set in tens of minutes, sent in minutes; an even part only shifts bits
DIGITS = 9  # of an offset
# What a description costs, log10: how many others there are that a maker would choose as soon.
OFF_NIBBLE, OFF_BORDER = 1.0, 0.2  # an end within a nibble, or on no border of what counts takes
WIDE = 4  # bits; a narrower number stands wherever there was room
EXPLAINED = 1.0  # a bit that changes, which one description more accounts for
# Tenths that go up and down under bits of zeros, in more than a byte, are as well signed: nobody froze yet.
SIGNED_FROM, HEADROOM, NEVER_BELOW = 10, 2, 1.0
# Bits that tenths usually have; zeros above fewer are rather theirs than nobody's. Longer steps have room in a byte.
TENTHS, NARROW, TENTH = 12, 0.9, 0.1
ROOM, NO_ROOM = 3, 0.9  # bits that a count keeps free; one with fewer under a row of zeros, rather a part of it
MOST_FALLS = 0.1  # of the steps of a count, from one press to the next: a frame or two may be damaged
UNMOVED = 1.0  # a bit above a narrow number that never changed
A_DIGIT = 0.8  # of an offset; the first is as good as given away
OTHER_SIGN, OTHER_ENCODING, OTHER_ORDER, A_PART = 0.7, 0.7, 0.7, 1.2


def find_contiguous(
    bits: BitRows, columns: NDArray[np.intp], values: Floats, step: float, errors: int, starts: Sequence[int] = (0,)
) -> list[Number]:
    """The numbers in a row of bits that say the values but in ``errors`` rows; every width that does. Where there are
    none, those whose lowest byte is sent first.

    ``columns`` are those that may vary in it, ``step`` is the greatest step of the values (shape (rows,), all known),
    ``starts`` where the bytes of each section begin.
    """
    usable = _usable(bits, columns)
    # A value that is set in few rows would else be said by any bits that never change.
    rarer = len(values) - int(np.unique(values, return_counts=True)[1].max())
    places = _bytes_turned(bits.shape[1])
    # Most takes have no wrong label, and that is quick.
    for spared in dict.fromkeys((0, min(errors, (rarer - 1) // 2))):
        for part in PARTS_OF_STEP:
            cost = A_PART if part > 1 else 0.0
            if found := _in_steps(bits, columns, usable, values, step / part, spared, starts, cost):
                return found
        turned = _in_steps(bits[:, places], columns, usable[places], values, step, spared, (0,), OTHER_ORDER)
        found = [replace(each, positions=tuple(places[list(each.positions)].tolist())) for each in turned]
        if found := [each for each in found if _has_whole_bytes_below(each.positions)]:
            return found
    return []


def in_a_row(
    bits: BitRows, columns: NDArray[np.intp], values: Floats, step: float, errors: int, starts: Sequence[int]
) -> list[Number]:
    """Those that count in such steps, in their order."""
    return _in_steps(bits, columns, _usable(bits, columns), values, step, errors, starts, 0.0)


def _usable(bits: BitRows, columns: NDArray[np.intp]) -> NDArray[np.bool_]:
    """The columns that a number may stand in: some that may vary, and those that do not."""
    usable: NDArray[np.bool_] = (bits == bits[:1]).all(axis=0)
    usable[columns] = True
    return usable


def _has_whole_bytes_below(positions: Sequence[int]) -> bool:
    """Whether a number has more than one byte, and all of those below its highest one."""
    below = runs_of(positions)[1:]
    return bool(below) and all(piece.size % BYTE == 0 for piece in below)


def _bytes_turned(columns: int) -> NDArray[np.intp]:
    """The columns with the last whole byte first: a number whose lowest byte is sent first stands in a row then."""
    whole = columns - columns % BYTE
    turned = np.arange(whole).reshape(-1, BYTE)[::-1].ravel()
    return np.concatenate((turned, np.arange(whole, columns)))


def _in_steps(
    bits: BitRows, columns: NDArray[np.intp], usable: NDArray[np.bool_], values: Floats, step: float, errors: int,
    starts: Sequence[int], cost: float,
) -> list[Number]:  # fmt: skip
    """The numbers that count in such steps; ``cost`` is what the step itself costs."""
    q = np.rint((values - values.min()) / step).astype(np.int64)
    said, spread = of_numbers(q.astype(np.float64)), log10(float(np.ptp(q)) + 1)
    found = []
    for turned in (False, True):
        for run, encoding, offset in _runs(bits, usable, -q if turned else q, errors, not cost and not turned):
            scale = -step if turned else step
            raw = decoded(raw_numbers(bits, run), encoding, len(run))
            value_offset = round(float(values.min() - offset * scale), DIGITS)
            holds = np.abs(raw * scale + value_offset - values) < 1e-6 * max(1.0, step)
            wrong, given = int(np.sum(~holds)), offset_cost(value_offset, scale)
            if wrong > errors or (encoding == "signed" and value_offset):  # nothing is added to what has its own sign
                continue
            laid = laid_cost(bits, run, encoding, scale, value_offset, starts) + cost
            # What the number begins with is a witness too, as far as no offset was made for it.
            begins = max(log10(float(np.abs(raw).max()) + 1) - given, 0.0)
            tried = log10(2 * columns.size * comb(len(values), wrong)) + laid + wrong * spread - begins
            explained = EXPLAINED * int(np.count_nonzero(np.ptp(bits[:, run], axis=0)))
            line = round(scale, DIGITS), value_offset
            chances = tried - min(said), tried - said[0]
            found.append(Number(run, encoding, *line, holds, *chances, laid + given - explained))
    return found


def _runs(
    bits: BitRows, usable: NDArray[np.bool_], q: NDArray[np.int64], errors: int, decimal: bool
) -> Iterator[tuple[tuple[int, ...], Encoding, int]]:
    """Runs, most significant bit first, whose number is q and a constant, and that constant."""
    for row in np.unique(np.linspace(0, len(q) - 1, 3 if errors else 1).astype(int)).tolist():
        for direction in (1, -1):  # of the higher bits
            for run, encoding, number in _binary(bits, usable, q, row, direction, errors):
                yield run, encoding, int(number - q[row])
            for run, number in _decimal(bits, usable, q, row, direction, errors) if decimal else ():
                yield run, "bcd", int(number - q[row])


def _binary(
    bits: BitRows, usable: NDArray[np.bool_], q: NDArray[np.int64], row: int, direction: int, errors: int
) -> Iterator[tuple[tuple[int, ...], Encoding, int]]:
    """Runs with their number in a row, which goes up and down with q in all rows but ``errors``."""
    apart, columns = q - q[row], bits.shape[1]
    low = np.flatnonzero(usable)
    raw = np.zeros((low.size, len(q)), np.int64)
    for width in range(1, WIDEST + 1):
        at = low + direction * (width - 1)
        inside = (at >= 0) & (at < columns)
        inside[inside] = usable[at[inside]]
        low, at = low[inside], at[inside]
        raw = raw[inside] + (bits[:, at].T.astype(np.int64) << (width - 1))
        # The bits so far say q modulo 2^width, whatever stands above them.
        fits = np.sum((raw - raw[:, [row]] - apart) & ((1 << width) - 1) != 0, axis=1) <= errors
        low, raw = low[fits], raw[fits]
        if not low.size:
            return
        signed = raw - ((raw >> (width - 1)) << width)
        as_binary, as_signed = (np.sum(n - n[:, [row]] != apart, axis=1) <= errors for n in (raw, signed))
        for n in np.flatnonzero(as_binary | as_signed).tolist():
            run = tuple((low[n] + direction * np.arange(width - 1, -1, -1)).tolist())
            if as_binary[n]:
                yield run, "binary", int(raw[n, row])
            if as_signed[n]:
                yield run, "signed", int(signed[n, row])


def _decimal(
    bits: BitRows, usable: NDArray[np.bool_], q: NDArray[np.int64], row: int, direction: int, errors: int
) -> Iterator[tuple[tuple[int, ...], int]]:
    """The same of numbers in BCD; the first digit may have less than four bits."""
    apart, columns = q - q[row], bits.shape[1]
    low = np.flatnonzero(usable)
    number = np.zeros((low.size, len(q)), np.int64)
    wrong = np.zeros((low.size, len(q)), np.bool_)
    for place in range(WIDEST // 4):
        for width in (1, 2, 3, 4):
            at = low[:, None] + direction * (4 * place + np.arange(width))  # the lowest bit first
            inside = (at.min(axis=1) >= 0) & (at.max(axis=1) < columns)
            inside[inside] = usable[at[inside]].all(axis=1)
            digit = np.tensordot(bits[:, at[inside]].astype(np.int64), 1 << np.arange(width), axes=1).T  # (runs, rows)
            with_it, none = number[inside] + digit * 10**place, wrong[inside] | (digit > 9)
            moved = with_it - with_it[:, [row]]
            for n in np.flatnonzero(np.sum(none | (moved != apart), axis=1) <= errors).tolist() if place else ():
                run = low[inside][n] + direction * np.arange(4 * place + width - 1, -1, -1)
                yield tuple(run.tolist()), int(with_it[n, row])
        fits = np.sum(none | ((moved - apart) % 10 ** (place + 1) != 0), axis=1) <= errors
        low, number, wrong = low[inside][fits], with_it[fits], none[fits]
        if not low.size:
            return


def offset_cost(offset: float, scale: float) -> float:
    """log10 of how many offsets a maker would choose as soon, in what is shown or in what is sent."""
    return A_DIGIT * min(_digits(offset), _digits(offset / scale) + 0.5 if offset else 0)


def laid_cost(
    bits: BitRows, run: Sequence[int], encoding: Encoding, scale: float, offset: float, starts: Sequence[int] = (0,)
) -> float:
    """log10 of how many places, widths and encodings a maker would choose as soon."""
    cost = (0.0 if encoding == "binary" else OTHER_ENCODING) + (OTHER_SIGN if scale < 0 else 0.0)
    moves = np.flatnonzero(np.ptp(bits[:, list(run)], axis=0))
    unmoved = int(moves[0]) if moves.size else len(run)
    if len(run) - unmoved < WIDE:
        return cost + UNMOVED * unmoved
    start = max(each for each in starts if each <= min(run))
    raw = raw_numbers(bits, run)
    falls = float(np.mean(np.diff(raw) < 0)) > MOST_FALLS
    if scale <= TENTH and falls and len(run) < TENTHS:
        cost += NARROW
    zeros = len(run) - int(raw.max()).bit_length()
    could_freeze = scale < 1 and offset == 0 and falls and len(run) >= SIGNED_FROM
    if encoding == "binary" and could_freeze and zeros >= HEADROOM:
        cost += NEVER_BELOW
    room = BYTE if len(run) > BYTE else NIBBLE
    if not falls and zeros < ROOM and _are_zeros_above(bits, run, start, room):
        cost += NO_ROOM
    elif len(run) > BYTE and (rest := _rest_of_byte(run, start)) and _are_zeros_above(bits, run, start, rest):
        cost += OFF_BORDER
    border = 4 if falls else BYTE  # what only grows is a count, and has room to grow
    ends = (min(run) - start, max(run) + 1 - start)
    return cost + sum(OFF_NIBBLE if end % 4 else OFF_BORDER if end % border else 0.0 for end in ends)


def _rest_of_byte(run: Sequence[int], start: int) -> int:
    """How many bits of its highest byte stand above a number."""
    return (run[0] - start) % BYTE if run[0] < run[-1] else BYTE - 1 - (run[0] - start) % BYTE


def _are_zeros_above(bits: BitRows, run: Sequence[int], start: int, count: int) -> bool:
    """Whether so many bits above a number were never set."""
    above = run[0] + (-1 if run[0] < run[-1] else 1) * np.arange(1, count + 1)
    return bool(above.min() >= start and above.max() < bits.shape[1] and not bits[:, above].any())


def _digits(number: float) -> int:
    """How many digits a number has, without the zeros at either end."""
    return len(f"{abs(number):.{DIGITS}f}".replace(".", "").strip("0"))
