"""A gadget as a sketch for a hobby board: keys by name over the serial line or from buttons, frames by their fields."""

from __future__ import annotations

import re

from msgspec import Struct

from eager_tern.export.c_code import member_type, raw_fields, raw_list
from eager_tern.export.keys import ExportedKey
from eager_tern.export.layout import WIDEST, Layout
from eager_tern.export.names import c_string, free, in_a_line, in_comment
from eager_tern.export.subject import Subject
from eager_tern.export.templating import rendered
from eager_tern.protocol.fields import DataField
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.assumed import USUAL_REST_US

LONGEST_NAME = 60  # bytes of a key's name on the serial line
LEAST_LINE = 96  # bytes of a line: a few fields
USUAL_CARRIER_HZ = 38_000  # what most receivers are made for
LONGEST_16_BITS = 65_535


class _Key(Struct, frozen=True):
    string: str
    pulses: list[int]
    frames: int
    rest: int
    fields: str


def sketch_text(subject: Subject) -> str:
    """The sketch's own file; where the subject has a sheet, its C library stands beside it."""
    sheet = subject.sheet
    layout = Layout(sheet) if sheet is not None else None
    taken: set[str] = {"", "?"}
    names = [free(_spoken(key.name), taken) for key in subject.keys]
    keys = [_key(subject, key, name, layout) for key, name in zip(subject.keys, names, strict=True)]
    longest = max((us for key in keys for us in key.pulses), default=0)
    carriers = [round(key.carrier_hz) for key in subject.keys if key.carrier_hz]
    carrier = (sheet.carrier_hz if sheet is not None else None) or next(iter(carriers), USUAL_CARRIER_HZ)
    fields = [_field(layout, each) for each in sheet.fields if _can_be_said(layout, each)] if sheet and layout else []
    room = max(LEAST_LINE, *(len(name.encode()) + 2 for name in names), 24 * len(fields)) if names else LEAST_LINE
    return rendered(
        "sketch.ino.j2",
        name=subject.name, NAME=subject.name.upper(), title=in_comment(subject.title), sheet=sheet,
        hint=_hint(sheet), keys=keys, any_made=any(not key.pulses for key in keys),
        any_recorded=any(key.pulses for key in keys), carrier=round(carrier),
        duration="uint16_t" if longest <= LONGEST_16_BITS else "uint32_t",
        usual=raw_list(layout, _usual(subject, layout)) if layout else "",
        turning=_turning(layout) if layout else [], fields=fields, line_room=room,
        held_kinds=len(sheet.press.held) if sheet else 1,
        of_sheet=f" from the sheet {sheet.id}" if sheet else "",
        of_gadget=f" of {in_comment(subject.gadget)}" if subject.gadget else "",
    )  # fmt: skip


def _spoken(name: str) -> str:
    """A key's name as a line of the serial port can hold it."""
    flat = in_a_line(name).encode("utf-8", "replace")[:LONGEST_NAME].decode("utf-8", "ignore").strip()
    return flat or "key"


def _key(subject: Subject, key: ExportedKey, name: str, layout: Layout | None) -> _Key:
    bits = subject.made.get(key.name)
    if layout is not None and bits is not None:
        sheet = layout.sheet
        frames = len(sheet.press.first) * sheet.press.count
        return _Key(c_string(name), [], frames, 0, raw_list(layout, raw_fields(sheet, bits)))
    nothing = raw_list(layout, layout.defaults) if layout is not None else ""
    rest = round(key.rest_us or USUAL_REST_US)
    return _Key(c_string(name), [round(us) for us in key.pulses_us], key.frames, rest, nothing)


def _usual(subject: Subject, layout: Layout) -> dict[str, int]:
    """A frame's raw numbers where nothing else is said: what all keys share, and the sheet's defaults."""
    usual = dict(layout.defaults)
    for each in layout.members:
        value = subject.common.get(each.field.name)
        if isinstance(value, int | float | str):
            usual[each.name] = each.field.raw(value)
    return usual


def _turning(layout: Layout) -> list[str]:
    """Statements that turn what turns round, and count what counts."""
    return [
        f"fields.{each.name} = ({member_type(each.width)})(presses & {(1 << min(each.width, 32)) - 1}u);"
        for each in layout.members
        if each.field.role in ("toggle", "counter")
    ]


def _hint(sheet: Sheet | None) -> str:
    """How fields are said, by an example."""
    fields = [field for field in sheet.fields if field.role is None] if sheet is not None else []
    words = []
    for field in fields[:2]:
        value = next(iter(field.table.values()), None) if field.table else field.value(1)
        words.append(f"{field.name}={_word(value) if isinstance(value, str) else value}")
    return in_comment(" ".join(words)) + " sets fields" if words else "it has no fields"


def _word(word: str) -> str:
    return re.sub(r"[\s,]+", "_", in_a_line(word))


def _can_be_said(layout: Layout | None, field: DataField) -> bool:
    """Fields of several meanings are left to the C library; so are numbers wider than the board's."""
    return layout is not None and len(layout.sheet.fields_by_name[field.name]) == 1 and field.bits.width < WIDEST


def _field(layout: Layout, field: DataField) -> dict[str, object]:
    """How a field is set from words."""
    width, each = field.bits.width, layout.member_of(field)
    low, high = field.numbers
    words = [(c_string(_word(word)), field.raw(word)) for word in field.table.values() if isinstance(word, str)]
    whole = field.scale == 1 and field.offset == int(field.offset)
    if field.names_numbers:
        words += [(c_string(f"{w:g}"), field.raw(w)) for w in field.table.values() if not isinstance(w, str)]
        number = ""
    elif whole:
        shift = int(field.offset)
        number = f"whole_in(value, {low + shift}, {high + shift}, &number)"
    else:
        off = 0.01 if field.decimals is None else 0.51
        number = f"steps_in(value, {field.offset!r}, {field.scale!r}, {low}, {high}, {off}, &number)"
    count = f"number - {int(field.offset)}" if whole and field.offset else "number"
    encoded = {
        "binary": count,
        "signed": f"({count}) & {(1 << width) - 1}",
        "magnitude": f"({count}) < 0 ? {1 << (width - 1)} - ({count}) : ({count})",
        "gray": f"({count}) ^ ({count}) >> 1",
        "bcd": " | ".join(f"({count}) / {10**d} % 10 << {4 * d}" for d in range(-(-width // 4))),
    }[field.encoding]
    return {
        "name": field.name, "member": each.name, "type": member_type(each.width), "words": words, "number": number,
        "encoded": encoded,
    }  # fmt: skip
