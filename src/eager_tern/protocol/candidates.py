"""Bursts of a take as frames of sheets: the candidates among which the arbiter chooses."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.linecode.likelihood import any_pulse_score
from eager_tern.protocol.arbiter import Candidate
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.signal.assumed import EXCESS_FOUND_US, LONGEST_GAP_US, MOST_PULSES, SMALLEST_GAP_US
from eager_tern.signal.values import Floats, Pulses

FEWEST_PULSES = 3  # a leader with its trailer
AS_LONG = 0.9  # of the longest of some silences: copies rest for as long, sections for less

Span = tuple[int, int]  # first and last mark of a burst or a frame
Read = Callable[[Sequence[Pulses], Sequence[Sheet]], list[tuple[Reading, ...]]]


class Line(Struct, frozen=True):
    """What is read, and with which sheets."""

    pulses: Pulses
    edges_us: Floats
    sheets: tuple[Sheet, ...]

    def part(self, span: Span) -> Pulses:
        return self.pulses.part(*span, self.edges_us)


def candidate_of(frame: Frame, price: float = 0.0) -> Candidate:
    return Candidate(frame.first, frame.last, (frame,), evidence_of(frame) + price)


def evidence_of(frame: Frame) -> float:
    """A frame's evidence: by how many nats its best reading beats pulses of any length."""
    if frame.read_as is None:
        return frame.reading.evidence
    read, measured = frame.as_read.durations_us, frame.pulses.durations_us
    return frame.reading.evidence + float(any_pulse_score(read) - any_pulse_score(measured))


def one_a_burst(line: Line, bursts: Sequence[Span], read: Read) -> list[Candidate]:
    """The bursts that read as one frame each."""
    tried = [burst for burst in bursts if FEWEST_PULSES <= burst[1] - burst[0] + 1 <= MOST_PULSES]
    parts = [line.part(burst) for burst in tried]
    readings = read(parts, line.sheets)
    return [candidate_of(Frame(*burst, part, r)) for burst, part, r in zip(tried, parts, readings, strict=True) if r]


def several_of_sheets(line: Line, bursts: Sequence[Span], read: Read) -> Iterator[Candidate]:
    """Rows of bursts that are one frame of a sheet."""
    d = line.pulses.durations_us
    firsts, lasts = np.array(bursts, np.intp).reshape(-1, 2).T
    for count, (fitting, longest_us) in _sheets_of_several(line.sheets).items():
        if len(bursts) < count:
            continue
        near = (firsts[1:] == lasts[:-1] + 2) & (d[lasts[:-1] + 1] < longest_us)
        in_a_row = np.lib.stride_tricks.sliding_window_view(near, count - 1).all(axis=1)
        spans = [(bursts[at][0], bursts[at + count - 1][1]) for at in np.flatnonzero(in_a_row).tolist()]
        yield from one_a_burst(replace(line, sheets=fitting), spans, read)


@lru_cache(maxsize=64)
def _sheets_of_several(sheets: tuple[Sheet, ...]) -> dict[int, tuple[tuple[Sheet, ...], float]]:
    """By how many bursts a frame may fall apart into: the sheets with such frames, and how long (µs) a space may be
    that parts one. One burst is left out.
    """
    parting = {sheet: max((_parting_us(sheet, kind) for kind in sheet.frames), key=len) for sheet in sheets}
    found = {}
    for count in range(2, max(map(len, parting.values()), default=0) + 2):
        fitting = tuple(sheet for sheet in sheets if len(parting[sheet]) >= count - 1)
        longest_us = max(max(parting[sheet]) * (1 + sheet.tolerance) for sheet in fitting)
        found[count] = fitting, longest_us + EXCESS_FOUND_US
    return found


def _parting_us(sheet: Sheet, kind: FrameKind) -> list[float]:
    """The spaces at which a frame may be split: its gaps, and fixed spaces long enough to be taken for gaps."""
    fixed = [-p * sheet.unit_us for part in kind.parts for p in part.pulses or () if p < 0]
    gaps = [part.gap_us for part in kind.parts if part.gap_us is not None]
    return gaps + [space for space in fixed if space > SMALLEST_GAP_US * 0.8]


def rows_of(line: Line, bursts: Sequence[Span], left: set[int]) -> list[list[int]]:
    """Bursts grouped by closeness: a row ends at a long silence, and one that is too long at the last of its longest,
    so that no frame's sections are parted.
    """
    d = line.pulses.durations_us
    rows: list[list[int]] = []
    for at in sorted(left):
        first, last = bursts[at]
        if not (rows and rows[-1][-1] == at - 1 and d[first - 1] < LONGEST_GAP_US):
            rows.append([at])
            continue
        rows[-1].append(at)
        while last - bursts[rows[-1][0]][0] >= MOST_PULSES and len(rows[-1]) > 1:
            silences = np.array([d[bursts[each][0] - 1] for each in rows[-1][1:]])
            cut = int(np.flatnonzero(silences > AS_LONG * silences.max())[-1]) + 1
            rows.append(rows[-1][cut:])
            del rows[-2][cut:]
    return rows


def bursts_of(bursts: Sequence[Span], candidates: Sequence[Candidate | Frame]) -> set[int]:
    """The bursts that candidates explain, wholly or in part."""
    return {at for touched in bursts_of_each(bursts, candidates) for at in touched}


def bursts_of_each(bursts: Sequence[Span], candidates: Sequence[Candidate | Frame]) -> list[range]:
    """The same for each of them."""
    firsts, lasts = np.array(bursts, np.intp).reshape(-1, 2).T
    begins = np.searchsorted(lasts, [each.first for each in candidates]).tolist()
    ends = np.searchsorted(firsts, [each.last for each in candidates], side="right").tolist()
    return [range(begin, end) for begin, end in zip(begins, ends, strict=True)]
