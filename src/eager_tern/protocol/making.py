"""Frames made from a sheet and values for its fields."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from msgspec import Struct

from eager_tern.errors import InputError, did_you_mean
from eager_tern.linecode.values import NO_BITS, Bits, bits_of_text
from eager_tern.protocol.checks import fill_in
from eager_tern.protocol.fields import Value
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.template import frame_pulses
from eager_tern.signal.values import Floats, Pulses, signed_durations


class MadeFrame(Struct, frozen=True):
    """A frame as it should be sent: nothing jitters."""

    protocol: str
    bits: Bits
    pulses: Pulses


def make_bits(sheet: Sheet, values: Mapping[str, Value]) -> Bits:
    """The bits of a frame with these values; fields that are not given take their defaults, checks are computed.

    A check that stands where a given field stands is not computed: the field is what was asked for. Raises InputError
    naming the field and its range.
    """
    known = sheet.fields_by_name
    bits: Bits = bits_of_text(sheet.ground)
    for name in values:
        if name not in known:
            suggested = did_you_mean(name, known) or f"; it has {', '.join(known) or 'none'}"
            raise InputError(f"sheet {sheet.id}", f'has no field "{name}"{suggested}')
    for field in sheet.fields:
        if field.role == "rolling" and field.name not in values:
            why = "is new with each press, and nothing that is set tells what it will be"
            raise InputError(f"sheet {sheet.id}", f'its field "{field.name}" {why}: give a value for it')
    all_values = {**{field.name: field.default for field in sheet.fields}, **values}
    # What means nothing here is written first: others may stand in its place.
    for field in sorted(sheet.fields, key=lambda f: f.means_something(all_values)):
        value = values.get(field.name)
        meant = field.means_something(all_values)
        elsewhere = not meant and any(f.means_something(all_values) for f in known[field.name])
        otherwise = None if meant else field.raw_otherwise(all_values)
        if isinstance(value, tuple) or (value is None and not meant and otherwise is None):
            continue
        try:
            if otherwise is not None:
                field.bits.write(bits, otherwise)
            elif not elsewhere and (value is not None or field.default is not None or not sheet.blank):
                field.write(bits, value)
        except ValueError as error:
            raise InputError(f"sheet {sheet.id}", str(error)) from None
    given = {int(i) for name in values for f in known[name] for i in f.bits.index}
    return fill_in(tuple(c for c in sheet.checks if not given & set(c.at.index.tolist())), bits)


def nothing_rolled(sheet: Sheet) -> dict[str, Value]:
    """Zeros for the fields that are new with each press, so that some frame can be made."""
    return {field.name: 0 for field in sheet.fields if field.role == "rolling"}


def make_frame(sheet: Sheet, values: Mapping[str, Value]) -> MadeFrame:
    """The first frame of a press. Raises InputError for unknown names and values out of range."""
    bits = make_bits(sheet, values)
    kind = sheet.frame(sheet.press.first[0])
    return MadeFrame(sheet.id, kind.turned(bits), frame_pulses(sheet, kind, bits))


def press_frames(sheet: Sheet, values: Mapping[str, Value], frames: int = 0) -> list[Floats]:
    """A press of at least ``frames`` frames, and never fewer than the sheet's count.

    Each frame's signed durations (µs) end with the silence behind it.
    """
    return frames_of_bits(sheet, make_bits(sheet, values), frames)


def frames_of_bits(sheet: Sheet, bits: Bits, frames: int = 0) -> list[Floats]:
    """The same for bits as meant."""
    press = sheet.press
    names = list(press.first) * press.count
    while len(names) < frames:
        names += press.held
    sent: list[Floats] = []
    for name in names:
        kind = sheet.frame(name)
        pulses = frame_pulses(sheet, kind, bits if kind.bit_count else NO_BITS)
        rest = press.gap_us or 0.0 if press.period_us is None else press.period_us - pulses.duration_us
        if rest <= 0:
            raise InputError(
                f"sheet {sheet.id}",
                f"its frame {name} takes {pulses.duration_us / 1e3:.1f} ms, longer than its period_us of "
                f"{(press.period_us or 0) / 1e3:.1f} ms",
            )
        sent.append(np.append(signed_durations(pulses), -rest))
    return sent
