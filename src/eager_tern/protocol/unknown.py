"""Frames that no sheet describes, found over several bursts at once: lengths that recur are data, the rest separates
them.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np

from eager_tern.linecode import prices
from eager_tern.linecode.closeness import COARSEST, STEADY
from eager_tern.linecode.identify import FEWEST_PULSES, as_one
from eager_tern.linecode.likelihood import any_pulse_score, noise_score, probabilities
from eager_tern.linecode.parts import is_mostly_data, parts_of
from eager_tern.linecode.rows import Parsed
from eager_tern.linecode.runs import parsed
from eager_tern.protocol.arbiter import Candidate
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import UNKNOWN, Reading, reading_of_line
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


def several_unknown(pulses: Pulses, offset: int) -> Candidate | None:
    """The same where they are several: copies that follow each other closely, or sections."""
    found = unknown_frames(pulses, offset)
    return found if found is not None and len(found.frames) > 1 else None


def _fits(found: Parsed) -> bool:
    clocks = [row.line.clock for row in found.rows if not row.bare]
    return bool(clocks) and float(np.mean([c.rms_us / c.unit_us for c in clocks])) < COARSEST


def keep_time(frames: Sequence[Frame]) -> list[bool]:
    """Whether each of some unknown frames is one unbroken row of symbols behind its leader, so that it holds no stray
    pulse.
    """
    return [even and _is_one_row(frame.reading) for frame, even in zip(frames, _are_even(frames), strict=True)]


def pulses_told(frames: Sequence[Frame]) -> int:
    """How many of the pulses of unknown frames their line code explains closely."""
    told = [np.count_nonzero(~np.isnan(frame.reading.expected_us)) for frame in frames]
    return sum(int(count) for count, even in zip(told, _are_even(frames), strict=True) if even)


def _is_one_row(best: Reading) -> bool:
    told = np.flatnonzero(~np.isnan(best.expected_us))
    return best.protocol == UNKNOWN and bool(told[-1] - told[0] + 1 == told.size)


def _are_even(frames: Sequence[Frame]) -> list[bool]:
    """Whether the pulses of each frame lie close to its ruler, or those of all its copies on the average: noise
    averages out, a misread pulse does not.
    """
    said = [(frame.reading.bits.tobytes(), frame.pulses.durations_us.size) for frame in frames]
    copies: dict[tuple[bytes, int], list[Frame]] = {}
    for frame, what in zip(frames, said, strict=True):
        copies.setdefault(what, []).append(frame)
    together = {what: _unevenness(of) for what, of in copies.items()}
    return [
        frame.reading.bits.size >= FEWEST_STEADY
        and min(frame.reading.clock.rms_us, together[what]) < STEADY * frame.reading.clock.unit_us
        for frame, what in zip(frames, said, strict=True)
    ]


def _unevenness(copies: Sequence[Frame]) -> float:
    """By how much (µs) the pulses of copies err together; infinite where none is told in all of them."""
    errors = np.mean([frame.pulses.durations_us - frame.reading.expected_us for frame in copies], axis=0)
    return float(np.sqrt(np.nanmean(errors**2))) if not np.isnan(errors).all() else np.inf
