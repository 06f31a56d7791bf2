"""The protocol sheet: what a TOML sheet may say. docs/sheets.md explains it key by key."""

from __future__ import annotations

from functools import cached_property
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    PositiveFloat,
    PositiveInt,
    model_validator,
)

from eager_tern.linecode.values import Bits, Code
from eager_tern.protocol.positions import Positions, parse_positions

MOST_BITS = 4096


def _positions(value: Any) -> Any:
    return parse_positions(value) if isinstance(value, str) else value


Bitwise = Annotated[Positions, BeforeValidator(_positions)]
SignedUnits = Annotated[tuple[float, ...], Field(min_length=1)]
Shape = tuple[tuple[tuple[float, ...] | None, int | None, int, float | None], ...]
Id = Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]*$")]


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, arbitrary_types_allowed=True)


class Part(Strict):
    """One stretch of a frame: fixed pulses, bits, or a gap between sections. Exactly one of the three."""

    pulses: SignedUnits | None = None
    bits: PositiveInt | None = None
    stretch: PositiveInt = 1
    gap_us: PositiveFloat | None = None

    @model_validator(mode="after")
    def _one_of(self) -> Part:
        given = [self.pulses is not None, self.bits is not None, self.gap_us is not None]
        if sum(given) != 1:
            raise ValueError('a part has one of "pulses", "bits" and "gap_us"')
        if self.stretch != 1 and self.bits is None:
            raise ValueError('"stretch" goes with "bits"')
        return self


class FrameKind(Strict):
    """One kind of frame the protocol sends. A ``repeat`` stands for the frame before it."""

    name: str
    repeat: bool = False
    parts: Annotated[tuple[Part, ...], Field(min_length=1)]

    @cached_property
    def bit_count(self) -> int:
        return sum(part.bits or 0 for part in self.parts)

    @cached_property
    def shape(self) -> Shape:
        """Its parts as plain values, quick to compare."""
        return tuple((part.pulses, part.bits, part.stretch, part.gap_us) for part in self.parts)

    @cached_property
    def section_count(self) -> int:
        return 1 + sum(part.gap_us is not None for part in self.parts)


class Press(Strict):
    """What one press of a key sends: ``first`` (``count`` times), then ``held`` for as long as the key is held."""

    first: str
    held: str
    count: PositiveInt = 1
    period_us: PositiveFloat | None = None
    gap_us: PositiveFloat | None = None

    @model_validator(mode="after")
    def _one_rhythm(self) -> Press:
        if (self.period_us is None) == (self.gap_us is None):
            raise ValueError('a press has either "period_us" (start to start) or "gap_us" (end to start)')
        return self


class DataField(Strict):
    """A number in the frame."""

    name: Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]*$")]
    bits: Bitwise
    role: Literal["toggle", "counter"] | None = None
    default: int = 0

    @property
    def largest(self) -> int:
        return (1 << self.bits.width) - 1

    @model_validator(mode="after")
    def _default_fits(self) -> DataField:
        if not 0 <= self.default <= self.largest:
            raise ValueError(f"default {self.default} does not fit {self.bits.width} bits")
        return self


class TextField(Strict):
    """Bits read as characters: each of ``digits`` names a group of bits and the character it stands for."""

    name: Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]*$")]
    bits: Bitwise
    digits: Annotated[dict[str, str], Field(min_length=1)]

    @model_validator(mode="after")
    def _digits_fit(self) -> TextField:
        sizes = {len(group) for group in self.digits}
        if len(sizes) != 1 or any(set(group) - {"0", "1"} for group in self.digits):
            raise ValueError('"digits" names groups of 0 and 1, all of one length')
        if self.bits.width % sizes.pop():
            raise ValueError(f"{self.bits.width} bits cannot be parted into groups of that length")
        return self

    def read(self, bits: Bits) -> str | None:
        """The characters at these positions; None where a group stands for none."""
        size = len(next(iter(self.digits)))
        row = "".join(map(str, (bits[self.bits.index] ^ self.bits.inverted).tolist()))
        found = [self.digits.get(row[i : i + size]) for i in range(0, len(row), size)]
        return None if None in found else "".join(map(str, found))


class Check(Strict):
    """A number that follows from other bits; the keys are those of a comparison's ``checks``."""

    name: str
    kind: Literal["constant", "complement", "sum", "xor", "parity", "crc"]
    at: Bitwise
    of: Bitwise | None = None
    covers: tuple[tuple[int, int], ...] = ()
    value: int = 0
    unit: PositiveInt = 8
    order: Literal["lsb", "msb"] = "lsb"
    init: int = 0
    negate: bool = False
    swap: bool = False
    xor_out: int = 0
    poly: int = 0
    reflect_in: bool = False
    reflect_out: bool = False

    @model_validator(mode="after")
    def _complete(self) -> Check:
        if self.kind == "constant":
            if self.value >> self.at.width or self.value < 0:
                raise ValueError(f"value {self.value} does not fit {self.at.width} bits")
            return self
        if (self.of is None) == (not self.covers):
            raise ValueError('a check has one of "of" (bit positions) and "covers" (ranges [first, last])')
        if self.kind == "complement" and (self.of is None or self.of.width != self.at.width):
            raise ValueError('a complement has "of" with as many bits as "at"')
        if self.kind == "crc" and not self.poly:
            raise ValueError('a crc has a "poly"')
        if any(first > last or first < 0 for first, last in self.covers):
            raise ValueError('"covers" lists ranges [first, last], the smaller first')
        return self


class Sheet(Strict):
    """A protocol: how its frames look and what their bits mean."""

    id: Id
    name: str
    about: str = ""
    family: str = ""
    unit_us: PositiveFloat
    carrier_hz: PositiveFloat | None = None
    tolerance: Annotated[float, Field(gt=0, lt=0.5)] = 0.2
    zero: SignedUnits
    one: SignedUnits
    frames: Annotated[tuple[FrameKind, ...], Field(min_length=1)]
    press: Press
    fields: tuple[DataField, ...] = ()
    texts: tuple[TextField, ...] = ()
    checks: tuple[Check, ...] = ()

    @model_validator(mode="after")
    def _hangs_together(self) -> Sheet:
        names = [kind.name for kind in self.frames]
        if len(set(names)) != len(names):
            raise ValueError("two frames have one name")
        for wanted in (self.press.first, self.press.held):
            if wanted not in names:
                raise ValueError(f'press names a frame "{wanted}" that is not described')
        counts = {kind.bit_count for kind in self.frames if kind.bit_count}
        if len(counts) > 1:
            raise ValueError("frames with bits must all have the same number of them")
        for key, symbol in (("zero", self.zero), ("one", self.one)):
            if np.any(np.diff(np.sign(symbol)) == 0) or 0 in symbol:
                raise ValueError(f'"{key}" alternates marks (positive) and spaces (negative)')
        count = self.bit_count
        if count > MOST_BITS:
            raise ValueError(f"a frame has at most {MOST_BITS} bits")
        named: tuple[DataField | TextField, ...] = (*self.fields, *self.texts)
        places = [(f.name, f.bits) for f in named] + [(c.name, c.at) for c in self.checks]
        for name, where in places:
            if int(where.index.max()) >= count:
                raise ValueError(f'"{name}" uses bit {int(where.index.max())}, but a frame has {count} bits')
        for check in self.checks:
            last = max([b for _, b in check.covers] + ([int(check.of.index.max())] if check.of else []), default=0)
            if last >= count:
                raise ValueError(f'"{check.name}" covers bit {last}, but a frame has {count} bits')
        field_names = [field.name for field in named]
        if len(set(field_names)) != len(field_names):
            raise ValueError("two fields have one name")
        return self

    @cached_property
    def bit_count(self) -> int:
        return max(kind.bit_count for kind in self.frames)

    @cached_property
    def code(self) -> Code:
        """The line code's name, which follows from its symbols."""
        if np.sign(self.zero[0]) != np.sign(self.one[0]):
            return "biphase"
        return "pulse-distance" if self.zero[0] == self.one[0] else "pulse-width"

    def frame(self, name: str) -> FrameKind:
        return next(kind for kind in self.frames if kind.name == name)
