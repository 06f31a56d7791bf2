"""Presses as they arrive on a bad day: fades, interference, gain that settles, recordings that begin or end within.

Damage is done to the line itself, by times and levels, whatever is sent on it. Written from how receivers and recorders
fail, not from how frames are read here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from msgspec import Struct

from tests.handsets import ALL_PROTOCOLS, join, random_press, record
from tests.strangers import CODES, a_stranger, take_of

SILENCE_US = 400_000.0
Edges = np.ndarray  # µs from the first mark on; every second one ends a mark


class BadDay(Struct, frozen=True):
    """A take and what was sent in it: from when to when (µs), and protocol and fields, or line code, sections, bits."""

    signed: np.ndarray
    sent: list[tuple[float, float, Any]]


def held_at(edges: Edges, begin: float, end: float, mark: bool) -> Edges:
    """The line held at one level for a while."""
    first, last = np.searchsorted(edges, [begin, end])
    inside = [at for at, edge in ((begin, first), (end, last)) if (edge % 2 == 1) != mark]
    return np.array([*edges[:first], *inside, *edges[last:]])


def fade(rng: np.random.Generator, edges: Edges) -> Edges:
    begin = rng.uniform(0, edges[-1])
    return held_at(edges, begin, begin + rng.uniform(1_500, 9_000), False)


def begun_late(rng: np.random.Generator, edges: Edges) -> Edges:
    return held_at(edges, -1e3, rng.uniform(500, min(0.6 * edges[-1], 20_000)), False)


def ended_early(rng: np.random.Generator, edges: Edges) -> Edges:
    return held_at(edges, rng.uniform(0.4, 1) * edges[-1], edges[-1] + 1e3, False)


def interference(rng: np.random.Generator, edges: Edges) -> Edges:
    about = rng.uniform(0, edges[-1])
    for _ in range(int(rng.integers(1, 6))):
        at = about + rng.uniform(0, 4_000)
        edges = held_at(edges, at, at + rng.uniform(25, 160), np.searchsorted(edges, at, side="right") % 2 == 0)
    return edges


def lost_mark(rng: np.random.Generator, edges: Edges) -> Edges:
    at = 2 * int(rng.integers(0, edges.size // 2))
    return np.delete(edges, [at, at + 1])


def lost_space(rng: np.random.Generator, edges: Edges) -> Edges:
    at = 2 * int(rng.integers(0, max(edges.size // 2 - 1, 1))) + 1
    return np.delete(edges, [at, at + 1]) if edges.size > 3 else edges


def settling_gain(rng: np.random.Generator, edges: Edges) -> Edges:
    """The first marks end too soon, each a little less so."""
    count, out = int(rng.integers(2, 10)), edges.copy()
    for mark in range(min(count, edges.size // 2)):
        begin, end = edges[2 * mark : 2 * mark + 2]
        out[2 * mark + 1] -= (count - mark) / count * rng.uniform(0.3, 0.9) * (end - begin)
    return out


DAMAGE: dict[str, Callable[[np.random.Generator, Edges], Edges]] = {
    each.__name__.replace("_", " "): each
    for each in (fade, begun_late, ended_early, interference, lost_mark, lost_space, settling_gain)
}


def bad_days(damage: str, known: bool, count: int, seed: int) -> Iterator[BadDay]:
    """Takes of one to four presses, in each of which one copy met with the damage."""
    for number in range(count):
        rng = np.random.default_rng([seed, number, known])
        excess, jitter = float(rng.uniform(-40, 80)), float(rng.choice([10, 25, 40]))
        signed: list[float] = []
        sent: list[tuple[float, float, Any]] = []
        for _ in range(int(rng.integers(1, 5))):
            copies, said = _press(rng, known)
            edges = np.cumsum(np.abs(record([-1e4, *copies], rng, jitter_us=jitter, excess_us=excess)))
            edges = np.maximum.accumulate(edges - edges[0]) + np.arange(edges.size) * 1e-3
            ends = np.concatenate(([0], np.flatnonzero(np.diff(edges) > 5_000) + 1, [edges.size]))
            hit = int(rng.integers(len(ends) - 1))
            copy = edges[ends[hit] : ends[hit + 1]]
            hurt = DAMAGE[damage](rng, copy - copy[0]) + copy[0] if copy.size % 2 == 0 else copy
            begin = float(np.abs(signed).sum()) + SILENCE_US
            sent.append((begin, begin + float(edges[-1]), said))
            line = np.concatenate((edges[: ends[hit]], hurt, edges[ends[hit + 1] :]))
            lengths = np.maximum(np.diff(line, prepend=-SILENCE_US), 1.0)
            signed += (lengths * np.where(np.arange(lengths.size) % 2, 1, -1)).tolist()
        yield BadDay(np.array([*signed, -SILENCE_US]), sent)


def _press(rng: np.random.Generator, known: bool) -> tuple[list[float], Any]:
    """A press from its first mark to its last, and what it says."""
    if known:
        signed, sent = random_press(rng, ALL_PROTOCOLS[int(rng.integers(len(ALL_PROTOCOLS) - 1))], 0)
        what: Any = (sent.protocol, {name: value for name, value in sent.fields.items() if name != "text"})
    else:
        stranger = a_stranger(rng, CODES[int(rng.integers(len(CODES)))], "mark-space")
        signed, pressed = take_of(rng, stranger, 1)
        what = (stranger.code, (), pressed[0].bits)
    signed = join(list(signed))
    signed = signed[1:] if signed[0] < 0 else signed
    return (signed[:-1] if signed[-1] < 0 else signed), what
