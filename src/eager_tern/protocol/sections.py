"""Unknown frames of several sections: what recurs tells them from repeats."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations, pairwise

import numpy as np

from eager_tern.linecode.clusters import quantile
from eager_tern.linecode.identify import clock_of_all
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL
from eager_tern.protocol.wholeness import is_left_of
from eager_tern.signal.assumed import LONGEST_GAP_US
from eager_tern.signal.values import Pulses

SAME_PULSES = 0.2  # by which the shorter pulses of two sections may differ
DOUBTED = 0.5  # confidence below which a section that reads as a protocol by chance may be one all the same
SAME_BITS = 1 / 16  # of the bits may differ in a repeat that was damaged
MOST_SECTIONS = 4


def with_sections(pulses: Pulses, frames: Sequence[Frame]) -> list[Frame]:
    """The frames, those in a row that are sections of one frame joined.

    A row that says something, then the same again, is a repeat; one that says several things in turn is a frame of as
    many sections, unless one of them is sent again by itself elsewhere: then a repeat of it is damaged. ``pulses`` are
    those that the frames' indices count.
    """
    out: list[Frame] = []
    rows = _rows(frames)
    periods = [_period(row) for row in rows]
    alone = {row[0].reading.shape for row, p in zip(rows, periods, strict=True) if p == 1 < len(row)}
    for row, period in zip(rows, periods, strict=True):
        if period == len(row) and (any(frame.reading.shape in alone for frame in row) or _holds_a_damaged_copy(row)):
            period = 1
        for first in range(0, len(row), period):
            part = row[first : first + period]
            out.append(_joined(pulses, part) if len(part) > 1 else part[0])
    return out


def part_pulses(frame: Frame) -> list[Pulses]:
    """The pulses of each section of a frame; of a frame in one piece, its pulses."""
    reading, pulses = frame.best, frame.as_read
    if reading is None or len(reading.sections) < 2:
        return [pulses]
    gaps = reading.gaps or tuple((np.flatnonzero(np.isnan(reading.expected_us[1:-1])) + 1).tolist())
    firsts, lasts = [0, *(at + 1 for at in gaps)], [*(at - 1 for at in gaps), pulses.durations_us.size - 1]
    return [pulses.part(first, last) for first, last in zip(firsts, lasts, strict=True)]


def _rows(frames: Sequence[Frame]) -> list[list[Frame]]:
    """Frames grouped: in a row stand unknown ones of one line code and unit with short gaps between."""
    rows: list[list[Frame]] = []
    for frame in frames:
        if rows and _belongs_behind(rows[-1][-1], frame):
            rows[-1].append(frame)
        else:
            rows.append([frame])
    return rows


def _belongs_behind(before: Frame, frame: Frame) -> bool:
    one, other = before.best, frame.best
    if one is None or other is None or before.mended or frame.mended:
        return False
    if any(r.known and r.confidence > DOUBTED for r in (one, other)):
        return False
    gap = frame.pulses.start_us - before.pulses.end_us
    if one.code != other.code or one.protocol == SERIAL or gap >= LONGEST_GAP_US or frame.first != before.last + 2:
        return False
    return abs(_shorter_pulses(frame.pulses) / _shorter_pulses(before.pulses) - 1) < SAME_PULSES


def _shorter_pulses(pulses: Pulses) -> float:
    """A mark and a space of the shorter ones, together (µs): a unit may be found as half or two thirds of another's."""
    return quantile(pulses.durations_us[0::2], 0.25) + quantile(pulses.durations_us[1::2], 0.25)


def _period(row: Sequence[Frame]) -> int:
    """After how many frames a row repeats itself; 1 where it cannot be told."""
    for period in range(1, len(row)):
        if all(_same(row[i], row[i + period]) for i in range(len(row) - period)):
            return period if all(not _same(a, b) for a, b in pairwise(row[:period])) else 1
    alone = len(row) <= MOST_SECTIONS and all(not _same(a, b) for a, b in pairwise(row))
    return len(row) if alone else 1


def _same(frame: Frame, other: Frame) -> bool:
    one, two = frame.reading.bits, other.reading.bits
    return one.size == two.size and int(np.sum(one != two)) <= max(1, SAME_BITS * one.size)


def _holds_a_damaged_copy(row: Sequence[Frame]) -> bool:
    """Whether a frame of a row says what another one does, but for a few bits that were lost from it."""
    said = sorted((frame.reading.bits for frame in row), key=lambda bits: bits.size)
    return any(is_left_of(less, more) for less, more in combinations(said, 2))


def _joined(pulses: Pulses, sections: Sequence[Frame]) -> Frame:
    """One frame whose bits run through all its sections."""
    first, last = sections[0].first, sections[-1].last
    start = sections[0].pulses.start_us
    whole = Pulses(pulses.durations_us[first : last + 1], start, pulses.carrier_hz)
    readings = [section.reading for section in sections]
    offsets = [section.pulses.start_us - start for section in sections]
    expected = [readings[0].expected_us]
    for reading in readings[1:]:
        expected += [np.array([np.nan]), reading.expected_us]
    clock = clock_of_all([reading.clock for reading in readings])
    reading = replace(
        readings[0],
        confidence=min(reading.confidence for reading in readings),
        clock=clock,
        bits=np.concatenate([reading.bits for reading in readings]),
        bit_spans_us=np.concatenate([r.bit_spans_us + at for r, at in zip(readings, offsets, strict=True)]),
        expected_us=np.concatenate(expected),
        sections=tuple(int(reading.bits.size) for reading in readings),
        gaps=tuple(section.first - 1 - first for section in sections[1:]),
    )
    return Frame(first, last, whole, (reading,))
