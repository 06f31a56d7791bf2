"""A whole take: its pulses to frames, presses and what is left over as noise."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from eager_tern.protocol.presses import Frame, Press, group_presses
from eager_tern.protocol.reading import UNKNOWN, read_frame
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.bursts import GapSettings, split_bursts
from eager_tern.signal.polarity import find_polarity
from eager_tern.signal.values import Edges, Polarity, Pulses, pulses_from_edges

FEWEST_PULSES = 3  # a leader with its trailer


@dataclass(frozen=True)
class TakeRead:
    """``noise`` lists the index ranges (first and last mark) of the bursts that are no frames."""

    pulses: Pulses
    presses: tuple[Press, ...]
    noise: tuple[tuple[int, int], ...]

    @property
    def frames(self) -> list[Frame]:
        return [frame for press in self.presses for frame in press.frames]


def read_pulses(pulses: Pulses, sheets: Sequence[Sheet], gaps: GapSettings | None = None) -> TakeRead:
    """Frames found by their gaps, read with the sheets and grouped into presses."""
    frames, noise = read_bursts(pulses, sheets, gaps)
    return TakeRead(pulses, tuple(group_presses(frames)), tuple(noise))


def read_bursts(
    pulses: Pulses, sheets: Sequence[Sheet], gaps: GapSettings | None = None
) -> tuple[list[Frame], list[tuple[int, int]]]:
    """The frames among the bursts of a recording, and the index ranges of the rest."""
    frames: list[Frame] = []
    noise: list[tuple[int, int]] = []
    edges = pulses.edge_times_us
    bursts = split_bursts(pulses, gaps)
    at = 0
    while at < len(bursts):
        for count in section_counts(sheets):
            if at + count > len(bursts):
                continue
            first, last = bursts[at][0], bursts[at + count - 1][1]
            burst = Pulses(pulses.durations_us[first : last + 1], float(edges[first]), pulses.carrier_hz)
            several = [s for s in sheets if any(k.section_count == count for k in s.frames)] if count > 1 else sheets
            readings = read_frame(burst, several) if last - first + 1 >= FEWEST_PULSES else ()
            if readings and (count == 1 or readings[0].protocol != UNKNOWN):
                frames.append(Frame(first, last, burst, readings))
                break
        else:
            count = 1
            noise.append(bursts[at])
        at += count
    return frames, noise


def section_counts(sheets: Sequence[Sheet]) -> list[int]:
    """How many bursts a frame of the sheets may have, most first."""
    return sorted({1, *(kind.section_count for sheet in sheets for kind in sheet.frames)}, reverse=True)


def read_edges(edges: Edges, sheets: Sequence[Sheet], polarity: Polarity | None = None) -> tuple[Polarity, TakeRead]:
    """A two-level recording read with the polarity given, or the one found.

    Where the line never rests, so that its level says nothing, the polarity that reads better is taken.
    """
    if polarity is not None:
        return polarity, read_pulses(pulses_from_edges(edges, polarity), sheets)
    found = find_polarity(edges)
    take = read_pulses(pulses_from_edges(edges, found.polarity), sheets)
    if found.sure:
        return found.polarity, take
    other: Polarity = "mark-high" if found.polarity == "mark-low" else "mark-low"
    turned = read_pulses(pulses_from_edges(edges, other), sheets)
    return (other, turned) if _weight(turned) > _weight(take) else (found.polarity, take)


def _weight(take: TakeRead) -> float:
    """How many bits were read, those of known protocols first of all."""
    best = [frame.best for frame in take.frames if frame.best is not None]
    return sum(r.confidence * r.bits.size * (0.1 if r.protocol == UNKNOWN else 1.0) for r in best)
