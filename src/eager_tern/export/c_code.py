"""A sheet as a C99 library: makes and reads its frames, without a heap or anything else."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from textwrap import wrap

from msgspec import Struct

from eager_tern.errors import InputError
from eager_tern.export.c_checks import check_code, gathered, scattered, suffix
from eager_tern.export.layout import ROLES, WIDEST, Fixed, Gap, Kind, Layout, Member, slices
from eager_tern.export.names import c_string, free, identifier, in_a_line, in_comment
from eager_tern.export.templating import rendered
from eager_tern.linecode.values import Bits
from eager_tern.protocol.checks import evaluate
from eager_tern.protocol.fields import DataField, highest_decimal, in_words
from eager_tern.protocol.making import make_frame, nothing_rolled
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.reading import field_values
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Pulses

AS_SAID = 16_384  # of a clock that runs as the sheet says, in the generated code
MOST_OFF = 16_000  # µs that the edges of a symbol are moved by: its square is all that 32 bits hold
NUDGE_US = 40  # by which a receiver makes marks longer, in the test file
MOST_WORDS = 64  # of a table, that become names
WORDS_A_LINE = 100


class Example(Struct, frozen=True):
    """A frame for the test file: what it is, its durations (µs), its bits as meant, and whether the sheet made it."""

    name: str
    pulses: Pulses
    bits: Bits
    made: bool


def c_library(sheet: Sheet, name: str, title: str, gadget: str = "", sizes: str = "") -> tuple[str, str]:
    """The header and the source. ``name`` is the prefix, ``sizes`` what was measured on an 8-bit board."""
    layout = Layout(sheet)
    values = _context(layout, name, title)
    header = rendered("library.h.j2", of_gadget=f" of {in_comment(gadget)}" if gadget else "", sizes=sizes, **values)
    return header, rendered("library.c.j2", **values)


def c_test(sheet: Sheet, name: str, title: str, examples: Sequence[Example]) -> str:
    """A program that proves the library by frames that were made and that were captured."""
    layout = Layout(sheet)
    shown = [
        {
            "about": f"{in_comment(each.name)}, {'made' if each.made else 'as captured'}",
            "string": c_string(in_a_line(each.name)),
            "pulses": whole_us(each.pulses),
            "made": each.made,
            "fields": raw_list(layout, raw_fields(sheet, each.bits)),
        }
        for each in examples
    ]
    shortest = min(us for each in examples for us in whole_us(each.pulses))
    return rendered(
        "library_test.c.j2", name=name, NAME=name.upper(), title=in_comment(title), examples=shown,
        members=[_member(each) for each in layout.members], nudge=min(NUDGE_US, shortest // 8),
    )  # fmt: skip


def made_examples(sheet: Sheet) -> list[Example]:
    """Frames with each field at its least and its most, and as all of them usually are."""
    found: dict[bytes, Example] = {}
    rolling = nothing_rolled(sheet)
    wanted = [(field, field.value(raw)) for field in sheet.fields for raw in _extremes(field)]
    for name, value in [("", None), *((field.name, value) for field, value in wanted)]:
        given = {**rolling, name: value} if name else rolling
        try:
            made = make_frame(sheet, given)
        except InputError:  # bits that stand for no symbol, or a field that cannot be 0 and has no default
            continue
        words = f"{name} {in_words(value, 0)}" if name else "as usual"
        meant = sheet.frame(sheet.press.first[0]).turned(made.bits)
        if not all(evaluate(check, meant).ok for check in sheet.checks):  # a field stands where a check does
            continue
        found.setdefault(meant.tobytes(), Example(words, made.pulses, meant, True))
    return list(found.values())


def _extremes(field: DataField) -> list[int]:
    if field.table:
        raws = [field.raw(word) for word in field.table.values()]
        return [min(raws), max(raws)]
    most = int(str(highest_decimal(field.bits.width)), 16) if field.encoding == "bcd" else (1 << field.bits.width) - 1
    return [0, most]


def _context(layout: Layout, name: str, title: str) -> dict[str, object]:
    """Everything that the two templates ask for."""
    sheet = layout.sheet
    checks = [check_code(layout, check) for check in layout.checks]
    names: dict[str, object] = {
        "name": name, "NAME": name.upper(), "title": in_comment(title), "sheet": sheet,
        "about": wrap(in_comment(sheet.about or sheet.name), WORDS_A_LINE),
        "number": "uint64_t" if layout.wide else "uint32_t",
        "checks": checks,
        "gathers": bool(sheet.fields or checks),
        "scatters": bool(sheet.fields or any(check.made for check in checks)),
    }  # fmt: skip
    return names | _of_fields(layout, name) | _of_frames(layout) | _of_reading(layout)


def _of_fields(layout: Layout, name: str) -> dict[str, object]:
    conditions = _Conditions(layout)  # which is filled by what comes first
    lines = {
        "gets": _gets(layout, conditions), "puts": _puts(layout, conditions), "ranges": _ranges(layout, conditions)
    }  # fmt: skip
    return {
        **lines,
        "conditions": conditions.texts,
        "members": [_member(each) for each in layout.members],
        "defaults": raw_list(layout, layout.defaults),
        "words": _words(layout, name),
        "turns": _turning(layout),
    }


def _of_frames(layout: Layout) -> dict[str, object]:
    sheet = layout.sheet
    numbers = [_numbers(kind) for kind in layout.kinds]
    index = {kind.name: number for number, kind in enumerate(layout.kinds)}
    padded = sheet.ground.ljust(max(-(-sheet.bit_count // 8), 1) * 8, "0")
    kinds = [
        {
            "name": in_comment(kind.name),
            "number": number,
            "numbers": numbers[number],
            "inverts": [(min(first, last), max(first, last)) for first, last, _ in kind.inverts],
        }
        for number, kind in enumerate(layout.kinds)
    ]
    return {
        "kinds": kinds,
        "starts": [sum(each.count(",") + 1 for each in numbers[:at]) for at in range(len(numbers))],
        "turns_bits": any(kind.inverts for kind in layout.kinds),
        "blank": [_byte(padded[at : at + 8]) for at in range(0, len(padded), 8)],
        "bytes": len(padded) // 8,
        "symbols": layout.symbols,
        "bits_a_symbol": sheet.bits_a_symbol,
        "serial": sheet.serial,
        "unit": layout.unit,
        "carrier": round(sheet.carrier_hz or 0),
        "longest": max(kind.pulses for kind in layout.kinds),
        "frames": len(sheet.press.first) * sheet.press.count,
        "first": [index[each] for each in sheet.press.first] * sheet.press.count,
        "held": [index[each] for each in sheet.press.held],
        "period": round(sheet.press.period_us or 0),
        "gap": round(sheet.press.gap_us or 0),
    }


def _of_reading(layout: Layout) -> dict[str, object]:
    sheet = layout.sheet
    joined = sheet.serial is None and not layout.paired
    read = [number for number, kind in enumerate(layout.kinds) if kind.bits]
    read.sort(key=lambda number: layout.kinds[number].name != sheet.press.first[0])  # the likeliest first
    quiet_ways = 2 ** min(max((layout.kinds[number].quiet_starts for number in read), default=0), 3)
    clocks = [round(AS_SAID * clock) for clock in layout.clocks]
    return {
        "paired": layout.paired,
        "chips": layout.chips,
        "width": layout.width if joined else 0,
        "beside": layout.beside,
        "read_kinds": read,
        "kinds_read": len(read),
        "pulses": [layout.kinds[number].pulses for number in read],
        "quiet_ways": quiet_ways,
        "clocks": clocks,
        "excesses": layout.excesses_us,
        "passes": len(layout.excesses_us) * len(clocks) * quiet_ways + 3,
        "percent": round(sheet.tolerance * 100),
        "excess": layout.most_excess_us,
        "clock_least": round(AS_SAID * (1 - sheet.tolerance)),
        "clock_most": round(AS_SAID * (1 + sheet.tolerance)),
        "misfit": layout.most_misfit_us**2 // 16 + 1,
        "clip": MOST_OFF // (len(layout.symbols[0]) if layout.symbols else 1),
    }


def _byte(bits: str) -> int:
    return sum(int(bit) << at for at, bit in enumerate(bits))


def _numbers(kind: Kind) -> str:
    """The pieces of a kind of frame as the layout's numbers."""
    words: list[str] = []
    for piece in kind.pieces:
        if isinstance(piece, Fixed):
            words += ["PULSES", str(len(piece.lengths)), *map(str, piece.lengths)]
        elif isinstance(piece, Gap):
            words += ["GAP", str(piece.length)]
        else:
            words += ["SYMBOLS", str(piece.bits), str(piece.stretch), str(int(piece.open))]
    return ", ".join([*words, "END"])


# Fields


def _member(each: Member) -> dict[str, str]:
    width = each.width
    if width > WIDEST:
        kind, array = "uint8_t", f"[{-(-width // 8)}]"
    else:
        kind, array = member_type(width), ""
    return {"name": each.name, "type": kind, "array": array, "about": in_comment(_about(each))}


def member_type(width: int) -> str:
    """The C type of a member so wide."""
    return f"uint{next(size for size in (8, 16, 32, 64) if width <= size)}_t"


def _about(each: Member) -> str:
    """What a member's raw number stands for."""
    field = each.field
    words = f"{field.bits.width} bits" if field.bits.width > 1 else "a bit"
    if field.bits.width > WIDEST:
        words += ", the highest byte first"
    if field.encoding != "binary":
        words += {
            "signed": ", two's complement",
            "magnitude": ", a sign and a magnitude",
            "bcd": ", BCD",
            "gray": ", Gray code",
        }[field.encoding]
    if field.table:
        few = [f"{field.raw(word)} {in_words(word, 0)}" for word in list(field.table.values())[:8]]
        words += f": {', '.join(few)}" + ("" if len(field.table) <= 8 else " and more")
    elif (field.scale, field.offset) != (1, 0):
        words += f": {field.offset:g} + {field.scale:g} x raw {field.unit}".rstrip()
    words += f"; {ROLES[field.role]}" if field.role is not None else ""
    if len(each.fields) > 1:
        words += "; stands elsewhere, or means something else, by what the other fields say"
    for name, values in field.when.items():
        words += f"; only if {name} is {' or '.join(in_words(value, 0) for value in values)}"
    return words


def _turning(layout: Layout) -> str:
    names = [each.name for each in layout.members if each.field.role is not None]
    return f"; {' and '.join(names)} stay as given" if names else ""


def _default(each: Member, raw: int) -> str:
    if each.width <= WIDEST:
        return f"{raw}{suffix(each.width)}"
    size = -(-each.width // 8)
    return "{ " + ", ".join(map(str, raw.to_bytes(size, "big"))) + " }"


def raw_list(layout: Layout, raws: Mapping[str, int]) -> str:
    """Raw numbers as what stands between the braces of a struct's initializer."""
    return ", ".join(_default(each, raws[each.name]) for each in layout.members) or "0"


def _words(layout: Layout, name: str) -> list[str]:
    """Names for the raw numbers of tables, an enumeration a field."""
    taken = {f"{name.upper()}_{word}" for word in ("CARRIER_HZ", "LONGEST", "BITS", "FRAMES", "DEFAULTS", "H")}
    found = []
    for each in layout.members:
        table = each.field.table
        named = {word: each.field.raw(word) for word in table.values() if isinstance(word, str)}
        if named and len(named) <= MOST_WORDS and each.field.bits.width < 16:
            prefix = f"{name}_{each.name}".upper()
            pairs = [f"{free(f'{prefix}_{identifier(word)}'.upper(), taken)} = {raw}" for word, raw in named.items()]
            found.append(", ".join(pairs))
    return found


class _Conditions:
    """The functions ``means_N`` of the fields that do not always mean something; equal ones once."""

    def __init__(self, layout: Layout) -> None:
        self._layout = layout
        self.texts: list[str] = []

    def of(self, field: DataField) -> str:
        """A call that says whether a field means anything; empty where it always does."""
        if not field.when:
            return ""
        text = " && ".join(f"({self._any(variants)})" for variants in self._layout.conditions(field))
        if text not in self.texts:
            self.texts.append(text)
        return f"means_{self.texts.index(text) + 1}(fields)"

    def _any(self, variants: Sequence[tuple[DataField, list[int]]]) -> str:
        choices = []
        for other, raws in variants:
            value = f"fields->{self._layout.member_of(other).name}"
            equal = " || ".join(f"{value} == {raw}{suffix(other.bits.width)}" for raw in raws)
            if equal:
                means = self.of(other)
                choices.append(f"({means} && ({equal}))" if means else equal)
        return " || ".join(choices) or "false"


def _gets(layout: Layout, conditions: _Conditions) -> list[str]:
    lines, later = [], []
    for each in layout.members:
        if len(each.fields) == 1:
            lines += _get(each, each.field.bits)
            continue
        later.append(f"fields->{each.name} = 0;")
        for field in each.fields:
            later += [f"if ({conditions.of(field)}) {line}" for line in _get(each, field.bits)]
    return lines + later


def _get(each: Member, bits: Positions) -> list[str]:
    if bits.width <= WIDEST:
        return [f"fields->{each.name} = ({member_type(each.width)}){gathered(bits)};"]
    pieces = enumerate(slices(bits, 8))
    return [f"fields->{each.name}[{at}] = (uint8_t){gathered(piece)};" for at, piece in pieces]


def _put(each: Member, bits: Positions) -> str:
    if bits.width <= WIDEST:
        return scattered(bits, f"fields->{each.name}")
    pieces = enumerate(slices(bits, 8))
    return " ".join(scattered(piece, f"fields->{each.name}[{at}]") for at, piece in pieces)


def _puts(layout: Layout, conditions: _Conditions) -> list[str]:
    """What means nothing is written first: others may stand in its place."""
    nothing, meant = [], []
    for each in layout.members:
        for field in each.fields:
            means = conditions.of(field)
            if not means:
                meant.append(_put(each, field.bits))
                continue
            meant.append(f"if ({means}) {{ {_put(each, field.bits)} }}")
            nothing.append(f"if (!{means}) {{ {_put_otherwise(layout, conditions, each, field)} }}")
    return nothing + meant


def _put_otherwise(layout: Layout, conditions: _Conditions, each: Member, field: DataField) -> str:
    otherwise = layout.otherwise(field)
    if isinstance(otherwise, int):
        return scattered(field.bits, f"{otherwise}{suffix(field.bits.width)}")
    others = [conditions.of(other) for other in each.fields if other is not field]
    text = f"if (!({' || '.join(others)})) {{ {_put(each, field.bits)} }}" if others else _put(each, field.bits)
    for other, value, raw in reversed(otherwise or []):
        asked = f"fields->{layout.member_of(other).name} == {value}{suffix(other.bits.width)}"
        put = scattered(field.bits, f"{raw}{suffix(field.bits.width)}")
        text = f"if ({asked}) {{ {put} }} else {{ {text} }}"
    return text


def _ranges(layout: Layout, conditions: _Conditions) -> list[str]:
    """What makes a raw number impossible."""
    lines = []
    for each in layout.members:
        for field in each.fields:
            width, value = field.bits.width, f"fields->{each.name}"
            if width > WIDEST:
                spare = width % 8
                wrong = [f"{value}[0] >> {spare}"] if spare else []
            else:
                size = next(size for size in (8, 16, 32, 64) if each.width <= size)
                wrong = [f"{value} > {(1 << width) - 1}{suffix(width)}"] if width < size else []
                if field.encoding == "bcd":
                    wrong += [f"({value} >> {shift} & 15) > 9" for shift in range(0, width, 4)]
                if field.names_numbers:
                    raws = [field.raw(word) for word in field.table.values()]
                    wrong.append(" && ".join(f"{value} != {raw}{suffix(width)}" for raw in raws))
            means = conditions.of(field) if len(each.fields) > 1 else ""
            if wrong:
                either = " || ".join(f"({one})" if "&&" in one else one for one in wrong)
                lines.append(f"{means} && ({either})" if means else either)
    return lines


def raw_fields(sheet: Sheet, bits: Bits) -> dict[str, int]:
    """The raw numbers that a frame's bits as meant have for each member; of several of one name, of that which means
    anything.
    """
    values = field_values(sheet, bits)
    raws = {}
    for each in Layout(sheet).members:
        meant = next((f for f in each.fields if f.means_something(values)), None)
        alone = each.field if len(each.fields) == 1 else meant
        raws[each.name] = alone.bits.read(bits) if alone is not None else 0
    return raws


def whole_us(pulses: Pulses) -> tuple[int, ...]:
    """Durations as generated code takes them."""
    return tuple(min(int(each + 0.5), 65_535) for each in pulses.durations_us.tolist())
