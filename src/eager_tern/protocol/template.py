"""What the pulses of a sheet's frame look like, in units, before any bit is known."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.errors import InputError
from eager_tern.linecode.serial import character_levels
from eager_tern.linecode.values import Bits
from eager_tern.protocol.schema import FrameKind, Shape, Sheet
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed


class SymbolTemplate(Struct, frozen=True):
    """A frame in a code whose symbols all begin with a mark, end with a space and have as many pulses.

    ``lengths`` has shape (symbols, pulses): each pulse's length in units, should it belong to that symbol (the same
    in every row for fixed pulses; NaN for a gap between sections). ``place`` has one entry a pulse: the number of the
    symbol it belongs to, −1 for fixed pulses. ``fixed`` are the fixed pulses of known length, ``of_symbol`` (places,
    pulses of a symbol) the pulses of each; the frame's last space is not there, which its index −1 tells.
    """

    lengths: Floats
    place: NDArray[np.intp]
    fixed: NDArray[np.intp]
    of_symbol: NDArray[np.intp]
    bits_a_symbol: int


def is_paired(sheet: Sheet) -> bool:
    """Whether every symbol is marks and spaces of its own, so that pulses and symbols correspond one to one."""
    alphabet = sheet.alphabet
    return bool(alphabet) and all(
        len(symbol) == len(alphabet[0]) and len(symbol) % 2 == 0 and symbol[0] > 0 for symbol in alphabet
    )


@lru_cache(maxsize=512)
def _symbol_template(alphabet: tuple[tuple[float, ...], ...], bits_a_symbol: int, shape: Shape) -> SymbolTemplate:
    table = np.abs(np.array(alphabet))  # (symbols, pulses of one)
    columns: list[Floats] = []
    place: list[int] = []
    count = 0
    unknown = np.full(len(alphabet), np.nan)
    for pulses, bits_here, stretch, gap_us in shape:
        if pulses is not None:
            columns += [np.full(len(alphabet), abs(p)) for p in pulses]
            place += [-1] * len(pulses)
        elif gap_us is not None:
            if len(columns) % 2 == 0:  # the gap swallows the space before it
                columns[-1], place[-1] = unknown, -1
            else:
                columns.append(unknown)
                place.append(-1)
        else:
            here = (bits_here or 0) // bits_a_symbol
            columns += list(table.T * stretch) * here
            place += np.repeat(np.arange(count, count + here), table.shape[1]).tolist()
            count += here
    if len(columns) % 2 == 0:  # the last space runs into the silence behind the frame
        columns.pop(), place.pop()
    lengths, places = np.array(columns).T, np.array(place, dtype=np.intp)
    of_symbol = np.full((count, table.shape[1]), -1, dtype=np.intp)
    at = np.flatnonzero(places >= 0)
    order = np.arange(at.size) - np.searchsorted(places[at], places[at])
    of_symbol[places[at], order] = at
    fixed = np.flatnonzero((places < 0) & ~np.isnan(lengths[0]))
    return SymbolTemplate(lengths, places, fixed, of_symbol, bits_a_symbol)


def symbol_template(sheet: Sheet, kind: FrameKind) -> SymbolTemplate:
    return _symbol_template(sheet.alphabet, sheet.bits_a_symbol, kind.shape)


def signed_units(sheet: Sheet, kind: FrameKind, bits: Bits) -> Floats:
    """A frame's signed lengths in units, symbol by symbol (neighbours of one sign are not yet joined)."""
    lengths: list[float] = []
    position = 0
    for part in kind.parts:
        if part.pulses is not None:
            lengths += part.pulses
        elif part.gap_us is not None:
            lengths.append(-part.gap_us / sheet.unit_us)
        else:
            here = bits[position : position + (part.bits or 0)]
            position += here.size
            if sheet.serial is not None:
                levels = character_levels(here, sheet.serial.framing)
                lengths += np.where(levels, 1.0, -1.0).ravel().tolist()
                continue
            for group in here.reshape(-1, sheet.bits_a_symbol).tolist():
                number = int("".join(map(str, group)), 2)
                if number >= len(sheet.alphabet):
                    raise InputError(f"sheet {sheet.id}", f"bits {number:0{sheet.bits_a_symbol}b} stand for no symbol")
                symbol = sheet.alphabet[number]
                lengths += [length * part.stretch for length in symbol]
    return np.array(lengths)


def frame_pulses(sheet: Sheet, kind: FrameKind, bits: Bits) -> Pulses:
    """The pulses of a frame, its first mark at 0. ``bits`` are as meant, whatever the kind inverts."""
    lengths = signed_units(sheet, kind, kind.turned(bits)) * sheet.unit_us
    made = pulses_from_signed(lengths, 0.0, sheet.carrier_hz)
    return Pulses(made.durations_us, 0.0, sheet.carrier_hz)


@lru_cache(maxsize=512)
def rest_us(sheet: Sheet) -> float:
    """The longest silence between the frames of a press (µs), that behind its shortest frame."""
    if sheet.press.gap_us is not None:
        return sheet.press.gap_us
    kind = sheet.frame(sheet.press.held[0])
    shortest = frame_pulses(sheet, kind, np.zeros(kind.bit_count, np.uint8))
    return max((sheet.press.period_us or 0.0) - shortest.duration_us, 0.0)
