"""Frames read anew from their raw pulses, as somebody looks at them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property, lru_cache

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Caught
from eager_tern.linecode.plain import plain_bits
from eager_tern.linecode.values import bit_text
from eager_tern.protocol.burst_reading import read_alone
from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import UNKNOWN, read_frame, reading_of_line
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.coverage import mark_time_before
from eager_tern.signal.values import Floats, Pulses

FRAMES_KEPT = 256


def get_ready() -> None:
    """Read a frame, so that all that is worked out once for the library's sheets is there when somebody looks."""
    read_frame(Pulses(np.tile([560.0, 1690.0], 34)[:67]), library())


class _AtHand(Struct, frozen=True, dict=True):
    """The pulses of a take, and what is worked out of them when first asked for."""

    pulses: Pulses

    @cached_property
    def edges_us(self) -> Floats:
        return self.pulses.edge_times_us

    @cached_property
    def marked_us(self) -> Floats:
        return mark_time_before(self.edges_us)


class Frames:
    """The pulses of takes and the frames in them, kept while they stay what they are."""

    def __init__(self, casebook: Casebook, sheets: Callable[[], Sequence[Sheet]]) -> None:
        self._casebook = casebook
        self._sheets = sheets
        self._takes: dict[int, _AtHand] = {}
        self._read = lru_cache(FRAMES_KEPT)(self._read_frame)
        self._read_quickly = lru_cache(FRAMES_KEPT)(self._read_frame_alone)

    def forget(self, take_id: int | None = None) -> None:
        """A take has other pulses now; None: everything is read otherwise."""
        if take_id is None:
            self._takes.clear()
            self._read.cache_clear()
            self._read_quickly.cache_clear()
        else:
            self._takes.pop(take_id, None)

    def take_pulses(self, take_id: int) -> Pulses:
        """All pulses of a take."""
        return self._at_hand(take_id).pulses

    def _at_hand(self, take_id: int) -> _AtHand:
        if take_id not in self._takes:
            self._takes[take_id] = _AtHand(self._casebook.take_pulses(take_id))
        return self._takes[take_id]

    def take_edges(self, take_id: int) -> Floats:
        """The times of all edges of a take, the same array until the take changes."""
        return self._at_hand(take_id).edges_us

    def take_marked(self, take_id: int) -> Floats:
        """The time spent in marks before each edge of a take."""
        return self._at_hand(take_id).marked_us

    def prepare(self, take_id: int) -> Iterator[None]:
        """Have the pulses and edges of a take at hand, step by step: a long one takes a while."""
        for step in (self.take_pulses, self.take_edges, self.take_marked):
            step(take_id)
            yield

    def pulses_of(self, press: Caught, number: int = 0) -> Pulses:
        """The pulses of one of a press's frames."""
        return self._part(press.take_id, *press.reading.frames[number])

    def _part(self, take_id: int, first: int, last: int) -> Pulses:
        """Pulses of a take; none where it has no such pulses any more, as it is now read."""
        pulses, edges = self.take_pulses(take_id), self.take_edges(take_id)
        if last >= pulses.durations_us.size:
            return Pulses(np.empty(0), float(edges[min(first, edges.size - 1)]))
        return pulses.part(first, last, edges)

    def first_of(self, press: Caught) -> Frame:
        """A press's first frame; a damaged one as its repeats say."""
        if press.stray:
            first, last = press.reading.frames[0]
            return Frame(first, last, self.pulses_of(press), ())
        frame = self._as_kept(press) or self._as_bits(press, 0) or self._read(press.take_id, *press.reading.frames[0])
        best = frame.best
        if not press.reading.mended or (best is not None and bit_text(best.bits) == press.reading.bits):
            return frame if not press.reading.mended else replace(frame, mended=frame.mended or press.reading.mended)
        for span in press.reading.frames[1:]:
            repeat = self._read(press.take_id, *span)
            if repeat.best is not None and bit_text(repeat.best.bits) == press.reading.bits:
                whole = replace(repeat.as_read, start_us=frame.pulses.start_us)
                return replace(frame, readings=repeat.readings, mended=press.reading.mended, read_as=whole)
        return replace(frame, mended=press.reading.mended)

    def _as_kept(self, press: Caught) -> Frame | None:
        """The first frame, if it says by itself what was read of it: that is told quickly."""
        if press.reading.mended:
            return None
        frame = self._read_quickly(press.take_id, *press.reading.frames[0])
        best = frame.best
        said = (best.protocol, bit_text(best.bits)) if best is not None else ("", "")
        return frame if said == (press.reading.protocol, press.reading.bits) else None

    def _as_bits(self, press: Caught, number: int) -> Frame | None:
        """A frame that was read as bits as they are: others that begin alike have shown that, it alone would not."""
        if press.reading.protocol != UNKNOWN or press.reading.mended:
            return None
        pulses = self.pulses_of(press, number)
        line = plain_bits(pulses.durations_us) if pulses.durations_us.size > 1 else None
        if line is None or bit_text(line.bits) != press.reading.bits:
            return None
        return Frame(*press.reading.frames[number], pulses, (reading_of_line(line, press.reading.confidence),))

    def all_of(self, press: Caught) -> list[Frame]:
        """All frames of a press."""
        first = self.first_of(press)
        plain = first.best is not None and first.best.code == "unknown"

        def later(number: int) -> Frame:
            kept = self._as_bits(press, number) if plain else None
            return kept or self._read(press.take_id, *press.reading.frames[number])

        return [first, *map(later, range(1, len(press.reading.frames)))]

    def _read_frame_alone(self, take_id: int, first: int, last: int) -> Frame:
        pulses = self._part(take_id, first, last)
        return Frame(first, last, pulses, read_frame(pulses, self._sheets()) if pulses.durations_us.size else ())

    def _read_frame(self, take_id: int, first: int, last: int) -> Frame:
        pulses = self._part(take_id, first, last)
        empty = not pulses.durations_us.size
        return Frame(first, last, pulses, ()) if empty else read_alone(pulses, first, last, self._sheets())
