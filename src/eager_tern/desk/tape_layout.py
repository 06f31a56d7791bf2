"""Where the lines of a wrapped tape begin and end."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from eager_tern.protocol.layout import BitGroup
from eager_tern.protocol.reading import Reading
from eager_tern.signal.values import Pulses
from eager_tern.texts import tr

LONGER_THAN_A_BIT = 3.0  # is a silence between sections; a wide bit of pulse distance is twice the usual one
PLAIN_LINES = 4  # a frame that nobody can read is cut into about so many


class TapeLine(Struct, frozen=True):
    """One line: times are counted from the frame's first edge. ``bits`` is the range of bits on it, if any."""

    caption: str
    from_us: float
    to_us: float
    bits: tuple[int, int] | None = None


def wrapped_lines(pulses: Pulses, reading: Reading | None, groups: list[BitGroup]) -> list[TapeLine]:
    """Lines that break where the bits' groups do: the leader, then a line for each group or for several small ones."""
    whole = pulses.duration_us
    if reading is None or not reading.bits.size:
        return [TapeLine("", 0.0, whole)] if reading is not None else _even(whole)
    spans = reading.bit_spans_us
    starts = [max(float(spans[g.first, 0]), 0.0) for g in groups]
    lines: list[TapeLine] = []
    if starts[0] > 0:
        lines.append(TapeLine(tr("leader"), 0.0, starts[0]))
    gaps = _gaps(pulses, reading)
    joined = _join_small(groups)
    for n, members in enumerate(joined):
        first, last = members[0].first, members[-1].last
        following = joined[n + 1][0].first if n + 1 < len(joined) else -1
        gap = gaps.get(following)
        end = whole if following < 0 else gap[0] if gap is not None else float(spans[following, 0])
        names = list(dict.fromkeys(g.name for g in members if g.name))
        caption = ", ".join(names) if 1 <= len(names) <= 2 else tr("bits {first}–{last}", first=first, last=last)
        lines.append(TapeLine(caption, max(float(spans[first, 0]), 0.0), end, (first, last)))
        if gap is not None and gap[1] < float(spans[following, 0]):
            caption = tr("after {ms:.1f} ms", ms=(gap[1] - gap[0]) / 1000.0)
            lines.append(TapeLine(caption, gap[1], float(spans[following, 0])))
    return lines


def _gaps(pulses: Pulses, reading: Reading) -> dict[int, tuple[float, float]]:
    """The silence before each section but the first, by the section's first bit: a new line begins behind it, so that
    it does not set the scale. It is longer than any bit, and parts bits that else follow each other.
    """
    edges, spans = pulses.edge_times_us - pulses.start_us, reading.bit_spans_us
    longest_bit = float(np.median(spans[:, 1] - spans[:, 0])) * LONGER_THAN_A_BIT
    found = {}
    for bit in (np.flatnonzero(spans[1:, 0] - spans[:-1, 1] > longest_bit) + 1).tolist():
        inside = np.flatnonzero((edges > spans[bit - 1, 0]) & (edges <= spans[bit, 0]))
        spaces = [(edges[at], edges[at + 1]) for at in inside.tolist() if at % 2 and at + 1 < edges.size]
        longest = max(spaces, key=lambda space: space[1] - space[0], default=(0.0, 0.0))
        if longest[1] - longest[0] > longest_bit:
            found[bit] = float(longest[0]), float(longest[1])
    return found


def _join_small(groups: list[BitGroup]) -> list[list[BitGroup]]:
    """Groups of a few bits share a line."""
    lines: list[list[BitGroup]] = []
    for group in groups:
        if lines and (group.width < 4 and sum(g.width for g in lines[-1]) + group.width <= 4):
            lines[-1].append(group)
        else:
            lines.append([group])
    return lines


def _even(whole: float) -> list[TapeLine]:
    step = whole / PLAIN_LINES
    return [TapeLine("", n * step, (n + 1) * step) for n in range(PLAIN_LINES)]
