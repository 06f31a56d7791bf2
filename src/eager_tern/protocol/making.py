"""Frames made from a sheet and values for its fields."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from eager_tern.errors import InputError
from eager_tern.linecode.values import NO_BITS, Bits
from eager_tern.protocol.checks import fill_in
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.template import frame_pulses
from eager_tern.signal.values import Floats, Pulses, signed_durations


@dataclass(frozen=True)
class MadeFrame:
    """A frame as it should be sent: nothing jitters."""

    protocol: str
    bits: Bits
    pulses: Pulses


def make_bits(sheet: Sheet, values: Mapping[str, int]) -> Bits:
    """The bits of a frame with these values; fields that are not given take their defaults, checks are computed.

    Raises InputError naming the field and its range.
    """
    known = {field.name: field for field in sheet.fields}
    for name, value in values.items():
        if name not in known:
            raise InputError(f"sheet {sheet.id}", f'has no field "{name}"; it has {", ".join(known) or "none"}')
        if not 0 <= value <= known[name].largest:
            raise InputError(f"sheet {sheet.id}", f"{name} = {value} is outside 0 to {known[name].largest}")
    bits: Bits = np.zeros(sheet.bit_count, np.uint8)
    for field in sheet.fields:
        field.bits.write(bits, values.get(field.name, field.default))
    return fill_in(sheet.checks, bits)


def make_frame(sheet: Sheet, values: Mapping[str, int]) -> MadeFrame:
    """The first frame of a press. Raises InputError for unknown names and values out of range."""
    bits = make_bits(sheet, values)
    return MadeFrame(sheet.id, bits, frame_pulses(sheet, sheet.frame(sheet.press.first), bits))


def press_frames(sheet: Sheet, values: Mapping[str, int], frames: int = 0) -> list[Floats]:
    """A press of at least ``frames`` frames, and never fewer than the sheet's count.

    Each frame's signed durations (µs) end with the silence behind it.
    """
    bits = make_bits(sheet, values)
    sent: list[Floats] = []
    for number in range(max(frames, sheet.press.count)):
        kind = sheet.frame(sheet.press.first if number < sheet.press.count else sheet.press.held)
        pulses = frame_pulses(sheet, kind, bits if kind.bit_count else NO_BITS)
        if sheet.press.period_us is not None:
            rest = sheet.press.period_us - pulses.duration_us
        else:
            rest = sheet.press.gap_us or 0.0
        sent.append(np.append(signed_durations(pulses), -rest))
    return sent
