"""Presses from a live source as soon as they are over: durations in, each press out once."""

from __future__ import annotations

from bisect import bisect_left, bisect_right, insort
from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.protocol.presses import Press, longest_silence_us
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import LOOK_PULSES, Passage, TakeReader, reads_better_turned
from eager_tern.signal.assumed import LONGEST_SILENCE_US, SURE_GAP_US
from eager_tern.signal.quality import rests_in_marks
from eager_tern.signal.values import Floats, merged_durations

# Without a pulse, behind which a press is over, and what is under way has arrived.
QUIET_S = 0.05 + LONGEST_SILENCE_US / 1e6
LONGEST_WAIT_S = 0.6  # a key that is held is told before it is let go: somebody waits for the lamp
NEIGHBOURS = 3  # presses told before the one in question, of which it may be one


class Heard(Struct, frozen=True):
    """A press, and how long ago it began when it was told (s)."""

    press: Press
    ago_s: float


class Hearing:
    """Nothing in it grows with time. ``now_s`` is any clock that goes on steadily."""

    def __init__(self, sheets: Sequence[Sheet]) -> None:
        self._sheets = sheets
        self._reader = TakeReader(sheets, at_once=True)
        self._nothing = True  # was read so far
        self._begun: list[Floats] = []  # until the polarity is settled
        self._settled = self._turned = False
        self._waiting: dict[int, tuple[Press, float]] = {}  # by where it begins: and since when
        self._told: list[Press] = []  # of the passage that is being read, by where they begin
        self._heard_at = 0.0
        self._heard_us = 0.0

    def feed(self, signed_us: Floats, now_s: float) -> Iterator[Heard]:
        """Durations that have just come, marks above 0."""
        if signed_us.size:
            self._heard_at = now_s
            for part in self._in_its_polarity(signed_us):
                self._heard_us += float(np.abs(part).sum())
                for passage in self._reader.feed(part):
                    self._take(passage, now_s)
                    self._turn_if_better(passage)
        yield from self._over(now_s)

    def finish(self, now_s: float) -> Iterator[Heard]:
        """What is still waiting when the source ends."""
        for part in [np.concatenate(self._begun)] if self._begun else []:
            for passage in self._reader.feed(part):
                self._take(passage, now_s)
        for passage in self._reader.finish():
            self._take(passage, now_s)
        for start in list(self._waiting):
            yield self._tell(start)

    def _turn_if_better(self, passage: Passage) -> None:
        """A line that never rests shows its polarity by its frames alone; what is lost is what was sent until then."""
        if self._nothing and reads_better_turned(passage, self._sheets):
            self._turned = not self._turned
            self._reader = TakeReader(self._sheets, at_once=True)
            list(self._reader.feed(np.array([-self._heard_us])))
        self._nothing &= not passage.presses

    def _in_its_polarity(self, signed_us: Floats) -> list[Floats]:
        """A source may take its marks for spaces: its silences show it."""
        if self._settled:
            return [-signed_us if self._turned else signed_us]
        self._begun.append(signed_us)
        so_far = merged_durations(np.concatenate(self._begun))
        self._turned = rests_in_marks(so_far, SURE_GAP_US)
        self._settled = self._turned or bool((so_far <= -SURE_GAP_US).any()) or so_far.size > LOOK_PULSES
        if not self._settled:
            return []
        begun, self._begun = np.concatenate(self._begun), []
        return [-begun if self._turned else begun]

    def _take(self, passage: Passage, now_s: float) -> None:
        """What was read of a passage, in place of what waited of it."""
        waited = [s for s in self._waiting if passage.from_us <= s < passage.to_us]
        before = [self._waiting.pop(start) for start in waited]
        done_us = min(self._reader.start_us, passage.from_us) - LONGEST_SILENCE_US
        del self._told[: bisect_left(self._told, done_us, key=_start)]
        for press in passage.presses:
            if self._was_told(press):
                continue
            since = [at for other, at in before if _overlap(press.start_us, _end(press), other)]
            self._waiting[round(press.start_us)] = press, min(since, default=now_s - self._age_s(press))

    def _was_told(self, press: Press) -> bool:
        """Whether it is a press that was told, read again or gone on since."""
        last = bisect_right(self._told, _end(press), key=_start)
        for at in range(max(last - NEIGHBOURS, 0), last):
            told = self._told[at]
            lead = told.lead.best
            longest_us = longest_silence_us(lead.sheet if lead is not None else None)
            follows = press.start_us >= told.start_us and press.start_us - _end(told) < longest_us
            goes_on = follows and (press.first_missed or _bits(press) == _bits(told))
            if goes_on or _overlap(press.start_us, _end(press), told):
                if _end(press) > _end(told):
                    self._told[at] = replace(told, frames=(told.lead, press.frames[-1]))
                return True
        return False

    def _age_s(self, press: Press) -> float:
        return max(self._heard_us - press.start_us, 0.0) / 1e6

    def _over(self, now_s: float) -> Iterator[Heard]:
        for start, (press, since) in list(self._waiting.items()):
            silence_us = self._heard_us - _end(press)
            if silence_us >= LONGEST_SILENCE_US or now_s - self._heard_at >= QUIET_S or now_s - since >= LONGEST_WAIT_S:
                yield self._tell(start)

    def _tell(self, start: int) -> Heard:
        press, _ = self._waiting.pop(start)
        insort(self._told, press, key=_start)
        return Heard(press, self._age_s(press))


def _start(press: Press) -> float:
    return press.start_us


def _end(press: Press) -> float:
    return press.start_us + press.held_us


def _overlap(start_us: float, end_us: float, press: Press) -> bool:
    return start_us < _end(press) and press.start_us < end_us


def _bits(press: Press) -> bytes:
    return b"" if press.lead.best is None else press.lead.best.bits.tobytes()
