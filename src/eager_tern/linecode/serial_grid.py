"""Pulses as asynchronous characters of some length: where each begins, and the level of each of its bits."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.linecode.biphase import UnitGrids, best_grids
from eager_tern.linecode.clock import alternating, expected_durations, fit_clocks
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


class CharacterGrid(Struct, frozen=True, gc=False):
    """Pulses as characters of ``levels.shape[1]`` bits: ``levels`` are True in a mark, ``starts_us`` the start bits.

    ``expected_us`` is NaN for the silence between characters.
    """

    clock: Clock
    levels: NDArray[np.bool_]
    starts_us: Floats
    expected_us: Floats


def on_serial_grid(
    durations_us: Floats, clocks: Sequence[tuple[float, float]], lengths: Sequence[int]
) -> dict[int, CharacterGrid]:
    """The pulses as characters of each of some lengths that they can be.

    Each by the best of several clocks (unit and excess, µs; the likeliest first).
    """
    units, excesses = np.array(clocks).T
    on_grid = _one_grid(durations_us[None], units[None], excesses[None])
    places = on_grid.places[0].tolist()
    found = dict[int, CharacterGrid | None].fromkeys(lengths)
    for length in lengths:
        if _stops(places, length):
            (found[length],) = _in_rows(durations_us[None], on_grid, length)
    unsure = [length for length, placed in found.items() if not _is_sure(placed)]
    tries = np.repeat(np.array(unsure, np.intp), len(clocks[:CLOCKS_TRIED]))
    of_each = np.tile(np.array(clocks[:CLOCKS_TRIED]).T, len(unsure))
    by_one = _one_by_one(
        np.broadcast_to(durations_us, (tries.size, durations_us.size)), of_each[0], of_each[1], tries, tries.tolist()
    )
    for length, placed in by_one.items():
        found[length] = _better(found[length], placed)
    return {length: placed for length, placed in found.items() if placed is not None}


def on_known_grid(durations_us: Floats, clock: Clock, length: int) -> list[CharacterGrid | None]:
    """Each of several frames, shape (frames, pulses), as characters of a length by a clock that is about known."""
    units, excesses = (np.full((len(durations_us), 1), each) for each in (clock.unit_us, clock.excess_us))
    found = _in_rows(durations_us, _one_grid(durations_us, units, excesses), length)
    unsure = [row for row, placed in enumerate(found) if not _is_sure(placed)]
    lengths = np.full(len(unsure), length)
    by_one = _one_by_one(durations_us[unsure], units[unsure, 0], excesses[unsure, 0], lengths, unsure)
    for row, placed in by_one.items():
        found[row] = _better(found[row], placed)
    return found


def _is_sure(row: CharacterGrid | None) -> bool:
    """Whether characters on one grid need not be tried each on a grid of its own.

    Of a slow one, a rest of half a bit would pass for whole ones if its unit were all that counts.
    """
    return row is not None and row.clock.rms_us < min(CLEAN * row.clock.unit_us, EDGE_JITTER_US)


def _better(one: CharacterGrid | None, other: CharacterGrid) -> CharacterGrid:
    return one if one is not None and rms_of(one.clock) <= rms_of(other.clock) else other


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


def _stops(places: list[int], length: int) -> bool:
    """Whether each character of a frame whose edges lie at ``places`` (bits) ends with a space: mostly the first few
    tell.
    """
    start = places[0]
    while start < places[-1]:
        if bisect_right(places, start + length - 1) % 2:
            return False
        start += length
        if start < places[-1] and not (edges := bisect_right(places, start)) % 2:
            start = places[edges]
    return True


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


def _one_by_one(
    durations_us: Floats, units_us: Floats, excesses_us: Floats, lengths: NDArray[np.intp], of: list[int]
) -> dict[int, CharacterGrid]:
    """Characters with any rest between them, in several tries at once: on a grid that begins anew with each start bit.

    ``durations_us`` has shape (tries, pulses), the clocks, the characters' lengths and what each is a try ``of`` have
    (tries,). Gives the best try of each.
    """
    tries, in_bits = _placed(durations_us, units_us, excesses_us, lengths)
    differ = {(of[at], row.tobytes()): i for i, (at, row) in enumerate(zip(tries.tolist(), in_bits, strict=True))}
    tries, in_bits = tries[list(differ.values())], in_bits[list(differ.values())]
    units, excesses, _ = fit_clocks(durations_us[tries], in_bits)
    tries = tries[units > 0]
    again, in_bits = _placed(durations_us[tries], units[units > 0], excesses[units > 0], lengths[tries])
    tries = tries[again]
    clocks = [Clock(*each) for each in np.transpose(fit_clocks(durations_us[tries], in_bits)).tolist()]
    sound = [each for each in zip(tries.tolist(), clocks, in_bits, strict=True) if each[1].unit_us > 0]
    best: dict[int, CharacterGrid] = {}
    for at, clock, here in sorted(sound, key=lambda each: rms_of(each[1])):
        if of[at] not in best:
            best[of[at]] = _on_grid(durations_us[at], clock, here, int(lengths[at]))
    return best


def _on_grid(durations_us: Floats, clock: Clock, in_bits: Floats, length: int) -> CharacterGrid:
    """Pulses of one frame, so many bits long each, as characters."""
    levels, starts = _characters(in_bits, length)
    edges = np.concatenate(([0.0], np.cumsum(durations_us)))
    return CharacterGrid(clock, levels, edges[starts], expected_durations(clock, in_bits))


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
    durations_us: Floats, units_us: Floats, excesses_us: Floats, lengths: NDArray[np.intp]
) -> tuple[NDArray[np.intp], Floats]:
    """The tries (arguments as in ``_one_by_one``) in which characters stand, and how many bits long their pulses are
    there: shape (tries, pulses), NaN for a silence between characters.
    """
    pulses = durations_us.shape[1]
    exact = np.maximum(durations_us - excesses_us[:, None] * alternating(pulses), 0.0) / units_us[:, None]
    exact, in_bits, stand = exact.T.copy(), np.empty((pulses, len(exact))), np.ones(len(exact), np.bool_)
    at, filled = np.zeros(stand.size), np.zeros(stand.size)  # bits into the character, exactly and in whole ones
    for pulse in range(pulses):
        at += exact[pulse]  # not rounded, so that errors do not add up
        count = np.maximum(np.rint(at) - filled, 1.0)
        filled += count
        in_bits[pulse] = count
        full = filled >= lengths
        if not full.any():
            continue
        if pulse % 2:
            in_bits[pulse, filled > lengths] = np.nan
        else:  # the stop bit is a space
            stand &= ~full
            if not stand.any():
                break
        at[full] = filled[full] = 0.0
    tries, in_bits = np.flatnonzero(stand), in_bits[:, stand].T.copy()
    some = ~np.isnan(in_bits).all(axis=1)
    return tries[some], in_bits[some]


def _characters(in_bits: Floats, length: int) -> tuple[NDArray[np.bool_], NDArray[np.intp]]:
    """The levels of characters, shape (characters, length), and the pulse that each begins with."""
    rows: list[list[bool]] = []
    starts: list[int] = []
    for pulse, count in enumerate(in_bits.tolist()):
        if not rows or len(rows[-1]) == length:
            rows.append([])
            starts.append(pulse)
        rest = length - len(rows[-1])
        rows[-1] += [pulse % 2 == 0] * (rest if np.isnan(count) else min(int(count), rest))
    rows[-1] += [False] * (length - len(rows[-1]))
    return np.array(rows, dtype=np.bool_), np.array(starts, dtype=np.intp)
