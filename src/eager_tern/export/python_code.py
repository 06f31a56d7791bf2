"""A sheet as a Python module without dependencies: ``make`` and ``read``, in values."""

from __future__ import annotations

from itertools import product
from textwrap import wrap
from typing import Any

from eager_tern.export.layout import FINE, ROLES, Layout
from eager_tern.export.names import in_docstring
from eager_tern.export.templating import rendered
from eager_tern.protocol.fields import DataField, in_words
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.schema import Check, FrameKind, Sheet

WORDS_A_LINE = 110
UNSAID = ("seen", "unit", "base", "role")  # of a field: they make no frame
MOST_WORDS = 12  # of a table, in the docstring


def python_module(sheet: Sheet, title: str, gadget: str = "") -> str:
    """The module's text."""
    layout = Layout(sheet)
    read = sorted((k for k in layout.kinds if k.bits), key=lambda kind: kind.name != sheet.press.first[0])
    quiet = max((kind.quiet_starts for kind in read), default=0)
    return rendered(
        "module.py.j2",
        title=in_docstring(title),
        about=_wrapped(sheet.about or sheet.name),
        carrier=f"The carrier is {sheet.carrier_hz / 1e3:g} kHz." if sheet.carrier_hz else "No carrier is known.",
        carrier_hz=sheet.carrier_hz or None,
        shape=_wrapped(described_shape(sheet)),
        documented=[f"- {in_docstring(_documented(field))}" for field in sheet.fields],
        checked=[f"- {in_docstring(_checked(check))}" for check in sheet.checks],
        of_gadget=f" of {in_docstring(gadget)}" if gadget else "",
        sheet=sheet,
        excess=layout.most_excess_us,
        misfit=layout.most_misfit_us,
        blank=sheet.ground,
        says_blank=bool(sheet.blank),
        symbols=repr(sheet.alphabet),
        kinds=[{"name": repr(kind.name), "pieces": repr(_pieces(kind, sheet))} for kind in sheet.frames],
        inverts={kind.name: str(kind.inverts) for kind in sheet.frames if kind.inverts is not None},
        fields=[repr(_said(field)) for field in sheet.fields],
        texts=[{"name": repr(t.name), "bits": repr(str(t.bits)), "digits": repr(t.digits)} for t in sheet.texts],
        lists=[{"name": repr(each.name), "width": each.width} for each in sheet.lists],
        checks=[repr(_said(check)) for check in sheet.checks],
        check_kinds={check.kind for check in sheet.checks},
        first=repr(sheet.press.first[0]),
        read_kinds=repr(tuple(kind.name for kind in read)),
        pulses=repr({kind.name: kind.pulses for kind in read}),
        paired=layout.paired,
        serial=sheet.serial,
        bits_a_symbol=sheet.bits_a_symbol,
        beside=repr(tuple(each / FINE for each in layout.beside)),
        clocks=repr(tuple(round(clock, 4) for clock in layout.clocks)),
        excesses=repr(tuple(layout.excesses_us)),
        quiet_starts=repr(tuple(product((False, True), repeat=min(quiet, 3)))) if quiet else "",
    )


def _wrapped(text: str) -> list[str]:
    return wrap(in_docstring(text), WORDS_A_LINE)


def _pieces(kind: FrameKind, sheet: Sheet) -> list[tuple[Any, ...]]:
    """What a frame is made of. A space before a gap is part of the silence."""
    found: list[tuple[Any, ...]] = []
    for part, after in zip(kind.parts, (*kind.parts[1:], None), strict=True):
        if part.pulses is not None:
            found.append(("pulses", part.pulses))
        elif part.gap_us is not None:
            gap = part.gap_us
            if found and found[-1][0] == "pulses" and found[-1][1][-1] < 0:
                gap -= found[-1][1][-1] * sheet.unit_us
                found[-1] = ("pulses", found[-1][1][:-1])
            found.append(("gap", gap))
        else:
            found.append(("symbols", part.bits, part.stretch, after is None or after.gap_us is not None))
    return found


def _said(each: DataField | Check) -> dict[str, Any]:
    """What a sheet says of a field or a check, without what is usual."""
    unsaid = UNSAID if isinstance(each, DataField) else ()
    said = {name: value for name, value in each.said().items() if name not in unsaid}
    if isinstance(each, DataField) and each.role == "rolling":
        said["rolling"] = True
    return {name: str(value) if isinstance(value, Positions) else value for name, value in said.items()}


def described_shape(sheet: Sheet) -> str:
    """What a press sends and what its frames are made of, in words; lengths in µs, marks above 0."""
    kinds = []
    for kind in sheet.frames:
        words = []
        for part in kind.parts:
            if part.pulses is not None:
                words.append(" ".join(f"{length * sheet.unit_us:+.0f}" for length in part.pulses))
            elif part.gap_us is not None:
                words.append(f"a gap of {part.gap_us:.0f}")
            else:
                words.append(f"{part.bits} bits" + (f", {part.stretch} times as long" if part.stretch > 1 else ""))
        kinds.append(f"{kind.name}: {', '.join(words)}")
    rhythm = sheet.press.period_us or sheet.press.gap_us
    how = "from start to start" if sheet.press.period_us else "of silence between two"
    count = len(sheet.press.first) * sheet.press.count
    sent = f"A press sends {' and '.join(sheet.press.first)}"
    sent += f", {count} frames at least" if count > 1 else ""
    return f"{sent}; {' and '.join(sheet.press.held)} while the key is held, {rhythm:.0f} us {how}. {'; '.join(kinds)}."


def _documented(field: DataField) -> str:
    words = f"{field.name}: bits {field.bits}"
    if field.encoding != "binary":
        words += f", {field.encoding}"
    if field.table:
        table = list(field.table.values())
        words += f"; {', '.join(in_words(word, 0) for word in table[:MOST_WORDS])}"
        words += f" and {len(table) - MOST_WORDS} more" if len(table) > MOST_WORDS else ""
    elif (field.scale, field.offset) != (1, 0):
        words += f"; {field.offset:g} + {field.scale:g} times the number {field.unit}".rstrip()
    words += f"; {ROLES[field.role]}" if field.role is not None else ""
    for name, values in field.when.items():
        words += f"; means something only if {name} is {' or '.join(in_words(value, 0) for value in values)}"
    return words


def _checked(check: Check) -> str:
    of = f" of bits {check.of}" if check.of is not None else ""
    covers = ", ".join(f"{first}-{last}" for first, last in check.covers)
    return f"{check.name}: {check.kind}, bits {check.at}{of}" + (f" over bits {covers}" if covers else "")
