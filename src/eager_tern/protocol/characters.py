"""Frames of serial characters: parted ones joined again, and one framing for all."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from eager_tern.linecode.clock import CLEAN
from eager_tern.linecode.likelihood import noise_score
from eager_tern.linecode.serial import async_serial, framing_of_all, serial_readings
from eager_tern.linecode.values import Framing, LineReading
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL, reading_of_line
from eager_tern.signal.values import Floats, Pulses

LONGEST_INSIDE = 13.0  # bits that a space between two marks of characters in a row can last
UNSURE = 0.5  # confidence in a frame that is read only because others are
SAME_LENGTH = 0.15  # by so much frames of as many characters may differ: the last may end in a long space
ASKED = 24  # frames that decide on the framing
LOOKS = 50  # pieces taken for noise that are looked at
SAME_SPEED = 0.08  # speeds of two pieces of a frame are as near as this


def as_characters(
    pulses: Pulses, edges: Floats, frames: list[Frame], noise: list[tuple[int, int]]
) -> tuple[list[Frame], list[tuple[int, int]]]:
    """The frames and the rest of a take, characters made whole and read in the framing that explains all of them."""
    if not any(_is_serial(frame) for frame in frames):
        return frames, noise
    rest = [Frame(first, last, pulses.part(first, last, edges), ()) for first, last in noise]
    whole: list[Frame] = []
    for frame in sorted([*frames, *rest], key=lambda frame: frame.first):
        joined = _joined(pulses, edges, whole[-1], frame) if whole else None
        whole[-1:] = [joined] if joined is not None else [*whole[-1:], frame]
    whole = _in_one_framing(whole)
    return [f for f in whole if f.readings], [(f.first, f.last) for f in whole if not f.readings]


def _in_one_framing(pieces: list[Frame]) -> list[Frame]:
    """The pieces, each frame of characters read in the framing that explains them best together."""
    serial = [frame for frame in pieces if _is_serial(frame)]
    asked = [serial[i] for i in np.unique(np.linspace(0, len(serial) - 1, ASKED).astype(int))]
    readings = [serial_readings(frame.as_read.durations_us) for frame in asked]
    framing = framing_of_all(readings)
    if framing is None:
        return pieces
    lines = [each[framing] for each in readings]
    lengths = [frame.pulses.duration_us for frame in serial]
    shortest, longest = (1 - SAME_LENGTH) * min(lengths), (1 + SAME_LENGTH) * max(lengths)
    out, looks = [], LOOKS
    for frame in pieces:
        if _is_serial(frame) and frame.reading.symbol_bits != framing[0]:
            line = serial_readings(frame.as_read.durations_us).get(framing)
            out.append(_read_as(frame, line) if line is not None else frame)
        elif not frame.readings and looks and shortest < frame.pulses.duration_us < longest:
            looks -= 1
            out.append(_like(frame, framing, lines))
        else:
            out.append(frame)
    return out


def _like(piece: Frame, framing: Framing, lines: Sequence[LineReading]) -> Frame:
    """What was taken for noise, read if it is one more of the frames: as fast, as many characters, likelier than noise.

    That nothing speaks for it by itself does not count: speed and framing are known.
    """
    unit = lines[0].clock.unit_us
    line = serial_readings(piece.pulses.durations_us, unit).get(framing)
    if line is None or line.bits.size not in {each.bits.size for each in lines}:
        return piece
    likelier = line.score > noise_score(piece.pulses.durations_us)
    as_fast = abs(line.clock.unit_us / unit - 1) < SAME_SPEED
    return replace(piece, readings=(reading_of_line(line, UNSURE),)) if likelier and as_fast else piece


def _is_serial(frame: Frame) -> bool:
    return frame.best is not None and frame.best.protocol == SERIAL and not frame.best.known


def _joined(pulses: Pulses, edges: Floats, before: Frame, frame: Frame) -> Frame | None:
    """Two pieces as one, if they are a row of characters whose long space was taken for a gap."""
    units = [f.best.clock.unit_us for f in (before, frame) if f.best is not None and _is_serial(f)]
    pieces = all(_is_serial(f) or not f.readings for f in (before, frame))
    if not units or not pieces or frame.first != before.last + 2 or max(units) > (1 + SAME_SPEED) * min(units):
        return None
    if pulses.durations_us[before.last + 1] > LONGEST_INSIDE * units[0]:
        return None
    both = pulses.part(before.first, frame.last, edges)
    best = async_serial(both.durations_us)
    known = before if before.readings else frame
    if best is None or best.clock.rms_us > CLEAN * best.clock.unit_us:
        return None
    return _read_as(replace(known, first=before.first, last=frame.last, pulses=both), best)


def _read_as(frame: Frame, line: LineReading) -> Frame:
    return replace(frame, readings=(reading_of_line(line, frame.reading.confidence),))
