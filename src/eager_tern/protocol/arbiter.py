"""Explanations of stretches of a take, and the best set of them that does not overlap.

All evidence is in nats over pulses that could be anything: of the timing, of what bits and checks say, of how usual a
code is, less a price for each thing that is assumed. So it adds up, and what explains nothing weighs nothing.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from itertools import accumulate
from math import exp, inf

from msgspec import Struct
from msgspec.structs import replace

from eager_tern.protocol.presses import Frame, with_confidence


class Candidate(Struct, frozen=True, gc=False):
    """One way to explain the pulses from mark ``first`` to mark ``last``: the frames there, and the evidence for
    all.
    """

    first: int
    last: int
    frames: tuple[Frame, ...]
    evidence: float


def best_set(candidates: Sequence[Candidate]) -> list[Candidate]:
    """The candidates that explain most together, none of which overlaps another, in order of time.

    (Weighted interval scheduling by dynamic programming: Kleinberg and Tardos 2005, "Algorithm Design", 6.1.) Those
    that have no evidence are left out. Of equals the one that ends first is taken. No frame is surer than the odds of
    this set over the best one with something else in its place.
    """
    worth = _in_order(candidates)
    before, most = _most_up_to_each(worth)
    chosen: list[Candidate] = []
    at = len(worth)
    while at:
        if most[at] > most[at - 1]:
            chosen.append(worth[at - 1])
            at = before[at - 1]
        else:
            at -= 1
    return _as_sure_as_beside_others(chosen[::-1], worth, most)


def _in_order(candidates: Sequence[Candidate]) -> list[Candidate]:
    return sorted((c for c in candidates if c.evidence > 0), key=lambda c: (c.last, c.first))


def _most_up_to_each(worth: Sequence[Candidate]) -> tuple[list[int], list[float]]:
    """Of candidates in order: how many end before each begins, and the most evidence in the first n of them."""
    ends = [c.last for c in worth]
    before = [bisect_left(ends, c.first) for c in worth]
    most = [0.0]
    for each, free in zip(worth, before, strict=True):
        most.append(max(most[-1], most[free] + each.evidence))
    return before, most


def _as_sure_as_beside_others(
    chosen: Sequence[Candidate], worth: Sequence[Candidate], most: Sequence[float]
) -> list[Candidate]:
    """The chosen ones, each no surer than what the best set with another explanation in its place leaves of chance."""
    ends = [c.last for c in worth]
    turned = _in_order([replace(c, first=-c.last, last=-c.first) for c in worth])
    begins = [c.last for c in turned]
    _, most_behind = _most_up_to_each(turned)
    earliest = list(accumulate(reversed([c.first for c in worth]), min))[::-1]  # of each and those that end after it

    def most_with(other: Candidate) -> float:
        return most[bisect_left(ends, other.first)] + other.evidence + most_behind[bisect_left(begins, -other.last)]

    out = []
    for each in chosen:
        others, at = [], bisect_left(ends, each.first)
        while at < len(worth) and earliest[at] <= each.last:
            others += [worth[at]] if worth[at].first <= each.last and worth[at] is not each else []
            at += 1
        beside = max((most_with(other) for other in others if not _agree(each, other)), default=-inf)
        chance = 1 / (1 + exp(min(beside - most[-1], 0.0)))
        frames = tuple(f if f.reading.confidence <= chance else with_confidence(f, chance) for f in each.frames)
        out.append(replace(each, frames=frames) if others else each)
    return out


def _agree(one: Candidate, other: Candidate) -> bool:
    """Whether two explanations say the same, where they speak of the same."""
    these, those = (
        {(frame.reading.protocol, frame.reading.bits.tobytes()) for frame in each.frames} for each in (one, other)
    )
    return these <= those or those <= these
