"""A sheet as numbers that generated code works with: what each kind of frame is made of, in sixteenths of a µs."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

from msgspec import Struct
from msgspec.structs import replace

from eager_tern.errors import InputError
from eager_tern.export.names import free, member
from eager_tern.linecode.values import bits_of_text
from eager_tern.protocol.fields import DataField, in_words
from eager_tern.protocol.glance import symbol_width
from eager_tern.protocol.making import make_bits, nothing_rolled
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check, FrameKind, Sheet
from eager_tern.protocol.template import is_paired
from eager_tern.protocol.tolerance import coarsest, largest_excess

FINE = 16  # parts of a µs: rounding to whole ones adds up where symbols join
LEAST_EXCESS_US = 100.0  # every receiver lengthens marks by up to 80 µs, and estimating it adds some
# Between the clocks that reading begins with. A symbol that has pulses of its own is the nearest one, whatever clock
# and excess are off by; a pulse that may be so many units long has to come within half of one.
CLOCK_STEP, FINE_CLOCK_STEP = 0.05, 0.025
PIECE = 32  # bits: what is wider is checked in pieces, since 8-bit boards have no wider numbers at a fair price
WIDEST = 64  # bits of a number; what is wider is a row of bytes

ROLES = {
    "toggle": "turns round with each press",
    "counter": "counts the presses",
    "rolling": "new with each press, and nothing tells what it will be",
}
Run = tuple[int, int, bool]  # the first bit, the last, whether they are sent inverted


class Fixed(Struct, frozen=True):
    """Fixed lengths, signed, in sixteenths of a µs."""

    lengths: tuple[int, ...]


class Gap(Struct, frozen=True):
    """A silence between two sections, with the space before it."""

    length: int


class Symbols(Struct, frozen=True):
    """So many bits; ``open`` tells that the last one's last space runs into a silence, so that it is not seen."""

    bits: int
    stretch: int
    open: bool


Piece = Fixed | Gap | Symbols


class Kind(Struct, frozen=True):
    """A kind of frame."""

    name: str
    pieces: tuple[Piece, ...]
    pulses: int
    bits: int
    inverts: tuple[Run, ...]
    quiet_starts: int


class Member(Struct, frozen=True):
    """A field of the frame, or several of one name that mean something at different times.

    ``name`` is that of its member, ``width`` that of the widest of them.
    """

    name: str
    fields: tuple[DataField, ...]

    @property
    def field(self) -> DataField:
        return self.fields[0]

    @property
    def width(self) -> int:
        return max(field.bits.width for field in self.fields)


class Layout(Struct, frozen=True, dict=True):
    """What generators ask of a sheet."""

    sheet: Sheet

    @property
    def paired(self) -> bool:
        """Whether each symbol has pulses of its own."""
        return is_paired(self.sheet)

    @cached_property
    def members(self) -> tuple[Member, ...]:
        taken: set[str] = set()
        return tuple(Member(free(member(name), taken), alike) for name, alike in self.sheet.fields_by_name.items())

    def member_of(self, field: DataField) -> Member:
        return next(m for m in self.members if m.field.name == field.name)

    @property
    def unit(self) -> int:
        return round(self.sheet.unit_us * FINE)

    @property
    def symbols(self) -> tuple[tuple[int, ...], ...]:
        """The symbols' lengths, filled up with 0 to the longest."""
        table = [[round(length * self.sheet.unit_us * FINE) for length in symbol] for symbol in self.sheet.alphabet]
        longest = max(map(len, table), default=1)
        return tuple((*row, *[0] * (longest - len(row))) for row in table)

    @property
    def chips(self) -> tuple[int, ...]:
        """The symbols of a code in which they join, unit by unit: a 1 is a mark, the first unit the highest bit."""
        rows = []
        for symbol in self.sheet.alphabet:
            levels = [int(length > 0) for length in symbol for _ in range(round(abs(length)))]
            rows.append(int("".join(map(str, levels)), 2))
        return tuple(rows)

    @property
    def width(self) -> int:
        """Of a symbol whose pulses join, in units."""
        return symbol_width(self.sheet)

    @property
    def most_excess_us(self) -> int:
        most = float(largest_excess(self.sheet.unit_us)) * self.sheet.unit_us
        return round(max(most, LEAST_EXCESS_US))

    @property
    def most_misfit_us(self) -> int:
        """The greatest rms between ruler and edges."""
        return round(coarsest(self.sheet.alphabet) * self.sheet.unit_us)

    @property
    def clocks(self) -> list[float]:
        """Clocks to begin reading with, as parts of what the sheet says; the likeliest first."""
        steps = max(round(self.sheet.tolerance / (CLOCK_STEP if self.paired else FINE_CLOCK_STEP)), 1)
        return [1 + self.sheet.tolerance * step / steps for step in sorted(range(-steps, steps + 1), key=abs)]

    @property
    def excesses_us(self) -> list[int]:
        """Excesses of marks to begin with."""
        parts = (0, 0.5, -0.5) if self.paired else (0, 0.375, -0.375, 0.75, -0.75)
        return [round(part * self.most_excess_us) for part in parts]

    @cached_property
    def kinds(self) -> tuple[Kind, ...]:
        return tuple(self._kind(kind) for kind in self.sheet.frames)

    @cached_property
    def beside(self) -> tuple[int, ...]:
        """By how much the first pulses of a code whose symbols join are longer than whole units; empty: none is."""
        if self.paired or self.sheet.serial is not None:
            return ()
        pieces = (kind.pieces[0] for kind in self.kinds if kind.bits)
        first = next((piece.lengths for piece in pieces if isinstance(piece, Fixed)), ())
        over = tuple(abs(length) - round(abs(length) / self.unit) * self.unit for length in first)
        return over if any(abs(each) > FINE for each in over) else ()

    def _kind(self, kind: FrameKind) -> Kind:
        unit, sheet = self.sheet.unit_us * FINE, self.sheet
        pieces: list[Piece] = []
        quiet_starts, begins, pulses = 0, True, 0
        for part, after in zip(kind.parts, (*kind.parts[1:], None), strict=True):
            ends = after is None or after.gap_us is not None
            if part.pulses is not None:
                pieces.append(Fixed(tuple(round(length * unit) for length in part.pulses)))
                pulses += len(part.pulses)
            elif part.gap_us is not None:
                length = round(part.gap_us * FINE)
                before = pieces[-1] if pieces else None
                if isinstance(before, Fixed) and before.lengths[-1] < 0:  # the two are one silence
                    pieces[-1] = Fixed(before.lengths[:-1])
                    length -= before.lengths[-1]
                pieces.append(Gap(length))
                pulses += pulses % 2
            else:
                count = part.bits or 0
                pieces.append(Symbols(count, part.stretch, ends))
                quiet_starts += begins and not self.paired and sheet.serial is None
                if sheet.serial is not None:
                    pulses += count // sheet.serial.data_bits * sheet.serial.length
                else:
                    pulses += count // sheet.bits_a_symbol * len(self.symbols[0])
            begins = part.gap_us is not None
        inverts = runs(kind.inverts) if kind.inverts is not None else ()
        return Kind(kind.name, tuple(pieces), pulses - 1 + pulses % 2, kind.bit_count, inverts, quiet_starts)

    @cached_property
    def checks(self) -> tuple[Check, ...]:
        """The checks, wide ones that can be told bit by bit in pieces."""
        return tuple(piece for check in self.sheet.checks for piece in _in_pieces(check))

    @cached_property
    def wide(self) -> bool:
        """Whether any number has more than 32 bits."""
        numbers = [min(m.width, WIDEST) for m in self.members] + [check.at.width for check in self.checks]
        units = [check.unit for check in self.checks if check.covers]
        return max([*numbers, *(2 * unit for unit in units)], default=0) > PIECE

    @cached_property
    def defaults(self) -> dict[str, int]:
        """The raw number that each member has where nothing is said of it."""
        blank = bits_of_text(self.sheet.ground)
        try:
            bits = make_bits(self.sheet, nothing_rolled(self.sheet))
        except InputError:  # a field that cannot be 0 and has no default
            bits = blank
        values = {field.name: field.default for field in self.sheet.fields}
        found = {}
        for each in self.members:
            field = next((f for f in each.fields if f.means_something(values)), each.field)
            if field.means_something(values):
                found[each.name] = field.bits.read(bits)
            else:
                found[each.name] = field.bits.read(blank) if field.default is None else field.raw(field.default)
        return found

    def conditions(self, field: DataField) -> list[list[tuple[DataField, list[int]]]]:
        """When a field means anything: for each field that its ``when`` names, the raw numbers that let it, by variant.

        All have to hold, of the variants of each one.
        """
        return [
            [(other, _raws(other, values)) for other in self.sheet.fields_by_name.get(name, ())]
            for name, values in field.when.items()
        ]

    def otherwise(self, field: DataField) -> int | list[tuple[DataField, int, int]] | None:
        """What is sent where it means nothing: a raw number, or one for each raw number of other fields."""
        if not isinstance(field.otherwise, dict):
            return field.otherwise
        found = []
        for name in field.when:
            for other in self.sheet.fields_by_name.get(name, ()):
                few = range(1 << min(other.bits.width, 8))
                values = other.table.values() or [v for raw in few if isinstance(v := other.value(raw), int | float)]
                said = {in_words(value, 0): other.raw(value) for value in values}
                found += [(other, said[word], raw) for word, raw in field.otherwise.items() if word in said]
        return found


def runs(positions: Positions) -> tuple[Run, ...]:
    """Positions as runs of neighbours, most significant first."""
    found: list[list[int]] = []
    for at, inverted in zip(positions.index.tolist(), positions.inverted.tolist(), strict=True):
        last = found[-1] if found else None
        if last is not None and last[2] == inverted and abs(at - last[1]) == 1 and (at - last[1]) * last[3] >= 0:
            last[3] = at - last[1]
            last[1] = at
        else:
            found.append([at, at, inverted, 0])
    return tuple((first, last, bool(inverted)) for first, last, inverted, _ in found)


def slices(positions: Positions, size: int) -> list[Positions]:
    """Positions in pieces of so many bits, the first one what is left over."""
    width = positions.width
    starts = [0, *range(width % size or size, width, size)]
    ends = [*starts[1:], width]
    return [Positions(positions.index[a:b], positions.inverted[a:b]) for a, b in zip(starts, ends, strict=True)]


def _raws(field: DataField, values: Iterable[int | float | str]) -> list[int]:
    found = []
    for value in values:
        try:
            found.append(field.raw(value))
        except ValueError:
            continue
    return found


def _in_pieces(check: Check) -> list[Check]:
    """A wide constant, copy or complement as several narrow ones."""
    by_bits = check.kind in ("constant", "copy", "complement") and not check.negate and not check.swap
    if check.at.width <= PIECE or not by_bits:
        return [check]
    at = slices(check.at, PIECE)
    of = slices(check.of, PIECE) if check.of is not None else [None] * len(at)
    found, left = [], check.at.width
    for where, source in zip(at, of, strict=True):
        left -= where.width
        mask = (1 << where.width) - 1
        more = {"at": where, "of": source, "value": check.value >> left & mask, "xor_out": check.xor_out >> left & mask}
        found.append(replace(check, **more))
    return found
