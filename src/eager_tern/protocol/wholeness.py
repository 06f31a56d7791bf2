"""How sure it is that an unknown frame is complete. No sheet says what is missing, but other frames may."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import GUESSED, SERIAL, Shape
from eager_tern.signal.assumed import SHORTEST_GAP_US
from eager_tern.signal.stretches import stretches
from eager_tern.signal.values import Floats, Pulses

FEWEST_BITS = 16  # of a frame that is believed though nothing like it was sent again
DOUBTED = 0.5  # confidence at most in one that is shorter, or unlike several others of its code
FEWEST_ALIKE = 2  # frames of another shape, which make that the usual one

Look = tuple[Shape, tuple[int, ...]]  # a frame's shape, and which pulses among its bits are none of them


def as_sure_as_whole(pulses: Pulses, frames: Sequence[Frame]) -> list[Frame]:
    """The frames; the confidence in unknown ones is limited by how surely they are complete.

    A frame is taken for whole that looks like another one of the take. By itself it is doubted where a pulse among its
    bits is neither a bit nor a gap, where it has no silence on either side, where it is short, and where others of its
    code are alike and it is not.
    """
    asked = {at: _look(frame) for at, frame in enumerate(frames) if _is_asked(frame)}
    looks = Counter(asked.values())
    usual: dict[str, int] = {}  # of each line code, how many frames look alike at the most
    for (shape, _), count in looks.items():
        usual[shape[0]] = max(usual.get(shape[0], 0), count)
    return [
        _doubted(frame, pulses.durations_us, asked[at][1], usual) if at in asked and looks[asked[at]] == 1 else frame
        for at, frame in enumerate(frames)
    ]


def _is_asked(frame: Frame) -> bool:
    best = frame.best
    return best is not None and not best.known and best.protocol != SERIAL and not frame.mended and best.bits.size > 0


def _doubted(frame: Frame, durations_us: Floats, odd: tuple[int, ...], usual: Mapping[str, int]) -> Frame:
    """A frame unlike any other, with less confidence; ``odd`` are pulses among its bits that fit no symbol."""
    best = frame.reading
    most = 1.0
    if best.bits.size < FEWEST_BITS or usual[best.code] >= FEWEST_ALIKE:
        most = DOUBTED
    beside = [durations_us[at] for at in (frame.first - 1, frame.last + 1) if 0 <= at < durations_us.size]
    if odd or any(space < SHORTEST_GAP_US for space in beside):
        most = GUESSED
    sure = replace(best, confidence=min(best.confidence, most))
    return replace(frame, readings=(sure, *frame.readings[1:]))


def _look(frame: Frame) -> Look:
    d, told = frame.as_read.durations_us, ~np.isnan(frame.reading.expected_us)
    inside = np.flatnonzero(told)
    odd: list[int] = []
    for first, last in stretches(~told[: inside[-1]]) if inside.size else ():
        # A gap with what stands beside it: the leader of the next section, a sync behind the last.
        if first > inside[0] and d[first + (first + 1) % 2 : last + 1 : 2].max(initial=0.0) < SHORTEST_GAP_US:
            odd += range(first, last + 1)
    return frame.reading.shape, tuple(odd)
