"""A take: read as it comes, by the one reader of files, live sources and takes that are read again."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from itertools import chain

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.protocol.burst_reading import read_bursts
from eager_tern.protocol.presses import Frame, Press, group_presses, longest_silence_us
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.assumed import LONGEST_SILENCE_US, MOST_PULSES, SMALLEST_GAP_US, SURE_GAP_US
from eager_tern.signal.bursts import GapSettings
from eager_tern.signal.by_hand import FOUND_OUT, ByHand, without_short
from eager_tern.signal.carrier import strip_carrier
from eager_tern.signal.polarity import find_polarity
from eager_tern.signal.values import (
    Edges,
    Floats,
    Polarity,
    Pulses,
    merged_durations,
    pulses_from_edges,
    pulses_from_signed,
    signed_durations,
    signed_from_start,
)

# Pulses of a passage: the first is short, so that something is told soon; the later ones hold frames enough to learn
# an unknown code from. Frames of one press are never parted, since a passage ends in a silence longer than any hold's.
FIRST_PASSAGE, LONGEST_PASSAGE = 10_000, 120_000
# A receiver's chatter has no such silence: then a passage ends where it is farthest from any frame.
LONGEST_WITHOUT_SILENCE = 2  # times that length
# Chatter is looked at while it goes on, some three times a second at the 5,000 pulses a second that receivers put out.
LOOK_PULSES = 1500
# A hold is read anew with each of its frames, so that they repair one another: ten seconds of the densest handsets.
HOLD_PULSES = 6000
SURE_BITS = 8.0  # of a known protocol, weighed by their confidence, that are no accident of chatter
SURE_PULSES = 20_000  # of a line that never rests, by which its polarity is tried


class TakeRead(Struct, frozen=True):
    """``noise`` lists the index ranges (first and last mark) of the bursts that are no frames."""

    pulses: Pulses
    presses: tuple[Press, ...]
    noise: tuple[tuple[int, int], ...]

    @property
    def frames(self) -> list[Frame]:
        return [frame for press in self.presses for frame in press.frames]


class Passage(Struct, frozen=True):
    """What was read between two marks of a take: all that is there, in place of whatever was told of it before.

    It lasts from ``from_us`` to ``to_us``, counted from the start of the take. ``first`` is the index of its first mark
    among the take's pulses, ``end`` that of the first mark behind it. ``pulses`` are those from the first mark on;
    ``noise`` lists index ranges (first and last mark) without a frame.
    """

    first: int
    end: int
    pulses: Pulses
    presses: tuple[Press, ...]
    noise: tuple[tuple[int, int], ...]
    from_us: float = 0.0
    to_us: float = math.inf


class TakeReader:
    """Durations in, passages out.

    What is read in the end depends on the durations alone, not on the pieces in which they came: passages are cut where
    the take itself says so. With ``at_once``, frames are told as soon as the silence behind them shows that they are
    whole; the passage read as a whole then has the last word.

    ``cut``: the take begins within a mark, so that its first burst may be the rest of a frame.
    """

    def __init__(
        self,
        sheets: Sequence[Sheet],
        gaps: GapSettings | None = None,
        *,
        cut: bool = False,
        at_once: bool = False,
        carrier_hz: float | None = None,
    ) -> None:
        self._sheets = sheets
        self._gaps = gaps
        self._cut = cut
        self._at_once = at_once
        self._carrier_hz = carrier_hz
        by_hand_us = (gaps.gap_us or 0.0) if gaps else 0.0
        self._silence_us = max(LONGEST_SILENCE_US, by_hand_us, *map(longest_silence_us, sheets))
        self._signed: Floats = np.empty(0)  # from the end of the last passage on, marks and spaces in turn
        self._start_us = 0.0  # where they begin
        self._index = 0  # of their first mark among the take's pulses
        self._usual = FIRST_PASSAGE
        self._looked = self._hold = 0  # durations of the passage that were looked at, and where a hold began

    @property
    def start_us(self) -> float:
        """Where the current passage begins; everything before it is final."""
        return self._start_us

    def feed(self, signed_us: Floats) -> Iterator[Passage]:
        """Take durations in (µs, marks positive, spaces negative); the passages they complete are read on demand."""
        self._signed = merged_durations(np.concatenate((self._signed, signed_us)))
        while (end := self._passage_end()) is not None:
            yield self._read_passage(end)
        if self._at_once:
            yield from self._looked_at()

    def finish(self) -> Iterator[Passage]:
        """Read what is left, as if silence followed; it replaces whatever was reported of that stretch."""
        yield replace(self._read_passage(self._signed.size), to_us=math.inf)

    def _passage_end(self) -> int | None:
        """Index of the space in which the passage ends; None while it may go on."""
        most = LONGEST_WITHOUT_SILENCE * self._usual
        spaces = np.minimum(self._signed[self._usual : most + 1], 0.0)
        silent = np.flatnonzero(spaces <= -self._silence_us)
        if silent.size:
            return self._usual + int(silent[0])
        return (
            self._usual + _away_from_frames(self._signed[self._usual : most + 1])
            if self._signed.size > most + 1
            else None
        )

    def _read_passage(self, end: int) -> Passage:
        passage = self._read(0, end)
        self._start_us = passage.to_us
        self._signed, self._index = self._signed[end:], passage.end
        self._usual = min(2 * self._usual, LONGEST_PASSAGE)
        self._looked = self._hold = 0
        return passage

    def _looked_at(self) -> Iterator[Passage]:
        """What is new since the last look, if silence shows that it is complete, with the press it may belong to."""
        new = self._signed[self._looked :]
        quiet = np.flatnonzero(new <= -SURE_GAP_US)
        count = int(quiet[-1]) + 1 if quiet.size else 0
        if not count and new.size >= LOOK_PULSES:
            count = new.size // 2 + int(np.argmin(new[new.size // 2 :])) + 1
        if not (new[:count] > 0).any():
            return
        end = self._looked + count
        yield self._read(self._hold, end)
        self._looked = end
        silences = np.flatnonzero(self._signed[self._hold : end] <= -self._silence_us)
        if silences.size:
            self._hold += int(silences[-1])
        elif end - self._hold > HOLD_PULSES:
            self._hold = end

    def _read(self, first: int, end_at: int) -> Passage:
        """Some of the waiting durations as a passage."""
        start_us = self._start_us + float(np.abs(self._signed[:first]).sum())
        pulses = pulses_from_signed(self._signed[first:end_at], start_us, self._carrier_hz)
        marks_before = (first + int(self._signed.size > 0 and self._signed[0] > 0)) // 2
        at, size = self._index + 2 * marks_before, pulses.durations_us.size
        frames, noise = read_bursts(pulses, self._sheets, self._gaps, self._cut and at == 0)
        there = [f.moved(at) for f in frames]
        spans = tuple((a + at, b + at) for a, b in noise)
        presses, end = tuple(group_presses(there)), at + (size + 1 if size else 0)
        to_us = start_us + float(np.abs(self._signed[first:end_at]).sum())
        return Passage(at, end, pulses, presses, spans, start_us, to_us)


def _away_from_frames(signed_us: Floats) -> int:
    """Index of a space that is in no frame, nor between two of a press: these have long pulses, or have them beside
    them. It is the longest one in the middle of the longest row of short ones; where that may be a frame itself, it is
    the longest one of all, between two copies of a long hold.
    """
    long = np.flatnonzero(np.abs(signed_us) >= SMALLEST_GAP_US)
    bounds = np.concatenate(([0], long, [signed_us.size]))
    widest = int(np.argmax(np.diff(bounds)))
    first, last = int(bounds[widest]), int(bounds[widest + 1])
    if last - first <= MOST_PULSES:
        return int(np.argmin(signed_us))
    middle = slice(first + (last - first) // 3, last - (last - first) // 3)
    return int(middle.start + np.argmin(signed_us[middle]))


def read_pulses(
    pulses: Pulses, sheets: Sequence[Sheet], gaps: GapSettings | None = None, cut: bool = False
) -> TakeRead:
    """Frames found by their gaps and in chatter, read with the sheets and grouped into presses.

    ``cut``: the recording begins within a mark, so that its first burst may be the rest of a frame.
    """
    return joined(pulses, list(read_passages(pulses, sheets, gaps, cut)))


def read_passages(
    pulses: Pulses, sheets: Sequence[Sheet], gaps: GapSettings | None = None, cut: bool = False
) -> Iterator[Passage]:
    """The same passage by passage, as it is read."""
    reader = TakeReader(sheets, gaps, cut=cut, carrier_hz=pulses.carrier_hz)
    return chain(reader.feed(signed_from_start(pulses)), reader.finish())


def joined(pulses: Pulses, passages: Sequence[Passage]) -> TakeRead:
    """The passages of a take as one."""
    presses = tuple(press for passage in passages for press in passage.presses)
    return TakeRead(pulses, presses, tuple(span for passage in passages for span in passage.noise))


def read_edges(edges: Edges, sheets: Sequence[Sheet], by_hand: ByHand = FOUND_OUT) -> tuple[Polarity, TakeRead]:
    """A two-level recording read with the polarity given, or the one found."""
    polarity = by_hand.polarity or likelier_polarity(edges, sheets, by_hand)
    pulses = clean_marks(pulses_from_edges(edges, polarity), by_hand)
    return polarity, read_pulses(pulses, sheets, GapSettings(by_hand.gap_us), begins_in_mark(edges, polarity))


def clean_marks(pulses: Pulses, by_hand: ByHand = FOUND_OUT) -> Pulses:
    """Marks and spaces without a carrier, and without what the user wants left out."""
    stripped = strip_carrier(pulses)[0]
    return without_short(stripped, by_hand.shortest_us) if by_hand.shortest_us else stripped


def begins_in_mark(edges: Edges, polarity: Polarity) -> bool:
    """Whether the recording may begin within a frame."""
    return edges.starts_high == (polarity == "mark-high")


def likelier_polarity(edges: Edges, sheets: Sequence[Sheet], by_hand: ByHand = FOUND_OUT) -> Polarity:
    """The polarity that the line's rest shows; where it never rests, the one in which it reads better.

    That is told by its beginning, or by longer and longer parts of it where nothing was sent so soon.
    """
    found = find_polarity(edges)
    if found.sure:
        return found.polarity
    other: Polarity = "mark-high" if found.polarity == "mark-low" else "mark-low"
    first, size = 0, SURE_PULSES  # even, so that each part begins at the level the line began at
    while first < edges.times_us.size:
        weights = [
            _weight(read_edges(_part(edges, first, first + size), sheets, replace(by_hand, polarity=polarity))[1])
            for polarity in (found.polarity, other)
        ]
        if max(weights) > SURE_BITS and weights[0] != weights[1]:
            return found.polarity if weights[0] > weights[1] else other
        first, size = first + size, 2 * size
    return found.polarity


def _part(edges: Edges, first: int, end: int) -> Edges:
    """Some of the edges, from an even one on, as a recording of their own."""
    times, size = edges.times_us[first:end], edges.times_us.size
    start_us = float(edges.times_us[first - 1]) if first else edges.start_us
    return replace(edges, times_us=times, start_us=start_us, end_us=float(times[-1]) if end < size else edges.end_us)


def reads_better_turned(passage: Passage, sheets: Sequence[Sheet]) -> bool:
    """Whether a line that never rests gives frames only with its polarity reversed."""
    d = passage.pulses.durations_us
    if passage.presses or d.size < LOOK_PULSES or d[1::2].max() >= SURE_GAP_US:
        return False
    return _weight(read_pulses(pulses_from_signed(-signed_durations(passage.pulses)), sheets)) > SURE_BITS


def _weight(take: TakeRead) -> float:
    """How many bits were read, those of known protocols first of all, and twice those of frames that only a space parts
    from the next one: the wrong way round it is a mark that no frame holds. Plain bits fit either way round.
    """
    frames = [frame for frame in take.frames if frame.best is not None and frame.best.code != "unknown"]
    begins = {frame.first for frame in frames}
    return sum(
        f.reading.confidence * f.reading.bits.size * (1.0 if f.reading.known else 0.1) * (1 + (f.last + 2 in begins))
        for f in frames
    )
