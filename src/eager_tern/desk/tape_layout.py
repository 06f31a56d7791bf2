"""Where the lines of a wrapped tape begin and end."""

from __future__ import annotations

from dataclasses import dataclass

from eager_tern.protocol.layout import BitGroup
from eager_tern.protocol.reading import Reading
from eager_tern.signal.values import Pulses

PLAIN_LINES = 4  # a frame that nobody can read is cut into about so many


@dataclass(frozen=True)
class TapeLine:
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
        lines.append(TapeLine("leader", 0.0, starts[0]))
    joined = _join_small(groups)
    for n, members in enumerate(joined):
        first, last = members[0].first, members[-1].last
        end = float(spans[joined[n + 1][0].first, 0]) if n + 1 < len(joined) else whole
        names = list(dict.fromkeys(g.name for g in members if g.name))
        caption = ", ".join(names) if 1 <= len(names) <= 2 else f"bits {first}–{last}"
        lines.append(TapeLine(caption, max(float(spans[first, 0]), 0.0), end, (first, last)))
    return lines


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
