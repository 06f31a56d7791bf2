"""A recording as it arrives: raw durations to disk, frames to presses, one after the other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PressReading, press_reading
from eager_tern.intake.again import read_take_again
from eager_tern.intake.files import stray_readings
from eager_tern.protocol.presses import LONGEST_SILENCE_US, Frame, Press, group_presses, grown_or_begun
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import TakeRead, read_bursts
from eager_tern.signal.bursts import SURE_GAP_US
from eager_tern.signal.by_hand import ByHand
from eager_tern.signal.quality import rests_in_marks
from eager_tern.signal.values import Floats, Pulses, in_one_row, pulses_from_signed

MOST_TOGETHER = 50_000  # pulses of a take that are read once more as a whole: it takes some seconds
INVERTED = "The source's levels are inverted: marks and spaces are taken the other way round from here on."


@dataclass(frozen=True)
class Heard:
    """What new durations led to: presses begun or grown, the last one last, and strays.

    ``revised``: what stood in the casebook since the last long silence was read anew as a whole.
    """

    press_ids: tuple[int, ...] = ()
    stray_ids: tuple[int, ...] = ()
    news: str = ""
    revised: bool = False


class Listening:
    """One take being recorded. Nothing is read before the silence behind it shows that it is whole."""

    def __init__(
        self,
        casebook: Casebook,
        gadget_id: int,
        source: str,
        form: str,
        sheets: Sequence[Sheet],
        started_at: float,
    ) -> None:
        self._casebook = casebook
        self._sheets = sheets
        self._started_at = started_at
        self.take_id = casebook.add_take(gadget_id, source, form, started_at=started_at)
        self._waiting: Floats = np.empty(0)  # signed durations not yet read, from the last silence on
        self._start_us = 0.0  # where they begin
        self._index = 0  # index of their first mark among the take's pulses
        self._press: Press | None = None
        self._hold: list[Pulses] = []  # read since the last long silence: a key's frames, one repairing another
        self._hold_index = 0
        self._hold_is_doubtful = False
        self._unsaved: list[Floats] = []
        self._unknown = False  # whether frames were caught that only others like them make clear
        self._turned = False  # whether the source calls marks what are spaces

    def hear(self, signed_us: Floats) -> Heard:
        """Take durations in. Raises InputError where the disk refuses them; they are then kept for the next call."""
        self._unsaved.append(signed_us)
        heard = np.concatenate(self._unsaved)
        self._casebook.append_durations(self.take_id, heard)
        self._unsaved.clear()
        self._waiting = np.concatenate((self._waiting, -heard if self._turned else heard))
        news = ""
        if self._index == 0 and not self._turned and rests_in_marks(self._waiting, SURE_GAP_US):
            self._turned, self._waiting = True, -self._waiting
            self._casebook.set_by_hand(self.take_id, ByHand(polarity="mark-low"))
            news = INVERTED
        read = self._read(self._whole())
        silence = -float(self._waiting[0]) if self._waiting.size and self._waiting[0] < 0 else 0.0
        return replace(self._settled(read) if silence >= LONGEST_SILENCE_US else read, news=news)

    def finish(self) -> Heard:
        """Read what is left, as if silence followed, and frames of an unknown code once more together.

        Raises InputError where the disk still refuses what it refused.
        """
        heard = self.hear(np.empty(0)) if self._unsaved else Heard()
        rest = self._settled(self._read(self._waiting.size))
        together = self._together() if self._unknown and self._index <= MOST_TOGETHER else Heard()
        parts = (heard, rest, together)
        return Heard(
            tuple(dict.fromkeys(i for part in parts for i in part.press_ids)),
            tuple(dict.fromkeys(i for part in parts for i in part.stray_ids)),
            revised=any(part.revised for part in parts),
        )

    def _together(self) -> Heard:
        """The whole take read anew, and what that found beside what was there."""
        before = {press.id for press in self._casebook.presses(take_id=self.take_id)}
        read_take_again(self._casebook, self._casebook.take(self.take_id), self._sheets)
        new = [press for press in self._casebook.presses(take_id=self.take_id) if press.id not in before]
        presses, strays = ([press.id for press in new if press.stray == stray] for stray in (False, True))
        return Heard(tuple(presses), tuple(strays), revised=True)

    def _settled(self, heard: Heard) -> Heard:
        """The hold is over: where its frames do not agree, they are read once more together."""
        hold, index, doubtful = self._hold, self._hold_index, self._hold_is_doubtful
        self._hold, self._hold_is_doubtful, self._hold_index = [], False, self._index
        if len(hold) < 2 or not doubtful:
            return heard
        whole = in_one_row(hold)
        self._press = None
        with self._casebook.changing():
            frames, noise = read_bursts(whole, self._sheets)
            again = self._put(whole, frames, noise, index)
            firsts = [press.lead.first for press in group_presses(frames)] + [first for first, _ in noise]
            self._casebook.set_vanished(self.take_id, {first + index for first in firsts}, index)
        return replace(again, revised=True)

    def _whole(self) -> int:
        """How many of the waiting durations end in a silence that no frame has inside."""
        space = np.minimum(self._waiting, 0.0)
        runs = np.cumsum(space)
        since_mark = runs - np.minimum.accumulate(np.where(self._waiting > 0, runs, 0.0))
        quiet = np.flatnonzero(since_mark <= -SURE_GAP_US)
        return int(quiet[-1]) + 1 if quiet.size else 0

    def _read(self, count: int) -> Heard:
        """Read so many of the waiting durations. Where the disk refuses what was read, they go on waiting."""
        part, rest = self._waiting[:count], self._waiting[count:]
        pulses = pulses_from_signed(part, self._start_us)
        silence = float(np.abs(part).sum())
        heard = Heard()
        if pulses.durations_us.size:
            frames, noise = read_bursts(pulses, self._sheets)
            heard = self._put(pulses, frames, noise, self._index)
            self._hold.append(pulses)
            self._hold_is_doubtful |= bool(noise) or any(map(_is_doubtful, frames)) or len(heard.press_ids) > 1
            silence -= pulses.end_us - self._start_us
            self._start_us = pulses.end_us
            self._index += pulses.durations_us.size + 1
        # The silence at the end stays in front, since more of it may come.
        self._waiting = np.concatenate(([-silence], rest)) if silence else rest
        return heard

    def _put(self, pulses: Pulses, frames: list[Frame], noise: list[tuple[int, int]], index: int) -> Heard:
        """Presses and strays to the casebook, all of them or none. ``index`` is the pulses' place in the take."""
        press, begun, strays = self._press, [], []
        self._unknown |= any(frame.best is not None and not frame.best.known for frame in frames)
        with self._casebook.changing():
            for frame in frames:
                there = replace(frame, first=frame.first + index, last=frame.last + index)
                press = grown_or_begun(press, there)
                at = self._started_at + press.start_us / 1e6
                begun.append(self._casebook.put_press(self.take_id, press_reading(press), caught_at=at))
            for reading in stray_readings(TakeRead(pulses, (), tuple(noise))):
                shifted = _shifted(reading, index)
                at = self._started_at + shifted.start_us / 1e6
                strays.append(self._casebook.put_press(self.take_id, shifted, stray=True, caught_at=at))
        self._press = press
        return Heard(tuple(dict.fromkeys(begun)), tuple(strays))


def _is_doubtful(frame: Frame) -> bool:
    best = frame.best
    return bool(frame.mended) or best is None or not best.known or not best.checks_hold


def _shifted(reading: PressReading, by: int) -> PressReading:
    return reading.model_copy(update={"frames": tuple((a + by, b + by) for a, b in reading.frames)})
