"""Pulses as asynchronous characters of some length: where each begins, and the level of each of its bits."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.biphase import UnitGrids, best_grids
from eager_tern.linecode.clock import alternating, expected_durations, fit_clock
from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.values import Clock
from eager_tern.signal.assumed import EDGE_JITTER_US
from eager_tern.signal.values import Floats

EXCESSES = np.linspace(-0.44, 0.44, 9)  # of the unit
FACTORS = np.linspace(0.82, 1.4, 30)
LONGEST_RUN = 9.5  # bits within a character
LONGEST_MARK = 12.5  # all bits of the longest character but its stop bit, on a clock that is off by an eighth
CLOCKS_TRIED = 8
CLOCKS_IN_A_ROW = 48
FIRST_PULSES = 40  # of a row, of which a clock is found that is fine enough for twice as many
CLOSER = np.linspace(-2.0, 2.0, 9)  # units by which the last edge may then be off


@dataclass(frozen=True)
class CharacterGrid:
    """Pulses as characters of ``levels.shape[1]`` bits: ``levels`` are True in a mark, ``starts_us`` the start bits.

    ``expected_us`` is NaN for the silence between characters.
    """

    clock: Clock
    levels: NDArray[np.bool_]
    starts_us: Floats
    expected_us: Floats


def on_serial_grid(
    durations_us: Floats, clocks: Sequence[tuple[float, float]], lengths: Iterable[int]
) -> dict[int, CharacterGrid]:
    """The pulses as characters of each of some lengths that they can be.

    Each by the best of several clocks (unit and excess, µs; the likeliest first).
    """
    units, excesses = np.array(clocks).T
    on_grid = _one_grid(durations_us[None], units[None], excesses[None])
    best = {length: _best_grids(durations_us[None], on_grid, clocks, length)[0] for length in lengths}
    return {length: placed for length, placed in best.items() if placed is not None}


def on_known_grid(durations_us: Floats, clock: Clock, length: int) -> list[CharacterGrid | None]:
    """Each of several frames, shape (frames, pulses), as characters of a length by a clock that is about known."""
    units, excesses = (np.full((len(durations_us), 1), each) for each in (clock.unit_us, clock.excess_us))
    on_grid = _one_grid(durations_us, units, excesses)
    return _best_grids(durations_us, on_grid, [(clock.unit_us, clock.excess_us)], length)


def _best_grids(
    durations_us: Floats, on_grid: UnitGrids, clocks: Sequence[tuple[float, float]], length: int
) -> list[CharacterGrid | None]:
    """Each frame as characters of a length by the way that fits best; one grid for the whole frame first."""
    out = []
    for d, row in zip(durations_us, _in_rows(durations_us, on_grid, length), strict=True):
        # Of a slow one, a rest of half a bit would pass for whole ones if its unit were all that counts.
        if row is None or row.clock.rms_us >= min(CLEAN * row.clock.unit_us, EDGE_JITTER_US):
            tried = row, _one_by_one(d, clocks[:CLOCKS_TRIED], length)
            row = min((each for each in tried if each is not None), key=lambda each: rms_of(each.clock), default=None)
        out.append(row)
    return out


def _in_rows(durations_us: Floats, on_grid: UnitGrids, length: int) -> list[CharacterGrid | None]:
    """Characters that follow each other without a rest, or with one of whole bits: on one grid for all of a frame,
    which bears twice the jitter that a grid does that begins anew with each start bit. None where none stand.
    """
    lengths = np.diff(on_grid.places, axis=1)
    # Longer, and a whole character is mark, its stop bit too.
    fits = on_grid.fits & (lengths[:, ::2] < 2 * length).all(axis=1)
    rows = np.flatnonzero(fits)
    out: list[CharacterGrid | None] = [None] * len(durations_us)
    if not rows.size:
        return out
    d, lengths, units, excesses = (
        each[rows] for each in (durations_us, lengths, on_grid.units_us, on_grid.excesses_us)
    )
    apart = np.arange(rows.size) * (int(on_grid.places[rows, -1].max()) + 2 * length)  # so that none reaches another
    edges = on_grid.places[rows] + apart[:, None]
    at, starts = _start_bits(edges, length)
    levels = np.searchsorted(edges.ravel(), starts[:, None] + np.arange(length), side="right") % 2 == 1
    stopped = np.bincount(at, levels[:, -1], rows.size) == 0
    expected = units[:, None] * lengths + excesses[:, None] * alternating(lengths.shape[1])
    offsets = np.cumsum(d - expected, axis=1).sum(axis=1) / (lengths.shape[1] + 1)
    rested = np.flatnonzero((np.diff(starts) > length) & (np.diff(at) == 0)) + 1
    expected[at[rested], np.searchsorted(edges.ravel(), starts[rested]) % edges.shape[1] - 1] = np.nan
    starts_us = offsets[at] + units[at] * (starts - apart[at])
    ends = np.cumsum(np.bincount(at, minlength=rows.size)).tolist()
    for number, (row, first, end) in enumerate(zip(rows.tolist(), [0, *ends], ends, strict=False)):
        if stopped[number]:
            clock = Clock(float(units[number]), float(excesses[number]), float(on_grid.rms_us[row]))
            out[row] = CharacterGrid(clock, levels[first:end], starts_us[first:end], expected[number])
    return out


def _start_bits(edges: NDArray[np.intp], length: int) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Where the characters of several frames begin, with each one's frame, in order.

    ``edges``, shape (frames, edges), are their places in bits, one frame behind the other. A character begins with the
    first bit that is a mark and in no character before.
    """
    begins, ends = edges[:, 0::2].ravel(), edges[:, 1::2].ravel()
    rows, at = np.arange(len(edges)), edges[:, 0]
    found = [(rows, at)]
    while rows.size:
        behind = at + length
        more = behind < edges[rows, -1]
        rows, behind = rows[more], behind[more]
        at = np.maximum(behind, begins[np.searchsorted(ends, behind, side="right")])
        found.append((rows, at))
    rows, at = (np.concatenate(each) for each in zip(*found, strict=True))
    order = np.argsort(at)
    return rows[order], at[order]


def _one_grid(durations_us: Floats, units_us: Floats, excesses_us: Floats) -> UnitGrids:
    """All edges on the best of several grids, for each of several frames (shapes as in ``best_grids``): the longer the
    row, the finer its clock has to be known, so that it is found from the beginning on.
    """
    size = FIRST_PULSES
    while True:
        on_grid = best_grids(durations_us[:, :size], units_us, excesses_us)
        if size >= durations_us.shape[1] or not on_grid.fits.any():
            return on_grid
        size *= 2
        finer = 1 + CLOSER / on_grid.places[:, -1:]
        units_us = np.where(on_grid.fits, on_grid.units_us, np.nan)[:, None] * finer
        excesses_us = np.repeat(on_grid.excesses_us[:, None], CLOSER.size, axis=1)


def _one_by_one(durations_us: Floats, clocks: Iterable[tuple[float, float]], length: int) -> CharacterGrid | None:
    """Characters with any rest between them: on a grid that begins anew with each start bit."""
    best: CharacterGrid | None = None
    tried: set[bytes] = set()
    for unit, excess in clocks:
        first = _placed(durations_us, unit, excess, length)
        if first is None or first[0].tobytes() in tried:  # then it comes to the same as another clock
            continue
        tried.add(first[0].tobytes())
        clock = fit_clock(durations_us, first[0])
        placed = _placed(durations_us, clock.unit_us, clock.excess_us, length) if clock.unit_us > 0 else None
        if placed is None:
            continue
        units, levels, starts = placed
        clock = fit_clock(durations_us, units)
        if clock.unit_us > 0 and (best is None or rms_of(clock) < rms_of(best.clock)):
            edges = np.concatenate(([0.0], np.cumsum(durations_us)))
            best = CharacterGrid(clock, levels, edges[starts], expected_durations(clock, units))
    return best


def rms_of(clock: Clock) -> float:
    """How far edges lie from the ruler, as a part of its unit."""
    return clock.rms_us / clock.unit_us


def clocks_about(durations_us: Floats, unit_us: float) -> list[tuple[float, float]]:
    """The clocks about a unit on which the pulses no longer than a character lie best, unit and excess each."""
    inside = durations_us < LONGEST_RUN * unit_us
    signs = alternating(durations_us.size)[inside]
    units, excesses = (a.ravel() for a in np.meshgrid(unit_us * FACTORS, EXCESSES))
    exact = durations_us[inside] / units[:, None] - excesses[:, None] * signs
    misfit = ((exact - np.maximum(np.rint(exact), 1.0)) ** 2).sum(axis=1)
    longest = durations_us[0::2].max() / units - excesses
    best = [i for i in np.argsort(misfit)[:CLOCKS_IN_A_ROW] if longest[i] < LONGEST_MARK]
    return [(float(units[i]), float(excesses[i] * units[i])) for i in best]


def _placed(
    d: Floats, unit: float, excess: float, length: int
) -> tuple[Floats, NDArray[np.bool_], NDArray[np.intp]] | None:
    """Lengths of the pulses in bits (NaN: silence between characters), the characters' levels, and where they begin.

    None where no characters stand, or only silence is between marks.
    """
    exact = np.maximum((d - excess * alternating(d.size)) / unit, 0.0)
    units = np.empty(d.size)
    rows: list[list[bool]] = []
    starts: list[int] = []
    row: list[bool] = []
    at = 0.0  # where the character stands, not rounded, so that errors do not add up
    for i, length_here in enumerate(exact.tolist()):
        mark = i % 2 == 0
        if not row:
            if not mark:
                return None
            starts.append(i)
            at = 0.0
        end = round(at + length_here)
        count = max(end - len(row), 1)
        if mark:
            if len(row) + count > length - 1:  # the stop bit is a space
                return None
            row += [True] * count
            units[i] = count
        elif len(row) + count >= length:
            over = len(row) + count > length
            units[i] = np.nan if over else count
            rows.append(row + [False] * (length - len(row)))
            row = []
            continue
        else:
            row += [False] * count
            units[i] = count
        at += length_here
    if row:
        rows.append(row + [False] * (length - len(row)))
    if np.isnan(units).all():
        return None
    return units, np.array(rows, dtype=np.bool_), np.array(starts, dtype=np.intp)
