"""Frames that no sheet describes, found over several bursts at once: what recurs is data, the rest parts them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.linecode.clock import CLEAN
from eager_tern.linecode.identify import COARSEST, FEWEST_PULSES, NOISE_HEAD_START, as_one
from eager_tern.linecode.likelihood import any_pulse_score, noise_score, probabilities
from eager_tern.linecode.runs import Parsed, Row, parsed
from eager_tern.protocol.arbiter import Candidate
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import UNKNOWN_PRIOR, reading_of_line
from eager_tern.signal.values import Floats, Pulses

SHORTEST_GAP_US = 2_500.0  # between sections or copies
GAP_IN_SPACES = 1.2  # beside the longest space of the data
LONGEST_RUN_IN = 20  # symbols: forty pulses
LONGEST_LEADER = 48  # pulses: a run-in and its sync
LONGEST_BEHIND = 4  # pulses: a sync behind the data
SAME_LEADER = 0.25
FEWEST_BITS = 8  # of a frame, all its sections together
FEWEST_IN_COPY = 16  # bits that say the same again without a gap: a copy, and no section


def unknown_frames(pulses: Pulses, offset: int) -> Candidate | None:
    """A stretch of some bursts as frames of one unknown code; None where none explains it better than chance.

    ``offset`` is the index of its first mark in the take. Repeats and sections are frames of their own.
    """
    d = pulses.durations_us
    if d.size < FEWEST_PULSES:
        return None
    codes = [each for each in parsed(d) if _fits(each)]
    if not codes:
        return None
    best = codes[0]
    chances = probabilities([*(each.score for each in codes), noise_score(d) + NOISE_HEAD_START])
    if chances[0] < 0.5:
        return None
    edges = pulses.edge_times_us
    frames = []
    for first, last, rows in _parted(d, best):
        part = pulses.part(first, last, edges)
        there = [Row(row.first - first, row.last - first, row.line, row.bare) for row in rows]
        line = as_one(part.durations_us, best, there)
        if line.bits.size >= FEWEST_BITS:
            frames.append(Frame(first + offset, last + offset, part, (reading_of_line(line, chances[0]),)))
    if not frames:
        return None
    evidence = best.score + UNKNOWN_PRIOR - float(any_pulse_score(d))
    return Candidate(frames[0].first, frames[-1].last, tuple(frames), evidence)


def _fits(found: Parsed) -> bool:
    clocks = [row.line.clock for row in found.rows if not row.bare]
    return bool(clocks) and float(np.mean([c.rms_us / c.unit_us for c in clocks])) < COARSEST


def is_clean(found: Frame) -> bool:
    """Whether a frame lies so close on its ruler that nothing else needs to be tried."""
    clock = found.reading.clock
    return clock.rms_us < CLEAN * clock.unit_us


def _parted(d: Floats, found: Parsed) -> list[tuple[int, int, list[Row]]]:
    """First and last mark of each frame, with its rows of data."""
    longest_space = max(float(d[row.first + 1 : row.last + 1 : 2].max()) for row in found.rows if row.last > row.first)
    gap_us = max(SHORTEST_GAP_US, GAP_IN_SPACES * longest_space)
    rows = _data(d, found.rows, gap_us)
    if not rows:
        return []
    first = _leader_begins(d, rows[0].first, gap_us)
    leader = d[first : rows[0].first]
    groups, starts, ends = [[rows[0]]], [first], []
    for before, row in zip(rows, rows[1:], strict=False):
        gap = _gap_between(d, before, row, leader, gap_us)
        if gap is None:
            groups[-1].append(row)
            continue
        ends.append(gap - 1)
        starts.append(gap + 1)
        groups.append([row])
    ends.append(_trailer_ends(d, rows[-1].last, gap_us))
    return [(a, b, group) for a, b, group in zip(starts, ends, groups, strict=True)]


def _data(d: Floats, rows: Sequence[Row], gap_us: float) -> list[Row]:
    """The rows without those that run in: few equal symbols behind a gap, with others to follow."""
    out: list[Row] = []
    for at, row in enumerate(rows):
        alike = row.bare and row.line.bits.size // row.line.symbol_bits <= LONGEST_RUN_IN
        follows = at + 1 < len(rows)
        begins = not out or float(d[rows[at - 1].last + 1 : row.first].max(initial=0.0)) >= gap_us
        if not (alike and follows and begins):
            out.append(row)
    return out if any(not row.bare for row in out) else []


def _leader_begins(d: Floats, data: int, gap_us: float) -> int:
    """The mark with which the leader before the first bit begins."""
    return max(0, data - LONGEST_LEADER) // 2 * 2


def _trailer_ends(d: Floats, last: int, gap_us: float) -> int:
    """The mark that ends a frame whose last symbol ends with pulse ``last``."""
    last = last if last % 2 == 0 else last + 1
    end = min(d.size - 1, last + LONGEST_BEHIND)
    return end if end == d.size - 1 else min(last, d.size - 1)


def _gap_between(d: Floats, before: Row, row: Row, leader: Floats, gap_us: float) -> int | None:
    """The space that parts two rows; None where they are one frame with a sync inside it."""
    others = d[before.last + 1 : row.first]
    spaces = np.arange(before.last + 1, row.first)
    spaces = spaces[spaces % 2 == 1]
    if not spaces.size:
        return None
    own = others.size - leader.size - 1
    if leader.size and own >= 0:
        at = before.last + 1 + own
        again = others[own + 1 :]
        if at % 2 == 1 and d[at] >= SHORTEST_GAP_US and np.all(np.abs(again / leader - 1) < SAME_LEADER):
            return at
    longest = int(spaces[np.argmax(d[spaces])])
    copy = before.line.bits.size >= FEWEST_IN_COPY and np.array_equal(before.line.bits, row.line.bits)
    return longest if d[longest] >= gap_us or copy else None
