"""Gadgets that no sheet describes, written from how such things are built and not from how they are read here.

Signals are lists of signed durations in µs, marks positive; what a receiver adds, ``tests.handsets.record`` does.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from tests.handsets import join

SILENCE_US = 600_000.0


class Stranger(Struct, frozen=True):
    """One gadget: its line code as the contract names it, its leader's shape, and the bits of each section.

    ``frame`` makes the signed durations of one frame from the bits of its sections; ``rest_us`` lies between copies.
    """

    code: str
    leader: str
    sections: tuple[int, ...]
    unit_us: float
    rest_us: float
    copies: int
    frame: Callable[[list[list[int]]], list[float]]


class Pressed(Struct, frozen=True):
    """What was really sent in one press."""

    start_us: float
    bits: list[int]
    copies: int


LEADERS = ("none", "mark", "mark-space", "double", "three-alike", "run-in", "few-bits", "sync-before", "sync-behind")
CODES = ("pulse-distance", "pulse-width", "duty", "biphase")


def a_stranger(rng: np.random.Generator, code: str, leader: str, sections: int = 1) -> Stranger:
    """A gadget of a line code and a leader's shape; unit, ratio, lengths and rests are drawn."""
    unit = float(rng.uniform(350, 650))
    ratio = float(rng.uniform(2.7, 3.7)) if rng.random() < 0.6 else 2.0
    if leader == "run-in" or code in ("duty", "biphase"):
        ratio = 2.0 if rng.random() < 0.6 else 3.0
    # A section may be a single byte beside a long one.
    sizes = tuple(int(8 * rng.integers(3 if sections == 1 else 1, 14)) for _ in range(sections))
    own_leaders = sections == 1 or bool(rng.random() < 0.5)
    gap = float(rng.uniform(2_500, 34_000))
    gap = max(gap, 6.5 * unit) if code != "biphase" else max(gap, 9 * unit)
    before = _leader(rng, leader, unit, ratio)
    behind = [unit, -float(rng.uniform(8, 14)) * unit, unit] if leader == "sync-behind" else []
    behind = behind[1:] if code == "biphase" else behind  # a mark would join the last half bit
    trailer = code == "pulse-distance"
    longest = max([abs(d) for d in before[1::2] if abs(d) < 12_000] + [gap if sections > 1 else 0.0])
    rest = float(rng.uniform(max(1.4 * longest, 9 * unit, 3_900), 90_000 + longest))

    def frame(bits: list[list[int]]) -> list[float]:
        signed: list[float] = []
        for number, own in enumerate(bits):
            if number:
                signed.append(-gap)
            signed += before if number == 0 or own_leaders else []
            signed += [*_symbols(own, code, unit, ratio), *(behind or [unit] * trailer)]
        while signed[-1] < 0:
            signed.pop()
        return signed

    named = {"duty": "pulse-width"}.get(code, code)
    return Stranger(named, leader, sizes, unit, rest, int(rng.integers(1, 4)), frame)


def _leader(rng: np.random.Generator, shape: str, unit: float, ratio: float) -> list[float]:
    long, short = (float(rng.uniform(a, b)) * unit for a, b in ((7, 17), (4.6, 8)))
    if shape == "mark":
        return [long, -unit]
    if shape == "mark-space":
        return [long, -short]
    if shape == "double":
        return [long * 0.6, -short, long * 0.6, -short]
    if shape == "three-alike":
        return [6 * unit, -6 * unit, 6 * unit, -8.5 * unit]
    if shape == "run-in":
        count = int(rng.integers(8, 41))
        alike = [unit, -unit] * count
        return [*alike[:-1], -10 * unit] if rng.random() < 0.5 else [*alike, 3 * unit, -3 * unit]
    if shape == "few-bits":
        return [*[unit, -unit] * 5, unit, -25_000.0, long, -short]
    return [unit, -8 * unit] if shape == "sync-before" else []


def _symbols(bits: list[int], code: str, unit: float, ratio: float) -> list[float]:
    out: list[float] = []
    for bit in bits:
        if code == "pulse-distance":
            out += [unit, -unit * (ratio if bit else 1.0)]
        elif code == "pulse-width":
            out += [unit * (ratio if bit else 1.0), -unit]
        elif code == "duty":
            out += [unit * ratio, -unit] if bit else [unit, -unit * ratio]
        else:
            out += [unit, -unit] if bit else [-unit, unit]
    return out


def take_of(rng: np.random.Generator, stranger: Stranger, presses: int = 3) -> tuple[list[float], list[Pressed]]:
    """Presses of different keys: the header stays, a few bytes change."""
    header = [rng.integers(0, 2, size).tolist() for size in stranger.sections]
    signed, sent, now = [-SILENCE_US], [], SILENCE_US
    for _ in range(presses):
        bits = [list(own) for own in header]
        for own in bits:
            at = 8 * int(rng.integers(min(1, len(own) // 8 - 1), len(own) // 8))
            own[at : at + 8] = rng.integers(0, 2, 8).tolist()
        frame = join(stranger.frame(bits)).tolist()
        sent.append(Pressed(now, [bit for own in bits for bit in own], stranger.copies))
        for copy in range(stranger.copies):
            signed += [*frame, -(stranger.rest_us if copy < stranger.copies - 1 else SILENCE_US)]
        now = float(np.abs(signed).sum())
    return signed, sent
