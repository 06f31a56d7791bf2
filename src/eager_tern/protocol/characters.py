"""Frames of serial characters: pieces of one frame are joined, and all frames share one framing."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.likelihood import noise_score
from eager_tern.linecode.prices import NOISE_HEAD_START, OTHER_LENGTH
from eager_tern.linecode.serial import USUAL, async_serial, framing_of_all, serial_readings
from eager_tern.linecode.values import Framing, LineReading
from eager_tern.protocol.presses import Frame, with_confidence
from eager_tern.protocol.reading import SERIAL, reading_of_line
from eager_tern.signal.values import Floats, Pulses

LONGEST_INSIDE = 13.0  # bits that a space between two marks of characters in a row can last at least
FEW = 2  # frames of characters for each of another code, which is then none
UNSURE = 0.5  # confidence in a frame that is read only because others are
SAME_LENGTH = 2.5  # by how much longer or shorter one more frame may be
ASKED = 24  # frames that decide on the framing
MOST_OF = 0.5  # of the pieces that could be characters at all
LOOKS = 50  # pieces taken for noise that are looked at
SAME_SPEED = 0.08  # speeds of two pieces of a frame, or of frames of one gadget, are as near as this


def as_characters(
    pulses: Pulses, edges: Floats, frames: list[Frame], noise: list[tuple[int, int]]
) -> tuple[list[Frame], list[tuple[int, int]]]:
    """The frames and the rest of a take, serial frames joined and read in the one framing that explains them all."""
    serial = any(_is_serial(frame) for frame in frames)
    if not serial and (frames or len(noise) > LOOKS):
        return frames, noise
    rest = [Frame(first, last, pulses.part(first, last, edges), ()) for first, last in noise]
    if not serial:
        rest = _by_each_other(rest)
        if not any(frame.readings for frame in rest):
            return frames, noise
    whole: list[Frame] = []
    for frame in sorted([*frames, *rest], key=lambda frame: frame.first):
        joined = _joined(pulses, edges, whole[-1], frame) if whole else None
        whole[-1:] = [joined] if joined is not None else [*whole[-1:], frame]
    whole = _in_one_framing(whole)
    return [f for f in whole if f.readings], [(f.first, f.last) for f in whole if not f.readings]


def _by_each_other(pieces: list[Frame]) -> list[Frame]:
    """Pieces each of which could be noise, read if most of them are characters of one speed and framing: that is worth
    what a single one would have to be by itself.
    """
    tried = {i: serial_readings(p.pulses.durations_us) for i, p in enumerate(pieces) if p.pulses.durations_us.size > 1}
    tried = {i: readings for i, readings in tried.items() if readings}
    noise = {i: float(noise_score(pieces[i].pulses.durations_us)) for i in tried}
    best: dict[int, LineReading] = {}
    most = NOISE_HEAD_START
    for framing in {framing for readings in tried.values() for framing in readings}:
        likelier = {i: r[framing] for i, r in tried.items() if framing in r and r[framing].score > noise[i]}
        speed = np.median([line.clock.unit_us for line in likelier.values()]) if likelier else 0.0
        alike = {i: line for i, line in likelier.items() if abs(line.clock.unit_us / speed - 1) < SAME_SPEED}
        # How usual the framing is counts once.
        gain = sum(line.score - noise[i] for i, line in alike.items()) - (len(alike) - 1) * USUAL[framing]
        if len(alike) > max(1, MOST_OF * len(tried)) and gain > most:
            best, most = alike, gain
    return [
        replace(piece, readings=(reading_of_line(best[i], UNSURE),)) if i in best else piece
        for i, piece in enumerate(pieces)
    ]


def _in_one_framing(pieces: list[Frame]) -> list[Frame]:
    """The pieces, each frame of characters read in the framing that explains them best together."""
    serial = [frame for frame in pieces if _is_serial(frame)]
    asked = [serial[i] for i in np.unique(np.linspace(0, len(serial) - 1, ASKED).astype(int))]
    readings = [serial_readings(frame.as_read.durations_us) for frame in asked]
    found = framing_of_all(readings)
    if found is None:
        return pieces
    framing, chance = found
    lines = [each[framing] for each in readings]
    lengths = [frame.pulses.duration_us for frame in serial]
    shortest, longest = min(lengths) / SAME_LENGTH, max(lengths) * SAME_LENGTH
    # A few of an unknown code among many more of characters: some bytes look like another code.
    lone = sum(frame.is_unknown for frame in pieces) * FEW <= len(serial)
    out, looks = [], LOOKS
    for frame in pieces:
        if _is_serial(frame):
            others = {} if frame.reading.framing == framing else serial_readings(frame.as_read.durations_us)
            read = _read_as(frame, others[framing]) if framing in others else frame
            out.append(with_confidence(read, min(chance, read.reading.confidence)))
        elif lone and frame.is_unknown:
            line = serial_readings(frame.as_read.durations_us, lines[0].clock.unit_us).get(framing)
            fits = line is not None and abs(line.clock.unit_us / lines[0].clock.unit_us - 1) < SAME_SPEED
            out.append(_read_as(frame, line) if fits and line is not None and _is_clean(line) else frame)
        elif not frame.readings and looks and shortest < frame.pulses.duration_us < longest:
            looks -= 1
            out.append(_like(frame, framing, lines))
        else:
            out.append(frame)
    return out


def _is_clean(line: LineReading) -> bool:
    return line.clock.rms_us < CLEAN * line.clock.unit_us


def _like(piece: Frame, framing: Framing, lines: Sequence[LineReading]) -> Frame:
    """A stretch taken for noise, as one more serial frame if it has their speed and is likelier than noise.

    That nothing speaks for it by itself does not count: speed and framing are known.
    """
    unit = lines[0].clock.unit_us
    line = serial_readings(piece.pulses.durations_us, unit).get(framing)
    if line is None:
        return piece
    as_many = line.bits.size in {each.bits.size for each in lines}
    likelier = line.score + (0.0 if as_many else OTHER_LENGTH) > float(noise_score(piece.pulses.durations_us))
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
    if pulses.durations_us[before.last + 1] > max(map(_longest_inside, (before, frame))) * units[0]:
        return None
    both = pulses.part(before.first, frame.last, edges)
    best = async_serial(both.durations_us)
    known = before if before.readings else frame
    if best is None or best.clock.rms_us > CLEAN * best.clock.unit_us:
        return None
    return _read_as(replace(known, first=before.first, last=frame.last, pulses=both), best)


def _longest_inside(piece: Frame) -> float:
    """How many bits a space between two characters may last: from one start bit to the next, where they have rests."""
    best = piece.best
    if best is None or best.framing is None:
        return LONGEST_INSIDE
    starts = best.bit_spans_us[:: best.framing[0], 0] / best.clock.unit_us
    return max(LONGEST_INSIDE, float(np.diff(starts).max(initial=0.0)))


def _read_as(frame: Frame, line: LineReading) -> Frame:
    return replace(frame, readings=(reading_of_line(line, frame.reading.confidence),))
