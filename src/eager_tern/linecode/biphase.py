"""Edges on a grid of half bits."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.linecode.at_once import in_parts
from eager_tern.linecode.clock import alternating, edges_of, expected_durations, fit_clock, fit_clocks
from eager_tern.linecode.clusters import split_in_two
from eager_tern.linecode.values import Clock
from eager_tern.signal.values import Floats

ROUNDS = 4


def guess_unit(durations_us: Floats) -> tuple[float, float]:
    """Unit and excess from the short pulses: those below the cut between one and two units, marks and spaces apart."""
    marks, spaces = durations_us[0::2], durations_us[1::2]
    if spaces.size == 0:  # a single mark
        return float(marks.min()), 0.0
    short_mark, short_space = (_short_centre(part) for part in (marks, spaces))
    return (short_mark + short_space) / 2, (short_mark - short_space) / 2


def _short_centre(part: Floats) -> float:
    bound = split_in_two(part)
    short = part[part <= bound] if not np.isnan(bound) else part
    long = part[part > bound] if not np.isnan(bound) else part[:0]
    # Only one length was there if the two halves differ by less than any code's two lengths do.
    if long.size and long.mean() < 1.4 * short.mean():
        short = part
    return float(short.mean())


def edges_on_grid(durations_us: Floats, unit_us: float, excess_us: float) -> tuple[NDArray[np.intp], Clock]:
    """Each edge's place in whole units from the first, shape (n + 1,), and the clock refitted to them.

    Edges are rounded by their absolute place on the ruler, so that an error in one does not add to the next, and the
    ruler is refitted until nothing moves.
    """
    n = durations_us.size
    steps = np.maximum(np.rint((durations_us - excess_us * alternating(n)) / unit_us), 1.0)
    clock = Clock(unit_us, excess_us, 0.0)
    times = np.concatenate(([0.0], np.cumsum(durations_us)))
    falling = np.arange(n + 1) % 2
    places = np.concatenate(([0.0], np.cumsum(steps)))
    for _ in range(ROUNDS):
        clock = fit_clock(durations_us, np.diff(places))
        if clock.unit_us <= 0:
            break
        exact = (times - clock.excess_us * falling) / clock.unit_us
        # The first edge has jitter of its own: the whole ruler is shifted to the middle of all edges.
        moved = np.rint(exact - (exact - np.rint(exact)).mean())
        moved -= moved[0]
        if np.any(np.diff(moved) < 1) or np.array_equal(moved, places):
            break
        places = moved
    return places.astype(np.intp), clock


class UnitGrids(Struct, frozen=True):
    """Frames whose edges lie on a grid of units; which of them do is told by ``fits``.

    ``places`` has shape (frames, n + 1), in whole units from the first edge; the others have shape (frames,), in µs.
    """

    fits: NDArray[np.bool_]
    places: NDArray[np.intp]
    units_us: Floats
    excesses_us: Floats
    rms_us: Floats


def best_grids(durations_us: Floats, units_us: Floats, excesses_us: Floats) -> UnitGrids:
    """Each edge's place and the clock, by the best of several clocks for each frame.

    ``durations_us`` has shape (frames, n), ``units_us`` (NaN: none) and ``excesses_us`` (frames, clocks). A frame does
    not fit where two of its edges fall on one place with every clock.
    """
    return _best_in_parts(_on_edges, durations_us, units_us, excesses_us)


def _on_edges(durations_us: Floats, units_us: Floats, excesses_us: Floats) -> tuple[Floats, Floats]:
    times = edges_of(durations_us)[:, None]
    exact = (times - excesses_us[..., None] * (np.arange(times.shape[2]) % 2)) / units_us[..., None]
    # The first edge has jitter of its own: the ruler may begin a little before or behind it. (The mean direction:
    # Mardia and Jupp 2000, "Directional Statistics", 2.2; single precision is a few millionths of a unit.)
    turns = (2 * np.pi * (exact - np.rint(exact))).astype(np.float32)
    exact -= (np.arctan2(np.sin(turns).sum(axis=2), np.cos(turns).sum(axis=2)) / (2 * np.pi))[..., None]
    places = np.rint(exact)
    misfit = ((exact - places) ** 2).mean(axis=2)
    misfit[~(np.diff(places, axis=2) >= 1).all(axis=2)] = np.inf
    return places, misfit


def best_steps(durations_us: Floats, units_us: Floats, excesses_us: Floats) -> UnitGrids:
    """The same with each pulse rounded by itself, for senders whose errors add up from edge to edge."""
    return _best_in_parts(_step_by_step, durations_us, units_us, excesses_us)


def _step_by_step(durations_us: Floats, units_us: Floats, excesses_us: Floats) -> tuple[Floats, Floats]:
    signs = alternating(durations_us.shape[1])
    exact = (durations_us[:, None] - excesses_us[..., None] * signs) / units_us[..., None]
    steps = np.maximum(np.rint(exact), 1.0)
    misfit = ((exact - steps) ** 2).mean(axis=2)
    misfit[np.isnan(misfit)] = np.inf
    return np.cumsum(np.insert(np.nan_to_num(steps, nan=1.0), 0, 0.0, axis=2), axis=2), misfit


# From durations, units and excesses: each edge's place with each clock, and the clocks' misfit, (frames, clocks).
Way = Callable[[Floats, Floats, Floats], tuple[Floats, Floats]]


def _best_in_parts(way: Way, durations_us: Floats, units_us: Floats, excesses_us: Floats) -> UnitGrids:
    """The clock of the least misfit for each frame, refitted to its places; a part of the frames at a time."""
    count = durations_us.shape[1] + 1
    rows = np.empty((len(durations_us), count))
    fits = np.empty(len(durations_us), np.bool_)
    for part in in_parts(len(rows), units_us.shape[1] * count):
        places, misfit = way(durations_us[part], units_us[part], excesses_us[part])
        best, frames = misfit.argmin(axis=1), np.arange(len(misfit))
        fits[part] = np.isfinite(misfit[frames, best])
        rows[part] = np.where(fits[part, None], places[frames, best], np.arange(count))
    rows -= rows[:, :1]
    units, excesses, rms = fit_clocks(durations_us, np.diff(rows, axis=1))
    return UnitGrids(fits & (units > 0), rows.astype(np.intp), units, excesses, rms)


def grid_expected(clock: Clock, places: NDArray[np.intp]) -> Floats:
    """What the pulses between the edges at ``places`` should last, shape (n,)."""
    return expected_durations(clock, np.diff(places).astype(np.float64))
