"""Frames of which only the falling edges were logged: a mark and the space behind it together, as one period.

Pulse distance can be read from them, since its marks are all alike: the periods tell the spaces.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.clusters import find_clusters
from eager_tern.linecode.identify import identify
from eager_tern.linecode.likelihood import any_pulse_score
from eager_tern.protocol.matching import Match, match_sheets
from eager_tern.protocol.presses import Frame, group_presses
from eager_tern.protocol.reading import UNKNOWN, Reading, reading_of_line, reading_of_match
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.protocol.take import TakeRead
from eager_tern.protocol.template import is_paired, symbol_template
from eager_tern.signal.assumed import SURE_GAP_US
from eager_tern.signal.values import Floats, Pulses

FEWEST_PERIODS = 1  # of a repeat code
LEAST_MARK = 0.5  # of the shortest period: what a mark is taken for where no sheet tells it
SURE = 0.98  # confidence in what half of the edges say, at the most
EITHER_CODE = 0.6  # where no sheet tells: pulse width with equal spaces looks the same
LONGEST_PERIOD = 3.5  # of the shortest: what is longer is a leader
ONE_SYMBOL = 1.3  # of the shortest period: no pulse distance has two symbols so close
CLOSE = 0.25  # rms of a unit between ruler and edges


def read_periods(falling_us: Floats, sheets: Sequence[Sheet]) -> TakeRead:
    """The frames between some falling edges (µs). Their pulses are made up where an edge was not logged."""
    gaps = np.flatnonzero(np.diff(falling_us) > SURE_GAP_US) + 1
    frames: list[Frame] = []
    durations: list[Floats] = []
    at = 0
    for edges in np.split(falling_us, gaps):
        periods = np.diff(edges)
        if periods.size < FEWEST_PERIODS or periods.min() <= 0:
            continue
        read = _read(periods, sheets)
        if read is None:
            continue
        lengths, reading = read
        frame = Frame(at, at + lengths.size - 1, Pulses(lengths, float(edges[0])), (reading,))
        if durations:
            durations.append(np.array([edges[0] - frames[-1].pulses.end_us]))
        durations.append(lengths)
        frames.append(frame)
        at += lengths.size + 1
    start = frames[0].pulses.start_us if frames else 0.0
    pulses = Pulses(np.concatenate(durations) if durations else np.empty(0), start)
    return TakeRead(pulses, tuple(group_presses(frames)), ())


def _read(periods: Floats, sheets: Sequence[Sheet]) -> tuple[Floats, Reading] | None:
    best: tuple[float, Floats, Match] | None = None
    for sheet in sheets:
        if sheet.code != "pulse-distance" or not is_paired(sheet):
            continue
        for kind in sheet.frames:
            lengths = _with_marks(periods, sheet, kind)
            for match in match_sheets(lengths[None], (sheet,), CLOSE)[0] if lengths is not None else []:
                score = match.score - float(any_pulse_score(match.expected_us))
                if lengths is not None and match.kind.name == kind.name and (best is None or score > best[0]):
                    best = score, lengths, match
    if best is not None and best[0] > 0:
        return best[1], reading_of_match(best[2], SURE)
    shortest = _shortest(periods)
    if len(find_clusters(periods[periods < LONGEST_PERIOD * shortest])) != 2:
        return None  # bi-phase has three, and what was sent cannot be told from half of its edges
    mark = LEAST_MARK * float(periods.min())
    lengths = np.append(np.column_stack((np.full(periods.size, mark), periods - mark)).ravel(), mark)
    found = [line for line in identify(Pulses(lengths)) if line.code == "pulse-distance"]
    if not found:
        return None
    return lengths, replace(reading_of_line(found[0], min(found[0].probability, EITHER_CODE)), protocol=UNKNOWN)


def _shortest(periods: Floats) -> float:
    """The length of the shortest symbol, however few of a frame's are."""
    return float(periods[periods < ONE_SYMBOL * periods.min()].mean())


def _with_marks(periods: Floats, sheet: Sheet, kind: FrameKind) -> Floats | None:
    """Marks and spaces, the marks as the sheet has them at its own clock; None where their number is not the
    sheet's.
    """
    template = symbol_template(sheet, kind)
    if kind.section_count > 1 or template.place.size != 2 * periods.size + 1:
        return None
    marks = template.lengths[0, 0::2]
    each = template.lengths[:, 0:-1:2] + template.lengths[:, 1::2]
    shortest, first = float(np.nanmin(each)), float(np.nanmax(each[:, 0]))
    if first > LONGEST_PERIOD * shortest:  # a leader tells the clock best
        unit = float(periods[0]) / first
    else:
        unit = _shortest(periods) / shortest if kind.bit_count else sheet.unit_us
    unit = float(np.clip(unit, sheet.unit_us * (1 - sheet.tolerance), sheet.unit_us * (1 + sheet.tolerance)))
    lengths = np.empty(2 * periods.size + 1)
    lengths[0::2] = marks * unit
    lengths[1::2] = periods - lengths[0:-1:2]
    return lengths if (lengths > 0).all() else None
