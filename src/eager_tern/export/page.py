"""A gadget as a page to publish: what its frames look like, what its fields mean, what its keys send."""

from __future__ import annotations

import numpy as np

from eager_tern.compare.writeup import Block, Figure, Heading, Rows, Text, as_html, timing_svg
from eager_tern.export.python_code import described_shape
from eager_tern.export.subject import Subject
from eager_tern.export.templating import provenance
from eager_tern.protocol.fields import DataField, in_words
from eager_tern.protocol.making import make_frame, nothing_rolled
from eager_tern.protocol.schema import Check, Sheet
from eager_tern.signal.values import Pulses, pulses_from_signed

MOST_WORDS = 12  # of a table, in a cell


def page(subject: Subject) -> str:
    """The page as HTML that needs nothing beside it."""
    blocks: list[Block] = [Heading(subject.title, 1)]
    blocks += [Text(subject.about)] if subject.about else []
    if (frame := _frame(subject)) is not None:
        blocks.append(Figure("timing", "One frame: marks are ink; times in milliseconds.", timing_svg(frame)))
    if subject.sheet is not None:
        blocks += _of_sheet(subject.sheet)
    if subject.keys:
        blocks += [Heading("Keys"), Rows(("key", "protocol", "fields", "code"), tuple(_keys(subject)))]
    for name, text in subject.sheet_texts.items():
        blocks += [Heading(f"The sheet {name}"), Text(text, code=True)]
    blocks.append(Text(provenance()))
    return as_html(blocks)


def _frame(subject: Subject) -> Pulses | None:
    if subject.captured:
        return subject.captured[0].pulses
    if subject.keys:
        signs = [us if at % 2 == 0 else -us for at, us in enumerate(subject.keys[0].pulses_us)]
        return pulses_from_signed(np.array(signs))
    sheet = subject.sheet
    return make_frame(sheet, nothing_rolled(sheet)).pulses if sheet is not None else None


def _of_sheet(sheet: Sheet) -> list[Block]:
    carrier = f", carrier {sheet.carrier_hz / 1e3:g} kHz" if sheet.carrier_hz else ""
    line = f"{sheet.bit_count} bits, {sheet.code.replace('-', ' ')}, unit {sheet.unit_us:g} µs{carrier}."
    blocks: list[Block] = [Heading("Frames"), Text(f"{sheet.name}: {line}"), Text(described_shape(sheet))]
    if sheet.fields:
        header = ("field", "bits", "means", "only if")
        blocks += [Heading("Fields"), Rows(header, tuple(_field(field) for field in sheet.fields))]
        blocks.append(Text("Bits are counted from 0 in the order sent, those of a number with the highest first."))
    if sheet.checks:
        blocks += [Heading("Checks"), Rows(("check", "bits", "kind", "over"), tuple(map(_check, sheet.checks)))]
    return blocks


def _field(field: DataField) -> tuple[str, ...]:
    if field.table:
        words = [in_words(word, 0) for word in list(field.table.values())[:MOST_WORDS]]
        means = ", ".join(words) + (" …" if len(field.table) > MOST_WORDS else "")
    elif (field.scale, field.offset) != (1, 0):
        means = f"{field.offset:g} + {field.scale:g} × number {field.unit}".rstrip()
    else:
        means = f"a number {field.unit}".rstrip() if field.role is None else field.role
    encoding = "" if field.encoding == "binary" else f" ({field.encoding})"
    only = "; ".join(f"{n} is {' or '.join(in_words(v, 0) for v in values)}" for n, values in field.when.items())
    return field.name, str(field.bits), means + encoding, only


def _check(check: Check) -> tuple[str, ...]:
    over = str(check.of) if check.of is not None else ", ".join(f"{a}–{b}" for a, b in check.covers)
    return check.name, str(check.at), check.kind, over


def _keys(subject: Subject) -> list[tuple[str, ...]]:
    return [
        (
            key.name,
            key.protocol,
            ", ".join(f"{name} {in_words(value, 0)}" for name, value in key.fields.items()),
            key.codes.as_sent if key.codes else "",
        )
        for key in subject.keys
    ]
