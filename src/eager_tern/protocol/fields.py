"""Fields: what the bits at some positions stand for."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Annotated, Any, Literal, TypeVar

from msgspec import NODEFAULT, Meta, Struct, convert

from eager_tern.linecode.values import Bits
from eager_tern.protocol.positions import Positions, parse_positions

Value = int | float | str | tuple[int, ...] | None  # None: the bits stand for nothing
Name = Annotated[str, Meta(pattern=r"^[a-z][a-z0-9_]*$")]
PositiveInt = Annotated[int, Meta(ge=1)]
Finite = Annotated[float, Meta(gt=-1e30, lt=1e30)]  # neither infinite nor NaN
Word = int | Finite | str  # what a raw number may stand for


class Names(tuple[str, ...]):
    """One or several, as a sheet says them: a text or a list."""

    __slots__ = ()


Table = TypeVar("Table", bound="Strict")


class Strict(Struct, frozen=True, forbid_unknown_fields=True, dict=True):
    """A table of a sheet: what is not a key of it is refused."""

    def said(self) -> dict[str, Any]:
        """What it says, by the keys of a sheet, without what is usual."""
        usual = dict(zip(self.__struct_fields__[::-1], self.__struct_defaults__[::-1], strict=False))
        values = {name: getattr(self, name) for name in self.__struct_fields__}
        return {name: value for name, value in values.items() if value not in (usual.get(name, NODEFAULT), (), {})}


def from_keys(kind: type[Table], keys: Mapping[str, Any]) -> Table:
    """A table from what its keys say. Raises msgspec.ValidationError."""
    return convert(keys, kind, str_keys=True, dec_hook=_taken)


def _taken(kind: type, value: Any) -> Any:
    """A value of a type of our own."""
    if kind is Positions:
        if not isinstance(value, str | Positions):
            raise ValueError('expected bit positions, as in "7-0"')
        return parse_positions(value) if isinstance(value, str) else value
    several = (value,) if isinstance(value, str) else value
    if not isinstance(several, list | tuple) or not several or not all(isinstance(name, str) for name in several):
        raise ValueError("expected a text, or a list of one or more texts")
    return Names(several)


class DataField(Strict, frozen=True):
    """A number in the frame, or a word that it stands for.

    The raw number at ``bits`` is decoded by ``encoding``; ``table`` then names words for it, or scale and offset make
    the value of it. What a table of words lacks is the number itself; what one of numbers lacks has no value (None).
    ``when`` names other fields and the values with which this one means anything; ``otherwise`` is the raw number that
    is sent where it means nothing: always, or by the value of the field that ``when`` names. ``seen`` are the lowest
    and the highest value that it was found out with. With ``decimals`` the value is rounded, as a display shows it: it
    is sent in other steps, the nearest of which is taken.
    """

    name: Name
    bits: Positions
    role: Literal["toggle", "counter", "rolling"] | None = None
    encoding: Literal["binary", "signed", "magnitude", "bcd", "gray"] = "binary"
    scale: Finite = 1
    offset: Finite = 0
    decimals: Annotated[int, Meta(ge=0, le=9)] | None = None
    unit: str = ""
    base: Literal[10, 16] | None = None
    table: dict[int, Word] = {}
    when: dict[str, tuple[Word, ...]] = {}
    default: Word | None = None
    otherwise: int | dict[str, int] | None = None
    seen: tuple[Finite, Finite] | None = None

    def __post_init__(self) -> None:
        if self.scale == 0:
            raise ValueError('"scale" is 0: every value would be the same')
        if self.table and (self.scale, self.offset) != (1, 0):
            raise ValueError('a field has either a "table" or "scale" and "offset"')
        if any(not 0 <= raw < 1 << self.bits.width for raw in self.table):
            raise ValueError(f"the table names numbers that do not fit {self.bits.width} bits")
        if self.default is not None:
            self.raw(self.default)
        if self.seen is not None and self.seen[0] > self.seen[1]:
            raise ValueError('"seen" is the lowest value and the highest, in this order')

    def is_beyond(self, value: Value) -> bool:
        """Whether a value lies outside what was seen when the field was found out."""
        return self.seen is not None and isinstance(value, int | float) and not self.seen[0] <= value <= self.seen[1]

    @property
    def numbers(self) -> tuple[int, int]:
        """The lowest and the highest number that its bits can say, before scale and offset."""
        return _range(self.encoding, self.bits.width)

    @cached_property
    def _is_plain(self) -> bool:
        """Whether a raw number stands for itself."""
        return self.encoding == "binary" and not self.table and (self.scale, self.offset) == (1, 0)

    @cached_property
    def names_numbers(self) -> bool:
        """Whether the table's words are numbers, for one of which a raw number that it lacks would be taken."""
        return any(not isinstance(word, str) for word in self.table.values())

    @property
    def shown_width(self) -> int:
        """How many bits wide its value is shown in hex; 0: in decimal, as what is measured or set."""
        decimal = bool(self.unit) or (self.scale, self.offset) != (1, 0)
        return 0 if self.base == 10 or (self.base is None and decimal) else self.bits.width

    def means_something(self, values: Mapping[str, Value]) -> bool:
        """Whether the other fields' values are such that this one has a meaning."""
        return all(values.get(name) in allowed for name, allowed in self.when.items())

    def raw_otherwise(self, values: Mapping[str, Value]) -> int | None:
        """What is sent where it means nothing, by the other fields' values."""
        if not isinstance(self.otherwise, dict):
            return self.otherwise
        said = (values.get(name) for name in self.when)
        return next((self.otherwise[in_words(v, 0)] for v in said if in_words(v, 0) in self.otherwise), None)

    def read(self, bits: Bits) -> Value:
        """Its value in a frame's bits."""
        return self.value(self.bits.read(bits))

    def value(self, raw: int) -> Value:
        """What a raw number stands for."""
        if self._is_plain:
            return raw
        number = _decoded(self.encoding, raw, self.bits.width)
        if number is None:
            return None
        if self.table:
            return self.table.get(number, None if self.names_numbers else number)
        value = round(number * self.scale + self.offset, 9 if self.decimals is None else self.decimals)
        return int(value) if value == int(value) else value

    def raw(self, value: int | float | str) -> int:
        """The number to be sent for a value. Raises ValueError that names field and range."""
        if self.table:
            named = [number for number, word in self.table.items() if word == value]
            if named:
                return _encoded(self.encoding, named[0], self.bits.width)
            if isinstance(value, str):
                raise ValueError(f'{self.name} = "{value}" is none of {", ".join(map(str, self.table.values()))}')
            if self.names_numbers:
                raise ValueError(f"{self.name} = {value} is none of {', '.join(map(str, self.table.values()))}")
        if isinstance(value, str):
            raise ValueError(f'{self.name} = "{value}" is no number')
        number = (value - self.offset) / self.scale
        low, high = self.numbers
        between = self.decimals is None and abs(number - round(number)) > 1e-6
        if between or not low <= round(number) <= high:
            ends = sorted((low * self.scale + self.offset, high * self.scale + self.offset))
            step = f" in steps of {abs(self.scale):g}" if self.scale != 1 and self.decimals is None else ""
            raise ValueError(f"{self.name} = {value} is outside {ends[0]:.12g} to {ends[1]:.12g}{step}")
        return _encoded(self.encoding, round(number), self.bits.width)

    def write(self, bits: Bits, value: int | float | str | None) -> None:
        """Put a value (its default for None) into a frame's bits, in place. Raises ValueError."""
        value = self.default if value is None else value
        self.bits.write(bits, 0 if value is None else self.raw(value))


class TextField(Strict, frozen=True):
    """Bits read as characters: each of ``digits`` names a group of bits and the character it stands for."""

    name: Name
    bits: Positions
    digits: Annotated[dict[str, str], Meta(min_length=1)]

    def __post_init__(self) -> None:
        sizes = {len(group) for group in self.digits}
        if len(sizes) != 1 or any(set(group) - {"0", "1"} for group in self.digits):
            raise ValueError('"digits" names groups of 0 and 1, all of one length')
        if self.bits.width % sizes.pop():
            raise ValueError(f"{self.bits.width} bits cannot be parted into groups of that length")

    def read(self, bits: Bits) -> str | None:
        """The characters at these positions; None where a group stands for none."""
        size = len(next(iter(self.digits)))
        row = "".join(map(str, (bits[self.bits.index] ^ self.bits.inverted).tolist()))
        found = [self.digits.get(row[i : i + size]) for i in range(0, len(row), size)]
        return None if None in found else "".join(map(str, found))


class ListField(Strict, frozen=True):
    """All bits as numbers of ``width`` bits each, in the order sent, the lowest bit of each first."""

    name: Name
    width: PositiveInt = 8

    def read(self, bits: Bits) -> tuple[int, ...]:
        rows = bits[: bits.size // self.width * self.width].reshape(-1, self.width).astype(int)
        return tuple((rows << range(self.width)).sum(axis=1).tolist())


def value_of(text: str) -> int | float | str:
    """What somebody typed: a whole number (0x5B too), a number, or a word."""
    for kind in (lambda t: int(t, 0), float):
        try:
            return kind(text)
        except ValueError:
            continue
    return text


def in_words(value: Value, width: int = 8) -> str:
    """A value as a person reads it: whole numbers in hex, as wide as their bits; in decimal if ``width`` is 0."""
    if value is None:
        return "–"
    if isinstance(value, tuple):
        return " ".join(in_words(number, width) for number in value)
    if isinstance(value, int) and value >= 0 and width:
        return f"{value:0{(width + 3) // 4}X}"
    return f"{value:g}" if isinstance(value, float) else str(value)


def marked(value: Value, width: int = 8) -> str:
    """The same where nothing else tells that numbers are in hex: with 0x in front."""
    return f"0x{in_words(value, width)}" if isinstance(value, int) and value >= 0 else in_words(value, width)


def _decoded(encoding: str, raw: int, width: int) -> int | None:
    if encoding == "signed":
        return raw - (1 << width) if raw >> (width - 1) else raw
    if encoding == "magnitude":
        size = raw & ((1 << (width - 1)) - 1)
        return -size if raw >> (width - 1) else size
    if encoding == "bcd":
        digits = [raw >> shift & 15 for shift in range((width - 1) // 4 * 4, -4, -4)]
        return int("".join(map(str, digits))) if max(digits) < 10 else None
    if encoding == "gray":
        number = raw
        for shift in (1, 2, 4, 8, 16, 32):
            number ^= number >> shift
        return number
    return raw


def _encoded(encoding: str, number: int, width: int) -> int:
    if encoding == "bcd":
        return int(str(number), 16)
    if encoding == "gray":
        return number ^ number >> 1
    if encoding == "magnitude":
        return abs(number) | (number < 0) << (width - 1)
    return number & ((1 << width) - 1)


def _range(encoding: str, width: int) -> tuple[int, int]:
    if encoding == "signed":
        return -(1 << (width - 1)), (1 << (width - 1)) - 1
    if encoding == "magnitude":
        return 1 - (1 << (width - 1)), (1 << (width - 1)) - 1
    return 0, highest_decimal(width) if encoding == "bcd" else (1 << width) - 1


def highest_decimal(width: int) -> int:
    """The highest number in BCD of so many bits: four a digit, for the first one perhaps fewer, as for hours up to 39
    in six.
    """
    below = (width - 1) // 4
    first = min(9, (1 << (width - 4 * below)) - 1)
    return int((first + 1) * 10**below) - 1
