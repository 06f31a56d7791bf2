"""Frames that no sheet describes, found over several bursts at once: lengths that recur are data, the rest separates
them.
"""

from __future__ import annotations

from collections import Counter

import numpy as np

from eager_tern.linecode import prices
from eager_tern.linecode.closeness import COARSEST, STEADY
from eager_tern.linecode.identify import FEWEST_PULSES, as_one
from eager_tern.linecode.likelihood import any_pulse_score, noise_score, probabilities
from eager_tern.linecode.parts import is_mostly_data, parts_of
from eager_tern.linecode.runs import Parsed, parsed
from eager_tern.protocol.arbiter import Candidate
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import UNKNOWN, reading_of_line
from eager_tern.signal.assumed import FEWEST_BITS
from eager_tern.signal.values import Pulses

FEWEST_STEADY = 16  # bits: a shorter row may be a part of something else


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
    chances = probabilities([*(each.score for each in codes), float(noise_score(d)) + prices.NOISE_HEAD_START])
    if chances[0] < 0.5:
        return None
    edges = pulses.edge_times_us
    frames = []
    for first, last, rows in parts_of(d, best.rows):
        part = pulses.part(first, last, edges)
        line = as_one(part.durations_us, best, rows, first)
        told = int(np.count_nonzero(~np.isnan(line.expected_us)))
        if line.bits.size >= FEWEST_BITS * len(rows) and is_mostly_data(part.durations_us, line.leader, told):
            frames.append(Frame(first + offset, last + offset, part, (reading_of_line(line, chances[0]),)))
    if not frames:
        return None
    said = Counter(frame.reading.bits.tobytes() for frame in frames)
    # Each copy costs what it would by itself; sections are one frame.
    evidence = best.score + prices.UNKNOWN * max(said.values()) - float(any_pulse_score(d))
    return Candidate(frames[0].first, frames[-1].last, tuple(frames), evidence)


def _fits(found: Parsed) -> bool:
    clocks = [row.line.clock for row in found.rows if not row.bare]
    return bool(clocks) and float(np.mean([c.rms_us / c.unit_us for c in clocks])) < COARSEST


def keeps_time(frame: Frame) -> bool:
    """Whether an unknown frame is one unbroken row of symbols behind its leader, so that it holds no stray pulse."""
    best = frame.reading
    told = np.flatnonzero(~np.isnan(best.expected_us))
    row = best.bits.size >= FEWEST_STEADY and told[-1] - told[0] + 1 == told.size
    return bool(row) and best.clock.rms_us < STEADY * best.clock.unit_us and best.protocol == UNKNOWN


def pulses_told(frame: Frame) -> int:
    """How many of an unknown frame's pulses its line code explains closely."""
    best = frame.reading
    steady = best.clock.rms_us < STEADY * best.clock.unit_us and best.bits.size >= FEWEST_STEADY
    return int(np.count_nonzero(~np.isnan(best.expected_us))) if steady else 0
