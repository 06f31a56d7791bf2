"""Bursts to frames: each read as it is, then looked at more closely where that says too little."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import lru_cache

import numpy as np

from eager_tern.linecode.clusters import find_clusters
from eager_tern.protocol.characters import as_characters
from eager_tern.protocol.chatter import frames_in_chatter
from eager_tern.protocol.consensus import repaired_by_repeats
from eager_tern.protocol.damaged import (
    Mended,
    has_glitches,
    leave_out_glitches,
    leave_out_one,
    lies_close,
    mend,
    raw_range,
    reads_well,
)
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL, Reading, read_frame, read_frames
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.sections import with_sections
from eager_tern.protocol.taught import read_by_the_clear
from eager_tern.signal.bursts import GapSettings, split_bursts
from eager_tern.signal.values import Floats, Pulses

FEWEST_PULSES = 3  # a leader with its trailer
FEWEST_IN_COPY = 9  # of a frame that a gap set by hand leaves by itself
MOST_PULSES = 2000  # no frame has more; chatter has
FEWEST_IN_CHATTER = 21
MOST_IN_FRAME = 400
FEWEST_TO_PART = 40
FEWEST_BETWEEN_RESTS = 9  # spaces of a frame for each rest behind one
SHORTEST_REST_US = 2500.0
REST_IN_SPACES = 1.5  # beside the next shorter kind of space
UNKNOWN_LOOKS = 12  # unknown frames of a take in which a known one with a stray pulse is sought
LEAST_COVERED = 0.6  # of a burst that reads as something: that a part of it reads as something else is chance
LOOKS = 60  # bursts in a row that are worth a closer look each, though the ones before were not


def read_bursts(
    pulses: Pulses, sheets: Sequence[Sheet], gaps: GapSettings | None = None, cut: bool = False
) -> tuple[list[Frame], list[tuple[int, int]]]:
    """The frames among the bursts of a recording, and the index ranges of the rest."""
    frames: list[Frame] = []
    noise: list[tuple[int, int]] = []
    edges = pulses.edge_times_us
    looks, unknown_looks = LOOKS, UNKNOWN_LOOKS
    by_hand = gaps is not None and gaps.gap_us is not None  # then frames end where the user says
    for first, last, readings in _read_as_they_are(pulses, edges, split_bursts(pulses, gaps), sheets):
        burst = pulses.part(first, last, edges)
        frame = Frame(first, last, burst, readings) if readings else None
        best = readings[0] if readings else None
        unknown = best is not None and not best.known
        rest_of_frame = cut and first == 0
        suspicious = unknown and (rest_of_frame or has_glitches(burst.durations_us))
        if unknown and not suspicious and unknown_looks:
            unknown_looks -= 1
            if instead := _known_after_all(burst, first, sheets, by_hand):
                frames += instead
                continue
        # Characters can be seen in a code of fixed periods with chatter before it, too.
        if best is not None and best.protocol == SERIAL and (known := _known_in(burst, first, sheets)):
            frames += known
            noise += _between_frames(first, last, known)
        elif frame is not None and (reads_well(readings) or lies_close(frame.reading)) and not suspicious:
            frames.append(frame)
        else:
            found = [] if by_hand else _parted(burst, first, sheets)
            found = found or _looked_at_closely(burst, first, sheets, looks > 0)
            looks = LOOKS if found else max(looks - 1, 0)
            if frame is not None and not _says_more(found, frame):
                found = [frame]
            if rest_of_frame:  # what it lacks may be its greater part
                found = [f for f in found if f.best is not None and f.best.known]
            frames += found
            noise += _between_frames(first, last, found)
    frames, noise = as_characters(pulses, edges, frames, noise)
    frames, noise = read_by_the_clear(pulses, edges, frames, noise)
    return _with_repeats(
        pulses, edges, with_sections(pulses, frames), noise, FEWEST_IN_COPY if by_hand else FEWEST_PULSES
    )


def _read_as_they_are(
    pulses: Pulses, edges: Floats, bursts: Sequence[tuple[int, int]], sheets: Sequence[Sheet]
) -> list[tuple[int, int, tuple[Reading, ...]]]:
    """First and last mark of each burst, or of each row of bursts that a sheet describes as one frame; its readings."""
    found: list[tuple[int, int, tuple[Reading, ...]]] = []
    left = list(range(len(bursts)))
    for count, fitting in _sheets_of_sections(tuple(sheets)).items():
        rows = [at for at in left if at + count <= len(bursts)]
        spans = [(bursts[at][0], bursts[at + count - 1][1]) for at in rows]
        tried = [i for i, (first, last) in enumerate(spans) if FEWEST_PULSES <= last - first + 1 <= MOST_PULSES]
        read = dict(zip(tried, read_frames([pulses.part(*spans[i], edges) for i in tried], fitting), strict=True))
        taken: set[int] = set()
        for i, at in enumerate(rows):
            readings = read.get(i, ())
            whole = bool(readings) and readings[0].known and taken.isdisjoint(range(at, at + count))
            if count == 1 or (whole and set(range(at, at + count)) <= set(left)):
                taken.update(range(at, at + count))
                found.append((*spans[i], readings))
        left = [at for at in left if at not in taken]
    return sorted(found, key=lambda each: each[0])


@lru_cache(maxsize=64)
def _sheets_of_sections(sheets: tuple[Sheet, ...]) -> dict[int, tuple[Sheet, ...]]:
    """By how many bursts a frame may have, most first: the sheets with such frames; every sheet for those in one."""
    return {
        count: tuple(s for s in sheets if count == 1 or any(kind.section_count == count for kind in s.frames))
        for count in section_counts(sheets)
    }


def _known_after_all(burst: Pulses, offset: int, sheets: Sequence[Sheet], by_hand: bool) -> list[Frame]:
    """Known frames in a burst that reads as an unknown one: several after a short rest, or one with a stray pulse."""
    if not by_hand and (several := _parted(burst, offset, sheets)):
        return several
    mended = leave_out_one(burst, sheets)
    return [_mended_frame(burst, offset, mended)] if mended is not None else []


def _known_in(burst: Pulses, offset: int, sheets: Sequence[Sheet]) -> list[Frame]:
    """The frames of known protocols in a burst that looks like something else."""
    found = _looked_at_closely(burst, offset, sheets, at_length=False)
    return [f for f in found if f.best is not None and f.best.known]


def _looked_at_closely(burst: Pulses, offset: int, sheets: Sequence[Sheet], at_length: bool) -> list[Frame]:
    """The frames in a burst that does not read as it is: without stray pulses, in chatter, or as the likeliest one."""
    size = burst.durations_us.size
    if 7 <= size <= MOST_PULSES and (mended := leave_out_glitches(burst, sheets)) is not None:
        return [_mended_frame(burst, offset, mended)]
    if at_length and 7 <= size <= MOST_IN_FRAME and (mended := leave_out_one(burst, sheets)) is not None:
        return [_mended_frame(burst, offset, mended)]
    if size >= FEWEST_IN_CHATTER and (found := frames_in_chatter(burst, offset, sheets)):
        return found
    if at_length and (mended := mend(burst, sheets)) is not None:
        return [_mended_frame(burst, offset, mended)]
    return []


def _says_more(found: Sequence[Frame], frame: Frame) -> bool:
    """Whether what a closer look found in a burst is more than what the burst as it is was read as."""
    if not all(f.best is not None and f.best.known for f in found):
        return False
    covered = sum(f.last - f.first + 1 for f in found)
    return covered > LEAST_COVERED * frame.pulses.durations_us.size


def _parted(burst: Pulses, offset: int, sheets: Sequence[Sheet]) -> list[Frame]:
    """The frames between a burst's few longest spaces, if each piece is one: some repeat after a short rest.

    A stray pulse may stand in a rest.
    """
    d = burst.durations_us
    spaces = d[1::2]
    if d.size < FEWEST_TO_PART:
        return []
    groups = find_clusters(spaces)
    if len(groups) < 2 or groups[-1].count > spaces.size / FEWEST_BETWEEN_RESTS:
        return []
    bound = float(np.sqrt(groups[-1].centre_us * groups[-2].centre_us))
    if groups[-1].centre_us < max(SHORTEST_REST_US, REST_IN_SPACES * groups[-2].centre_us):
        return []
    rests = 2 * np.flatnonzero(spaces > bound) + 1
    edges = burst.edge_times_us
    spans = list(zip([0, *(rests + 1).tolist()], [*(rests - 1).tolist(), d.size - 1], strict=True))
    usual = float(np.median(d[0::2]))
    spans = [(first, last) for first, last in spans if first < last or d[first] > usual]
    pieces = [burst.part(first, last, edges) for first, last in spans]
    read = read_frames(pieces, sheets)
    # Characters stand apart as well: rather one row of them than several frames.
    if len(read) < 2 or not all(reads_well(readings) and readings[0].protocol != SERIAL for readings in read):
        return []
    return [
        Frame(first + offset, last + offset, piece, readings)
        for (first, last), piece, readings in zip(spans, pieces, read, strict=True)
    ]


def read_alone(burst: Pulses, first: int, last: int, sheets: Sequence[Sheet]) -> Frame:
    """A frame whose place is known, by itself; what stands round it is not looked at."""
    readings = read_frame(burst, sheets)
    if not reads_well(readings) or not readings[0].known:
        frames, _ = read_bursts(burst, sheets)
        if len(frames) == 1 and (frames[0].first, frames[0].last) == (
            0,
            last - first,
        ):  # perhaps one of several sections
            return replace(frames[0], first=first, last=last)
    if not reads_well(readings) and (mended := mend(burst, sheets)) is not None:
        return Frame(first, last, burst, mended.readings, mended.how, mended.pulses)
    return Frame(first, last, burst, readings)


def _mended_frame(burst: Pulses, offset: int, mended: Mended) -> Frame:
    first, last = raw_range(burst.edge_times_us, mended.pulses.start_us, mended.pulses.end_us)
    return Frame(
        first + offset, last + offset, burst.part(first, last), mended.readings, mended.how, mended.pulses
    )  # fmt: skip


def _between_frames(first: int, last: int, frames: Sequence[Frame]) -> list[tuple[int, int]]:
    """What of a burst lies before, between and behind the frames found in it."""
    bounds = [first, *(bound for f in frames for bound in (f.first - 2, f.last + 2)), last]
    return [(a, b) for a, b in zip(bounds[::2], bounds[1::2], strict=True) if a <= b]


def _with_repeats(
    pulses: Pulses, edges: Floats, frames: list[Frame], noise: list[tuple[int, int]], fewest: int
) -> tuple[list[Frame], list[tuple[int, int]]]:
    """The frames after their repeats were asked, and the noise that is left; a repeat has at least so many pulses."""
    longest = max((frame.last - frame.first for frame in frames), default=0)
    strays = [(a, b, pulses.part(a, b, edges)) for a, b in noise if fewest <= b - a + 1 <= longest + 9]
    mended, taken = repaired_by_repeats(pulses, frames, strays)
    return mended, [span for span in noise if span[0] not in taken]


def section_counts(sheets: Sequence[Sheet]) -> list[int]:
    """How many bursts a frame of the sheets may have, most first."""
    return sorted({1, *(kind.section_count for sheet in sheets for kind in sheet.frames)}, reverse=True)
