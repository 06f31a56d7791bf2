"""Laying frames of a code whose symbols join into one another: edges on a grid of units, then symbol by symbol."""

from __future__ import annotations

from functools import lru_cache, reduce

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.linecode.biphase import UnitGrids, best_grids, best_steps
from eager_tern.linecode.clock import alternating
from eager_tern.linecode.closeness import AT_A_GLANCE
from eager_tern.protocol.glance import symbol_width
from eager_tern.protocol.laid import Laid, both_laid, not_among, nothing_laid, of_rows, some_rows
from eager_tern.protocol.schema import FrameKind, Part, Sheet
from eager_tern.protocol.symbols import lay_symbols
from eager_tern.protocol.tolerance import largest_excess
from eager_tern.signal.values import Floats

EXCESS_STEPS = 15


def lay_on_grid(d: Floats, sheet: Sheet, kind: FrameKind) -> Laid:
    """The sheet's frame laid on those of the frames (durations of shape (frames, pulses)) that say its symbols."""
    if kind.section_count > 1:
        each = [_lay_sections(d[i : i + 1], sheet, kind) for i in range(len(d))]
        found = [of_rows(laid, np.array([i])) for i, laid in enumerate(each) if laid.rows.size]
        return reduce(both_laid, found) if found else nothing_laid(d)
    return _lay_section(d, sheet, kind)


def _lay_sections(d: Floats, sheet: Sheet, kind: FrameKind) -> Laid:
    """One frame, shape (1, pulses), section by section: its gaps are the longest spaces."""
    spaces = np.arange(1, d.shape[1] - 1, 2)
    gaps = np.sort(spaces[np.argsort(d[0, spaces])[spaces.size - kind.section_count + 1 :]])
    bounds = np.concatenate(([-1], gaps, [d.shape[1]]))
    if gaps.size + 1 != kind.section_count:
        return nothing_laid(d)
    laid, expected, spans = [], [], []
    for number, section in enumerate(_section_kinds(kind)):
        first, end = int(bounds[number]) + 1, int(bounds[number + 1])
        found = (lay_symbols if section.bit_count == 0 else _lay_section)(d[:, first:end], sheet, section)
        if found.rows.size == 0:
            return nothing_laid(d)
        laid.append(found)
        expected += [found.expected_us, np.full((1, 1), np.nan)]
        spans.append(found.bit_spans_us + float(d[0, :first].sum()))
    weights = np.array([found.expected_us.shape[1] for found in laid])
    units, excesses, rms = (
        np.average([np.ravel(getattr(found, name))[0] for found in laid], weights=weights, keepdims=True)
        for name in ("units_us", "excesses_us", "rms_us")
    )
    bits = np.hstack([found.bits for found in laid])
    return Laid(np.zeros(1, np.intp), units, excesses, rms, bits, np.hstack(spans), np.hstack(expected[:-1]))


@lru_cache(maxsize=64)
def _section_kinds(kind: FrameKind) -> tuple[FrameKind, ...]:
    """Each section as a kind of frame of its own."""
    groups: list[list[Part]] = [[]]
    for part in kind.parts:
        groups += [[]] if part.gap_us is not None else []
        groups[-1] += [part] if part.gap_us is None else []
    return tuple(FrameKind(name=kind.name, parts=tuple(parts)) for parts in groups)


def _lay_section(d: Floats, sheet: Sheet, kind: FrameKind) -> Laid:
    """The same for a frame without gaps. What a leader's pulses have beside whole units is taken off for the grid."""
    begins = np.abs(np.array(kind.leader, dtype=np.float64))
    beside = (begins - np.rint(begins)) * sheet.unit_us
    if not beside.any() or beside.size > d.shape[1]:
        return _lay_in_whole_units(d, sheet, kind)
    more = np.zeros(d.shape[1])
    more[: beside.size] = beside
    laid = _lay_in_whole_units(np.maximum(d - more, 1.0), sheet, kind)
    return replace(laid, expected_us=laid.expected_us + more, bit_spans_us=laid.bit_spans_us + float(more.sum()))


def _lay_in_whole_units(d: Floats, sheet: Sheet, kind: FrameKind) -> Laid:
    total = _whole_length(sheet, kind)
    if d.shape[1] > total:
        return nothing_laid(d)
    # The whole length is known, but for the half bits at the ends that are spaces and cannot be seen.
    most = float(largest_excess(sheet.unit_us)) * sheet.unit_us
    searched = np.linspace(-most, most, EXCESS_STEPS)
    # Most receivers lengthen marks so little that the edges tell their places without it; the others need a search.
    laid = nothing_laid(d)
    ways = (np.zeros(1), best_grids, AT_A_GLANCE), (searched, best_grids, np.inf), (searched, best_steps, np.inf)
    for excesses, way, enough in ways:
        left = not_among(laid.rows, len(d))
        if left.size == 0:
            break
        found = _laid(way(d[left], *_clocks(d[left], excesses, total, sheet)), d.shape[1], total, sheet, kind)
        found = of_rows(some_rows(found, found.rms_us < enough * found.units_us), left)
        laid = both_laid(laid, found) if laid.rows.size else found
    return laid


def _clocks(d: Floats, excesses: Floats, total: int, sheet: Sheet) -> tuple[Floats, Floats]:
    """Units (NaN beyond the sheet's tolerance) and excesses to try, shape (frames, clocks), all in µs."""
    tried, seen = (a.ravel() for a in np.meshgrid(excesses, total - np.arange(3.0)))
    units = (d.sum(axis=1, keepdims=True) - tried) / seen
    units[np.abs(units / sheet.unit_us - 1) > sheet.tolerance] = np.nan
    return units, np.broadcast_to(tried, units.shape)


def _whole_length(sheet: Sheet, kind: FrameKind) -> int:
    """Of a frame, in units, each of its fixed pulses in whole ones."""
    fixed = sum(round(abs(p)) for part in kind.parts for p in part.pulses or ())
    return fixed + symbol_width(sheet) * sum((part.bits or 0) * part.stretch for part in kind.parts)


def _laid(on_grid: UnitGrids, pulses: int, total: int, sheet: Sheet, kind: FrameKind) -> Laid:
    """The frames whose edges, as they lie on the grid, say the sheet's symbols."""
    rows, bits, leads = _said(on_grid.places, total, sheet, kind)
    fits = on_grid.fits[rows]
    rows, bits, leads = rows[fits], bits[fits], leads[fits]
    clock = on_grid.units_us[rows], on_grid.excesses_us[rows], on_grid.rms_us[rows]
    lengths = np.diff(on_grid.places[rows], axis=1)
    expected = clock[0][:, None] * lengths + clock[1][:, None] * alternating(pulses)
    spans = (_spans(sheet, kind) - leads[:, None, None]) * clock[0][:, None, None]
    return Laid(rows, *clock, bits, spans, expected)


def _said(
    places: NDArray[np.intp], total: int, sheet: Sheet, kind: FrameKind
) -> tuple[NDArray[np.intp], NDArray[np.uint8], NDArray[np.intp]]:
    """Which frames (edges at ``places``, shape (frames, edges)) say symbols, their bits, and how many units each begins
    before its first edge: it may begin with a half bit of space, which cannot be seen."""
    found: list[NDArray[np.intp]] = []
    bits, leads = [], []
    for lead in (0, 1):
        left = not_among(np.concatenate([np.empty(0, np.intp), *found]), len(places))
        length = lead + places[left, -1]
        fitting = left[(total - 2 <= length) & (length <= total)]
        # A unit is a mark where the edges before it are odd in number.
        before = places[fitting, :, None] + lead <= np.arange(total)
        said, read = _bits_of_chips(before.sum(axis=1) % 2 == 1, sheet, kind)
        found.append(fitting[said])
        bits.append(read[said])
        leads.append(np.full(found[-1].size, lead))
    return np.concatenate(found), np.concatenate(bits), np.concatenate(leads)


def _chips(symbol: tuple[float, ...], stretch: int) -> NDArray[np.bool_]:
    return np.repeat(np.sign(symbol) > 0, [round(abs(p)) * stretch for p in symbol])


def _bits_of_chips(
    chips: NDArray[np.bool_], sheet: Sheet, kind: FrameKind
) -> tuple[NDArray[np.bool_], NDArray[np.uint8]]:
    """Which frames say nothing but the sheet's symbols, and their bits; unit by unit, shape (frames, units)."""
    at = 0
    said = np.ones(len(chips), np.bool_)
    found = []
    for part in kind.parts:
        if part.pulses is not None:
            fixed = _chips(part.pulses, 1)
            said &= (chips[:, at : at + fixed.size] == fixed).all(axis=1)
            at += fixed.size
        elif part.bits:
            zero, one = (_chips(symbol, part.stretch) for symbol in sheet.alphabet)
            rows = chips[:, at : at + part.bits * one.size].reshape(-1, part.bits, one.size)
            ones, zeros = (rows == one).all(axis=2), (rows == zero).all(axis=2)
            said &= (ones | zeros).all(axis=1)
            found.append(ones.astype(np.uint8))
            at += part.bits * one.size
    return said, np.concatenate(found, axis=1)


def _spans(sheet: Sheet, kind: FrameKind) -> Floats:
    """Where the bits stand, in units from the frame's beginning, shape (bits, 2)."""
    at, spans = 0, []
    for part in kind.parts:
        if part.pulses is not None:
            at += sum(round(abs(p)) for p in part.pulses)
        for _ in range(part.bits or 0):
            spans.append((at, at + symbol_width(sheet) * part.stretch))
            at += symbol_width(sheet) * part.stretch
    return np.array(spans, dtype=np.float64).reshape(-1, 2)
