"""The protocol sheet: what a TOML sheet may say. docs/sheets.md explains it key by key."""

from __future__ import annotations

from functools import cached_property
from itertools import pairwise
from typing import Annotated, Literal

import numpy as np
from msgspec import Meta

from eager_tern.linecode.values import Bits, Code, Framing, character_length
from eager_tern.protocol.fields import DataField, Finite, ListField, Names, PositiveInt, Strict, TextField
from eager_tern.protocol.positions import WIDEST, Positions

MOST_BITS = 4096


PositiveFloat = Annotated[float, Meta(gt=0, lt=1e30)]
SignedUnits = Annotated[tuple[Finite, ...], Meta(min_length=1)]
Shape = tuple[tuple[tuple[float, ...] | None, int | None, int, float | None], ...]
Id = Annotated[str, Meta(pattern=r"^[a-z0-9][a-z0-9-]*$")]


class Part(Strict, frozen=True):
    """One stretch of a frame: fixed pulses, bits, or a gap between sections. Exactly one of the three."""

    pulses: SignedUnits | None = None
    bits: PositiveInt | None = None
    stretch: PositiveInt = 1
    gap_us: PositiveFloat | None = None

    def __post_init__(self) -> None:
        given = [self.pulses is not None, self.bits is not None, self.gap_us is not None]
        if sum(given) != 1:
            raise ValueError('a part has one of "pulses", "bits" and "gap_us"')
        if self.stretch != 1 and self.bits is None:
            raise ValueError('"stretch" goes with "bits"')


class Serial(Strict, frozen=True):
    """How characters are framed: a start bit (a mark), data bits with the lowest first, parity, stop bits (a space)."""

    data_bits: Annotated[int, Meta(ge=5, le=8)] = 8
    parity: Literal["none", "odd", "even"] = "none"
    stop_bits: Literal[1, 2] = 1

    @property
    def framing(self) -> Framing:
        return self.data_bits, self.parity, self.stop_bits

    @property
    def length(self) -> int:
        """Of a character, in bits."""
        return character_length(self.framing)


class FrameKind(Strict, frozen=True, kw_only=True):
    """One kind of frame the protocol sends. A ``repeat`` stands for the frame before it.

    The bits at ``inverts`` are sent the other way round in this kind.
    """

    name: str
    repeat: bool = False
    inverts: Positions | None = None
    parts: Annotated[tuple[Part, ...], Meta(min_length=1)]

    @cached_property
    def bit_count(self) -> int:
        return sum(part.bits or 0 for part in self.parts)

    @property
    def leader(self) -> tuple[float, ...]:
        """The pulses before its first bit, in units; none where it begins with bits."""
        return self.parts[0].pulses or ()

    @cached_property
    def shape(self) -> Shape:
        """Its parts as plain values, quick to compare."""
        return tuple((part.pulses, part.bits, part.stretch, part.gap_us) for part in self.parts)

    @cached_property
    def section_count(self) -> int:
        return 1 + sum(part.gap_us is not None for part in self.parts)

    @cached_property
    def sections(self) -> tuple[int, ...]:
        """Bits of each section that has any."""
        counts = [0]
        for part in self.parts:
            if part.gap_us is not None:
                counts.append(0)
            counts[-1] += part.bits or 0
        return tuple(count for count in counts if count)

    def turned(self, bits: Bits) -> Bits:
        """Bits as sent from bits as meant, or the other way round; those of one frame, or of several, a row each."""
        if self.inverts is None or bits.size == 0:
            return bits
        turned = bits.copy()
        turned[..., self.inverts.index] ^= 1
        return turned


class Rhythm(Strict, frozen=True):
    """What one press of a key sends: ``first`` (``count`` times), then ``held`` for as long as the key is held.

    Both are one kind of frame, or several that follow each other.
    """

    first: Names
    held: Names
    count: PositiveInt = 1
    period_us: PositiveFloat | None = None
    gap_us: PositiveFloat | None = None

    def __post_init__(self) -> None:
        if (self.period_us is None) == (self.gap_us is None):
            raise ValueError('a press has either "period_us" (start to start) or "gap_us" (end to start)')


class Check(Strict, frozen=True):
    """A number that follows from other bits; the keys are those of a comparison's ``checks``.

    ``seeds`` give what it begins with for each number that stands at ``by``, ``init`` for all others.
    """

    name: str
    kind: Literal["constant", "copy", "complement", "sum", "xor", "ones", "parity", "crc", "linear"]
    at: Positions
    of: Positions | None = None
    covers: tuple[tuple[int, int], ...] = ()
    value: int = 0
    unit: PositiveInt = 8
    order: Literal["lsb", "msb"] = "lsb"
    init: int = 0
    by: Positions | None = None
    seeds: dict[int, int] = {}  # noqa: RUF012 - msgspec copies it
    negate: bool = False
    carry: bool = False
    modulus: Annotated[int, Meta(ge=0)] = 0
    rotate: int = 0
    swap: bool = False
    xor_out: int = 0
    poly: int = 0
    reflect_in: bool = False
    reflect_out: bool = False
    columns: tuple[int, ...] = ()

    def __post_init__(self) -> None:
        if self.kind == "constant":
            if self.value >> self.at.width or self.value < 0:
                raise ValueError(f"value {self.value} does not fit {self.at.width} bits")
            return
        if (self.of is None) == (not self.covers):
            raise ValueError('a check has one of "of" (bit positions) and "covers" (ranges [first, last])')
        if self.kind in ("copy", "complement") and (self.of is None or self.of.width != self.at.width):
            raise ValueError(f'a {self.kind} has "of" with as many bits as "at"')
        if self.modulus and self.kind not in ("sum", "ones"):
            raise ValueError('"modulus" goes with a sum, or with the number of ones')
        if self.rotate and self.kind not in ("sum", "xor"):
            raise ValueError('"rotate" goes with a sum or an exclusive-or')
        if (self.by is None) != (not self.seeds):
            raise ValueError('"by" (bit positions) and "seeds" (what it begins with) go together')
        if self.by is not None and any(not 0 <= raw < 1 << self.by.width for raw in self.seeds):
            raise ValueError(f'"seeds" names numbers that do not fit {self.by.width} bits')
        if self.kind == "crc" and not self.poly:
            raise ValueError('a crc has a "poly"')
        if self.kind == "linear" and len(self.columns) != sum(last - first + 1 for first, last in self.covers):
            raise ValueError('a linear check has in "columns" a number for each bit that it covers')
        if any(first > last or first < 0 for first, last in self.covers):
            raise ValueError('"covers" lists ranges [first, last], the smaller first')

    @cached_property
    def units(self) -> tuple[Positions, ...]:
        """Where the numbers stand that it is made of, in order: pieces of ``unit`` bits of what it covers, of a linear
        check single bits.
        """
        if self.of is not None:
            return (self.of,)
        step = 1 if self.kind == "linear" else self.unit
        pieces = [np.arange(at, min(at + step, b + 1)) for a, b in self.covers for at in range(a, b + 1, step)]
        ordered = [piece[::-1] if self.order == "lsb" else piece for piece in pieces]
        return tuple(Positions(piece, np.zeros(piece.size, np.uint8)) for piece in ordered)

    @cached_property
    def fits_arrays(self) -> bool:
        """Whether its numbers are so small that arrays can hold them; others are computed with Python's."""
        given = (self.init, self.xor_out, self.poly, self.modulus, *self.seeds.values(), *self.columns)
        return self.at.width <= WIDEST and all(abs(number) >> WIDEST == 0 for number in given)


def _expect_turns(kind: FrameKind, alphabet: tuple[tuple[float, ...], ...]) -> None:
    """Raise ValueError where two marks or two spaces follow each other in a code whose symbols do not join."""
    before = -1.0
    for part in kind.parts:
        if part.gap_us is not None:
            before = -1.0
            continue
        pulses = part.pulses if part.pulses is not None else alphabet[0]
        for length in pulses:
            if length == 0 or np.sign(length) == np.sign(before):
                name = "marks" if length > 0 else "spaces"
                raise ValueError(f'frame "{kind.name}" has two {name} in a row, or a pulse of no length')
            before = length


class Sheet(Strict, frozen=True, kw_only=True):
    """A protocol: how its frames look and what their bits mean."""

    id: Id
    name: str
    about: str = ""
    family: str = ""
    unit_us: PositiveFloat
    carrier_hz: PositiveFloat | None = None
    tolerance: Annotated[float, Meta(gt=0, lt=0.5)] = 0.2
    weight: Annotated[float, Meta(gt=0, le=1)] = 1.0
    overrules: bool = False
    mark_excess_us: Finite | None = None
    zero: SignedUnits | None = None
    one: SignedUnits | None = None
    symbols: tuple[SignedUnits, ...] = ()
    serial: Serial | None = None
    frames: Annotated[tuple[FrameKind, ...], Meta(min_length=1)]
    press: Rhythm
    blank: Annotated[str, Meta(pattern=r"^[01]*$")] = ""
    fields: tuple[DataField, ...] = ()
    texts: tuple[TextField, ...] = ()
    lists: tuple[ListField, ...] = ()
    checks: tuple[Check, ...] = ()

    def __post_init__(self) -> None:
        names = [kind.name for kind in self.frames]
        if len(set(names)) != len(names):
            raise ValueError("two frames have one name")
        for wanted in (*self.press.first, *self.press.held):
            if wanted not in names:
                raise ValueError(f'press names a frame "{wanted}" that is not described')
        counts = {kind.bit_count for kind in self.frames if kind.bit_count}
        if len(counts) > 1:
            raise ValueError("frames with bits must all have the same number of them")
        self._symbols_are_possible()
        count = self.bit_count
        if count > MOST_BITS:
            raise ValueError(f"a frame has at most {MOST_BITS} bits")
        if self.blank and len(self.blank) != count:
            raise ValueError(f'"blank" has {len(self.blank)} bits, but a frame has {count}')
        placed: tuple[DataField | TextField, ...] = (*self.fields, *self.texts)
        places = [(f.name, f.bits) for f in placed] + [(c.name, c.at) for c in self.checks]
        places += [(kind.name, kind.inverts) for kind in self.frames if kind.inverts is not None]
        for name, where in places:
            if int(where.index.max()) >= count:
                raise ValueError(f'"{name}" uses bit {int(where.index.max())}, but a frame has {count} bits')
        for check in self.checks:
            last = max([b for _, b in check.covers] + ([int(check.of.index.max())] if check.of else []), default=0)
            if last >= count:
                raise ValueError(f'"{check.name}" covers bit {last}, but a frame has {count} bits')
        self._fields_hang_together()

    def _fields_hang_together(self) -> None:
        placed: tuple[DataField | TextField, ...] = (*self.fields, *self.texts)
        field_names = [*(field.name for field in placed), *(field.name for field in self.lists)]
        if len(set(field_names)) != len(field_names) - sum(len(alike) - 1 for alike in self.fields_by_name.values()):
            raise ValueError("two fields have one name")
        for name, alike in self.fields_by_name.items():
            said = [(other, value) for field in alike for other, values in field.when.items() for value in values]
            if len(alike) > 1 and (not all(len(f.when) == 1 for f in alike) or len(set(said)) != len(said)):
                raise ValueError(f'several fields have one name, "{name}": give each a "when" that no other has')
        for field in self.fields:
            for other in field.when:
                if other not in field_names:
                    raise ValueError(f'"{field.name}" depends on "{other}", which is no field')

    @cached_property
    def fields_by_name(self) -> dict[str, tuple[DataField, ...]]:
        """The fields of each name; of several, one means something at a time."""
        found: dict[str, tuple[DataField, ...]] = {}
        for each in self.fields:
            found[each.name] = (*found.get(each.name, ()), each)
        return found

    @cached_property
    def conditional(self) -> dict[str, tuple[DataField, ...]]:
        """Those of them that mean something under a condition only."""
        return {name: alike for name, alike in self.fields_by_name.items() if any(field.when for field in alike)}

    @cached_property
    def bounded(self) -> tuple[DataField, ...]:
        """The fields of which it is known with what values they were found out."""
        return tuple(field for field in self.fields if field.seen is not None)

    @cached_property
    def _hash(self) -> int:
        return hash((self.id, self.name, self.unit_us))  # the rest holds tables, and seldom tells sheets apart

    def __hash__(self) -> int:
        return self._hash

    def _symbols_are_possible(self) -> None:
        given = [self.zero is not None and self.one is not None, bool(self.symbols), self.serial is not None]
        if sum(given) != 1 or (self.zero is None) != (self.one is None):
            raise ValueError('a sheet has "zero" and "one", or "symbols", or "serial"')
        if self.symbols and not 3 <= len(self.symbols) <= 16:
            raise ValueError('"symbols" lists 3 to 16 of them, for bits in groups of 2, 3 or 4')
        for number, symbol in enumerate(self.alphabet):
            if any(one * other >= 0 for one, other in pairwise((*symbol, -symbol[-1]))):
                key = f"symbol {number}" if self.symbols else ("zero", "one")[number]
                raise ValueError(f'"{key}" alternates marks (positive) and spaces (negative)')
        if len(set(self.alphabet)) < len(self.alphabet):
            raise ValueError("two symbols are the same, so that no frame could be read")
        if self.alphabet and len({len(symbol) for symbol in self.alphabet}) == 1 and self.alphabet[0][0] > 0:
            for kind in self.frames:
                _expect_turns(kind, self.alphabet)
        group = self.serial.data_bits if self.serial is not None else self.bits_a_symbol
        if any((part.bits or 0) % group for kind in self.frames for part in kind.parts):
            raise ValueError(f"bits come in groups of {group} here")

    @cached_property
    def alphabet(self) -> tuple[tuple[float, ...], ...]:
        """Its symbols in the order of the numbers they stand for; none in asynchronous serial."""
        if self.zero is not None and self.one is not None:
            return (self.zero, self.one)
        return self.symbols

    @cached_property
    def bits_a_symbol(self) -> int:
        return max(len(self.alphabet) - 1, 1).bit_length()

    @cached_property
    def bit_count(self) -> int:
        return max(kind.bit_count for kind in self.frames)

    @property
    def ground(self) -> str:
        """A frame's bits before fields and checks are written: those of ``blank``, else all 0."""
        return self.blank or "0" * self.bit_count

    @cached_property
    def code(self) -> Code:
        """The line code's name, which follows from its symbols."""
        if self.serial is not None:
            return "async-serial"
        if len({np.sign(symbol[0]) for symbol in self.alphabet}) > 1:
            return "biphase"
        return "pulse-distance" if len({symbol[::2] for symbol in self.alphabet}) == 1 else "pulse-width"

    @cached_property
    def leads(self) -> tuple[FrameKind, ...]:
        """The kinds of frame with bits, but for those that only follow while a key is held."""
        follow = set(self.press.held) - set(self.press.first)
        return tuple(kind for kind in self.frames if kind.bit_count and kind.name not in follow)

    def frame(self, name: str) -> FrameKind:
        return self._frames_by_name[name]

    @cached_property
    def _frames_by_name(self) -> dict[str, FrameKind]:
        return {kind.name: kind for kind in self.frames}
