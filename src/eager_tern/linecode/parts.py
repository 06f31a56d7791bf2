"""Rows of symbols to frames: run-ins, leaders, and the spaces that separate frames and sections."""

from __future__ import annotations

import math
from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from eager_tern.linecode.rows import Row, repeats_itself
from eager_tern.signal.assumed import SHORTEST_GAP_US, SURE_GAP_US
from eager_tern.signal.values import Floats

GAP_IN_SPACES = 1.2  # beside the longest space of the data
LONGEST_RUN_IN = 41  # symbols
LONGEST_LEADER = 88  # pulses: a run-in and its sync
LONGEST_BEHIND = 4  # pulses: a sync behind the data
MOSTLY = 0.6  # of a frame's pulses behind its leader are data: a sync is short beside them
MOST_ODD = 8  # pulses of a leader that do not repeat those before
SAME_LEADER, SAME_LEADER_US = 0.25, 250.0  # by which the pulses of two leaders may differ: 60 µs of jitter in each edge
FEWEST_IN_COPY = 16  # bits that say the same again without a gap: a copy, and no section

Part = tuple[int, int, list[Row]]  # first and last mark, rows of data


def parts_of(d: Floats, rows: Sequence[Row]) -> list[Part]:
    """The frames, or sections of one, that a burst's rows make. ``d``: all its durations in µs, a mark first."""
    longest_space = max(float(d[row.first : row.last + 1][1 - row.first % 2 :: 2].max(initial=0.0)) for row in rows)
    gap_us = max(SHORTEST_GAP_US, GAP_IN_SPACES * longest_space)
    data = _data(d, rows, gap_us)
    if not data:
        return []
    first = max(0, data[0].first - LONGEST_LEADER) // 2 * 2
    leader = d[first : data[0].first]
    groups, starts, ends = [[data[0]]], [first], []
    for before, row in pairwise(data):
        gap = _gap_between(d, before, row, leader, gap_us)
        if gap is None:
            groups[-1].append(row)
            continue
        ends.append(gap - 1)
        starts.append(gap + 1)
        groups.append([row])
    ends.append(_trailer_ends(d, data[-1].last))
    return list(zip(starts, ends, groups, strict=True))


def is_mostly_data(d: Floats, leader: int, told: int) -> bool:
    """Whether ``told`` of a frame's pulses are enough for its being one, with so many before the data."""
    odd = leader - np.count_nonzero(repeats_itself(d[:leader]))
    return bool(told >= MOSTLY * (d.size - leader) and odd <= min(MOST_ODD, told / 2))


def _data(d: Floats, rows: Sequence[Row], gap_us: float) -> list[Row]:
    """The rows without run-ins: equal symbols at the very beginning, as many behind each gap, and those that stand
    nearer to what follows than to what was before.
    """
    between = [float(d[a.last + 1 : b.first].max(initial=0.0)) for a, b in pairwise(rows)]
    first = rows[0]
    before = [math.inf if first.first <= 1 else 0.0, *between]
    usual = _symbols(first) if first.bare and first.first <= 1 else 0
    out = []
    for row, rest, gap in zip(rows[:-1], before[:-1], between, strict=True):
        alone = row.bare and rest >= gap_us and _symbols(row) <= LONGEST_RUN_IN
        if not (alone and (abs(_symbols(row) - usual) <= 1 or rest > GAP_IN_SPACES * gap)):
            out.append(row)
    out.append(rows[-1])
    return out if len(out) == len(rows) or any(not row.bare for row in out) else []


def _symbols(row: Row) -> int:
    return int(row.line.bits.size) // row.line.symbol_bits


def _trailer_ends(d: Floats, last: int) -> int:
    """The mark that ends a frame whose last symbol ends with pulse ``last``; a sync may stand behind it."""
    end, own_end = d.size - 1, last + last % 2
    behind = d[own_end + 1 :]
    return end if last + LONGEST_BEHIND >= end and behind.max(initial=0.0) < SURE_GAP_US else own_end


def _gap_between(d: Floats, before: Row, row: Row, leader: Floats, gap_us: float) -> int | None:
    """The space that parts two rows; None where they are one frame with a sync inside it.

    It stands before what is like the first leader; else it is the longest one.
    """
    spaces = np.arange(before.last + 1 + before.last % 2, row.first, 2)
    if not spaces.size:
        return None
    at = row.first - leader.size - 1
    if leader.size and at in spaces and _as_long(d[at + 1 : row.first], leader):
        while leader.size > 1 and at - 2 >= spaces[0] and _as_long(d[at - 1 : at + 1], leader[:2]):
            at -= 2  # what runs in may do so for longer the second time
        if d[at] >= SHORTEST_GAP_US:
            return at
    longest = int(spaces[np.argmax(d[spaces])])
    copy = before.line.bits.size >= FEWEST_IN_COPY and np.array_equal(before.line.bits, row.line.bits)
    return longest if d[longest] >= gap_us or copy else None


def _as_long(some: Floats, leader: Floats) -> bool:
    """Whether pulses are those of a leader."""
    return bool(np.all(np.abs(some - leader) < np.maximum(SAME_LEADER * leader, SAME_LEADER_US)))
