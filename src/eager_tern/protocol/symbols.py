"""Laying frames of a code whose symbols have pulses of their own: decided symbol by symbol, for many frames at once."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.at_once import in_parts
from eager_tern.linecode.clock import alternating, edges_of, fit_clocks
from eager_tern.linecode.closeness import AT_A_GLANCE
from eager_tern.protocol.laid import Laid, both_laid, not_among, nothing_laid, of_rows, some_rows
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.protocol.template import SymbolTemplate, symbol_template
from eager_tern.protocol.tolerance import largest_excess
from eager_tern.signal.values import Floats

ROUNDS = 2
# Where the search for a clock begins, every clock with every excess.
CLOCK_STEP = 0.06


def lay_symbols(d: Floats, sheet: Sheet, kind: FrameKind) -> Laid:
    """The sheet's frame laid on the frames (durations of shape (frames, pulses)), if their number of pulses is its."""
    template = symbol_template(sheet, kind)
    if d.shape[1] != template.place.size:
        return nothing_laid(d)
    # Most senders keep so near to their sheet's clock that it tells the symbols; the others need a search.
    laid = _laid_from(d, template, np.full(len(d), sheet.unit_us), np.zeros(len(d)))
    surely = laid.rms_us < AT_A_GLANCE * laid.units_us
    left = not_among(laid.rows[surely], len(d))
    if left.size == 0:
        return laid
    searched = _laid_from(d[left], template, *_first_clocks(d[left], template, sheet))
    return both_laid(some_rows(laid, surely), of_rows(searched, left))


def _laid_from(d: Floats, template: SymbolTemplate, units: Floats, excesses: Floats) -> Laid:
    """The frame laid on all, from about what each one's unit and excess are."""
    rows = np.arange(len(d))
    for _ in range(ROUNDS):
        symbols = _decide(d[rows], template, units[:, None], excesses[:, None])[0][:, 0]
        lengths = _lengths(template, symbols)
        units, excesses, rms = fit_clocks(d[rows], lengths)
        fits = units > 0
        if not fits.all():
            rows, symbols, lengths = rows[fits], symbols[fits], lengths[fits]
            units, excesses, rms = units[fits], excesses[fits], rms[fits]
    expected = units[:, None] * lengths + excesses[:, None] * alternating(d.shape[1])
    return Laid(rows, units, excesses, rms, _bits(template, symbols), _spans(d[rows], template), expected)


def _lengths(template: SymbolTemplate, symbols: NDArray[np.intp]) -> Floats:
    """Each pulse's length in units, shape (frames, pulses), from symbols of shape (frames, places)."""
    if symbols.shape[1] == 0:
        return np.broadcast_to(template.lengths[0], (len(symbols), template.place.size))
    # Fixed pulses have the same length in every row.
    lengths: Floats = template.lengths[symbols[:, template.place], np.arange(template.place.size)]
    return lengths


def _bits(template: SymbolTemplate, symbols: NDArray[np.intp]) -> NDArray[np.uint8]:
    if template.bits_a_symbol == 1:
        return symbols.astype(np.uint8)
    shifts = np.arange(template.bits_a_symbol - 1, -1, -1)
    bits: NDArray[np.uint8] = (symbols[..., None] >> shifts & 1).astype(np.uint8).reshape(len(symbols), -1)
    return bits


def _spans(d: Floats, template: SymbolTemplate) -> Floats:
    """Where the bits stand, shape (frames, bits, 2); those of one symbol share its time evenly."""
    edges = edges_of(d)
    of = template.of_symbol
    if of.size == 0:
        return np.empty((len(d), 0, 2))
    starts, ends = edges[:, of[:, 0]], edges[:, of.max(axis=1) + 1]
    parts = np.linspace(0.0, 1.0, template.bits_a_symbol + 1)
    bounds = starts[..., None] + (ends - starts)[..., None] * parts
    return np.stack((bounds[..., :-1], bounds[..., 1:]), axis=3).reshape(len(d), -1, 2)


def _first_clocks(d: Floats, template: SymbolTemplate, sheet: Sheet) -> tuple[Floats, Floats]:
    """The best of a coarse grid of clocks and excesses for each frame, tried all at once."""
    units, excesses = _clock_grid(sheet.unit_us, sheet.tolerance)
    best = [
        (_decide(d[part], template, units[None], excesses[None])[1] / units**2).argmin(axis=1)
        for part in in_parts(len(d), units.size * d.shape[1] * len(template.lengths))
    ]
    chosen = np.concatenate(best)
    return units[chosen], excesses[chosen]


@lru_cache(maxsize=256)
def _clock_grid(unit_us: float, tolerance: float) -> tuple[Floats, Floats]:
    """Units and excesses (µs) that the search begins with, every unit with every excess."""
    steps = max(3, round(0.9 * tolerance / CLOCK_STEP))
    most = 0.58 * float(largest_excess(unit_us))
    parts = np.linspace(-most, most, 5 if most < 0.3 else 7)
    units, excesses = np.meshgrid(unit_us * (1 + CLOCK_STEP * np.arange(-steps, steps + 1)), parts)
    return units.ravel(), (units * excesses).ravel()


def _decide(d: Floats, template: SymbolTemplate, units: Floats, excesses: Floats) -> tuple[NDArray[np.intp], Floats]:
    """Each symbol by the nearest one, for each of several clocks (``units`` and ``excesses``: (frames or 1, clocks)).

    Edges err independently, so what counts is how far a symbol's edges lie from their places, the whole symbol moved
    to the middle of them: for a mark and the space behind it, with residuals r and q, r² + rq + q², up to a factor.
    Returns symbols (frames, clocks, places) and the sum of squared residuals (frames, clocks).
    """
    rest = d[:, None] - excesses[..., None] * alternating(d.shape[1])
    fixed, of = template.fixed, template.of_symbol
    misfit = ((rest[..., fixed] - units[..., None] * template.lengths[0, fixed]) ** 2).sum(axis=2)
    if of.size == 0:
        return np.empty((*misfit.shape, 0), np.intp), misfit
    seen = (of >= 0).T  # the frame's last symbol has lost its space
    measured = rest[..., of.T]  # (frames, clocks, pulses of a symbol, places)
    lengths = template.lengths[:, of.T]  # (symbols, pulses of a symbol, places)
    distance, squares = [], []
    for symbol in lengths:
        r = (measured - units[..., None, None] * symbol) * seen
        if len(seen) == 2:
            mark, space = r[..., 0, :], r[..., 1, :]
            squares.append(mark * mark + space * space)
            distance.append(squares[-1] + mark * space)
        else:
            moved = np.cumsum(r, axis=2)
            squares.append((r**2).sum(axis=2))
            distance.append((moved**2).sum(axis=2) - moved.sum(axis=2) ** 2 / (len(seen) + 1))
    if len(lengths) == 2:
        ones = distance[1] < distance[0]
        return ones.astype(np.intp), misfit + np.where(ones, squares[1], squares[0]).sum(axis=2)
    nearest = np.argmin(distance, axis=0)
    chosen = np.take_along_axis(np.array(squares), nearest[None], axis=0)[0]
    return nearest, misfit + chosen.sum(axis=2)
