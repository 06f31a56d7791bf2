"""Explanations of stretches of a take, and the best set of them that does not overlap.

All evidence is in nats over pulses that could be anything: of the timing, of what bits and checks say, of how usual a
code is, less a price for each thing that is assumed. So it adds up, and what explains nothing weighs nothing.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass

from eager_tern.protocol.presses import Frame


@dataclass(frozen=True)
class Candidate:
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
    that have no evidence are left out. Of equals the one that ends first is taken.
    """
    worth = sorted((c for c in candidates if c.evidence > 0), key=lambda c: (c.last, c.first))
    ends = [c.last for c in worth]
    before = [bisect_left(ends, c.first) for c in worth]  # how many end before each begins
    most = [0.0]
    for each, free in zip(worth, before, strict=True):
        most.append(max(most[-1], most[free] + each.evidence))
    chosen: list[Candidate] = []
    at = len(worth)
    while at:
        if most[at] > most[at - 1]:
            chosen.append(worth[at - 1])
            at = before[at - 1]
        else:
            at -= 1
    return chosen[::-1]
