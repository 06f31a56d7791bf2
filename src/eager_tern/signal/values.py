"""The values of the first stage: samples, edges, pulses."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from typing import Literal

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

Floats = NDArray[np.float64]
Levels = NDArray[np.float32]  # of a sampled line, shape (n,)
Polarity = Literal["mark-low", "mark-high"]


class Edges(Struct, frozen=True):
    """The changes of a two-level line, before anyone has said which level is a mark.

    ``times_us`` has shape (n,) and rises. The line is ``starts_high`` or not before the first edge and turns
    at each. The recording lasts from ``start_us`` to ``end_us``.
    """

    times_us: Floats
    starts_high: bool
    start_us: float
    end_us: float


class Pulses(Struct, frozen=True, dict=True):
    """Alternating marks and spaces, µs.

    ``durations_us`` has shape (n,), n odd or zero: it begins and ends with a mark. ``start_us`` is the start of
    the first mark, counted from the start of the take.
    """

    durations_us: Floats
    start_us: float = 0.0
    carrier_hz: float | None = None

    @property
    def edge_times_us(self) -> Floats:
        """Times of all edges, shape (n + 1,), counted from the start of the take."""
        return self.start_us + np.concatenate(([0.0], np.cumsum(self.durations_us)))

    @cached_property
    def duration_us(self) -> float:
        return float(self.durations_us.sum())

    @property
    def end_us(self) -> float:
        return self.start_us + self.duration_us

    def part(self, first: int, last: int, edges_us: Floats | None = None) -> Pulses:
        """The pulses from mark ``first`` to mark ``last``, both even indices and included.

        ``edges_us`` are ``edge_times_us`` where they are known, so that they are not added up for each part.
        """
        start = self.start_us + float(self.durations_us[:first].sum()) if edges_us is None else float(edges_us[first])
        return Pulses(self.durations_us[first : last + 1], start, self.carrier_hz)


NO_PULSES = Pulses(np.empty(0))


def pulses_from_signed(durations_us: Floats, start_us: float = 0.0, carrier_hz: float | None = None) -> Pulses:
    """Pulses from signed durations (positive: mark, negative: space), of any order.

    Neighbours of one sign are joined, zeros dropped, a space before the first mark moves the start, one after the
    last is left out.
    """
    signed = merged_durations(durations_us)
    if signed.size == 0:
        return Pulses(np.empty(0), start_us, carrier_hz)
    joined = np.abs(signed)
    if signed[0] < 0:
        start_us += float(joined[0])
        joined = joined[1:]
    odd = joined.size - 1 + joined.size % 2
    return Pulses(joined[: max(odd, 0)], start_us, carrier_hz)


def merged_durations(signed_us: Floats) -> Floats:
    """Signed durations with neighbours of one sign joined and zeros dropped: marks and spaces in turn."""
    signed = np.asarray(signed_us, dtype=np.float64)
    if not signed.all():
        signed = signed[signed != 0]
    marks = signed > 0
    turns = marks[1:] != marks[:-1]
    if not turns.all():
        signed = np.add.reduceat(signed, np.concatenate(([0], np.flatnonzero(turns) + 1)))
    return signed


def signed_durations(pulses: Pulses) -> Floats:
    """Durations with their sign: marks positive, spaces negative, shape (n,)."""
    signed = pulses.durations_us.copy()
    signed[1::2] *= -1
    return signed


def in_one_row(parts: Iterable[Pulses]) -> Pulses:
    """Pulses one after the other, silence between; what begins before the one in front has ended is left out."""
    signed: list[Floats] = []
    now = 0.0
    for part in sorted((p for p in parts if p.durations_us.size), key=lambda p: p.start_us):
        if part.start_us >= now:
            signed += [np.array([now - part.start_us]), signed_durations(part)]
            now = part.end_us
    return pulses_from_signed(np.concatenate(signed)) if signed else NO_PULSES


def signed_from_start(pulses: Pulses) -> Floats:
    """As ``signed_durations``, with the silence before the first mark in front where there is one."""
    signed = signed_durations(pulses)
    return np.concatenate(([-pulses.start_us], signed)) if pulses.start_us > 0 else signed


def pulses_from_edges(edges: Edges, polarity: Polarity) -> Pulses:
    """The pulses of a line whose marks have the given polarity.

    A level that was there before the first edge or stays after the last counts as a mark if it is one: its length is
    what was seen of it.
    """
    times = np.concatenate(([edges.start_us], edges.times_us, [edges.end_us]))
    durations = np.diff(times)
    signs = np.ones(durations.size)
    starts_as_mark = edges.starts_high == (polarity == "mark-high")
    signs[int(starts_as_mark) :: 2] = -1
    return pulses_from_signed(durations * signs, 0.0)
