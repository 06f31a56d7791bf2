"""Frames to presses: what one press of a key sent, told from the next press."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.linecode.clusters import SAME_RATIO
from eager_tern.protocol.reading import UNKNOWN, Reading
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.template import rest_us
from eager_tern.signal.assumed import LONGEST_SILENCE_US, SLOWER_RHYTHM
from eager_tern.signal.values import Pulses

LEAST_CONFIDENCE = 1e-3  # of a reading that makes a frame a repeat


class Frame(Struct, frozen=True, gc=False):
    """A frame with its readings. ``first`` and ``last`` are the indices of its marks in the take's pulses.

    ``pulses`` are as measured. Where they could not be read as they are, ``mended`` says in words what was done, and
    ``read_as`` are the pulses that were read instead.
    """

    first: int
    last: int
    pulses: Pulses
    readings: tuple[Reading, ...]
    mended: str = ""
    read_as: Pulses | None = None

    @property
    def as_read(self) -> Pulses:
        """The pulses that the readings speak of."""
        return self.pulses if self.read_as is None else self.read_as

    @property
    def best(self) -> Reading | None:
        return self.readings[0] if self.readings else None

    @property
    def is_unknown(self) -> bool:
        """Whether no sheet describes the frame, and its line code is no serial one."""
        return self.best is not None and self.best.protocol == UNKNOWN

    @property
    def reading(self) -> Reading:
        """The best reading of a frame that has one."""
        return self.readings[0]

    def moved(self, by: int) -> Frame:
        """The frame where that many pulses more stand before it."""
        return Frame(self.first + by, self.last + by, self.pulses, self.readings, self.mended, self.read_as)


def with_confidence(frame: Frame, confidence: float) -> Frame:
    """The frame with another confidence in its best reading."""
    if confidence == frame.reading.confidence:
        return frame
    return replace(frame, readings=(replace(frame.reading, confidence=confidence), *frame.readings[1:]))


def at_most(frame: Frame, confidence: float) -> Frame:
    """The frame with no more confidence than that in its best reading."""
    return with_confidence(frame, min(frame.reading.confidence, confidence))


class Press(Struct, frozen=True, gc=False):
    """A frame and its repeats, shape of a hold. ``first_missed``: only repeats were caught, so the code is unknown."""

    frames: tuple[Frame, ...]
    first_missed: bool = False

    @property
    def lead(self) -> Frame:
        """The frame that says which key it was."""
        return self.frames[0]

    @property
    def start_us(self) -> float:
        return self.frames[0].pulses.start_us

    @property
    def held_us(self) -> float:
        return self.frames[-1].pulses.end_us - self.start_us

    def is_repeat(self, index: int) -> bool:
        return index > 0 or self.first_missed


def longest_silence_us(sheet: Sheet | None) -> float:
    """How long the silence between the frames of one press may be: longer than usual only where its sheet says so."""
    return LONGEST_SILENCE_US if sheet is None else max(LONGEST_SILENCE_US, SLOWER_RHYTHM * rest_us(sheet))


def group_presses(frames: list[Frame]) -> list[Press]:
    """Presses in order. A frame that repeats the one before it, with no longer silence than there may be, joins it."""
    presses: list[Press] = []
    for frame in frames:
        press = grown_or_begun(presses[-1] if presses else None, frame)
        if len(press.frames) > 1:
            presses[-1] = press
        else:
            presses.append(press)
    return presses


def grown_or_begun(before: Press | None, frame: Frame) -> Press:
    """The press before with the frame as its repeat, or the one that the frame begins."""
    if before is None:
        return Press((frame,), frame.best is not None and frame.best.stands_for_repeat)
    lead = before.lead.best
    soon = frame.pulses.start_us - before.frames[-1].pulses.end_us < longest_silence_us(lead.sheet if lead else None)
    if soon and (repeat := _as_repeat(before, frame)) is not None:
        others = tuple(r for r in frame.readings if r is not repeat)
        return Press((*before.frames, replace(frame, readings=(repeat, *others))), before.first_missed)
    return Press((frame,), frame.best is not None and frame.best.stands_for_repeat)


def _as_repeat(press: Press, frame: Frame) -> Reading | None:
    """The frame's reading as a repeat within the press, if it has one: other sheets may have frames that look alike.

    A toggle is among the bits: it stays while a key is held and turns round with the next press.
    """
    lead = press.lead.best
    if lead is None:
        return None
    for reading in frame.readings:
        if reading.stands_for_repeat and reading.sheet is not None:
            if _repeats(frame, reading.sheet, press.lead):
                return reading
        elif (
            not press.first_missed
            and reading.protocol == lead.protocol
            and np.array_equal(reading.meant, lead.meant)
            and reading.confidence > LEAST_CONFIDENCE
        ):
            return reading
    return None


def _repeats(code: Frame, sheet: Sheet, lead: Frame) -> bool:
    """Whether a repeat code of the sheet stands for the frame: one of its family, or an unknown one that begins with as
    long a mark, since makers keep the repeat code of a protocol whose bits they change.
    """
    if lead.reading.sheet is not None:
        return sheet.family == lead.reading.sheet.family
    begun, again = (float(each.pulses.durations_us[0]) for each in (lead, code))
    return lead.is_unknown and max(begun, again) < SAME_RATIO * min(begun, again)
