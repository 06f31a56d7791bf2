"""Laying a sheet's frame on measured pulses."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.biphase import best_grid, grid_expected
from eager_tern.linecode.clock import alternating, expected_durations, fit_clock
from eager_tern.linecode.serial import characters, clocks_about, on_serial_grid
from eager_tern.linecode.values import NO_BITS, Bits, Clock
from eager_tern.protocol.checks import CheckResult, evaluate
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.protocol.template import SymbolTemplate, is_paired, symbol_template
from eager_tern.signal.values import Floats

ROUNDS = 2
COARSEST = 0.25  # rms of a unit between ruler and edges beyond which a sheet does not fit
COARSEST_WIDE = 0.5  # where symbols differ by four units and more
LARGEST_EXCESS = 0.45  # of a unit, or
USUAL_EXCESS_US = 185.0  # what receivers do, and what estimating it adds, up to
JITTER_US = 250.0  # no pulse errs by more
MOST_EXCESS = 0.65  # of a unit
# Where the search for a clock begins, every clock with every excess.
CLOCK_STEP = 0.06
EXCESS_STEPS = 15  # for codes read on a grid


@dataclass(frozen=True)
class Match:
    """A frame read by a sheet. ``bits`` are as sent. ``bit_spans_us`` shape (n, 2), ``expected_us`` shape (pulses,)."""

    sheet: Sheet
    kind: FrameKind
    clock: Clock
    bits: Bits
    bit_spans_us: Floats
    expected_us: Floats

    @cached_property
    def meant(self) -> Bits:
        """The bits without what this kind of frame inverts."""
        return self.kind.turned(self.bits)

    @cached_property
    def results(self) -> tuple[CheckResult, ...]:
        """The sheet's checks held against the bits; none for a frame without bits."""
        return tuple(evaluate(check, self.meant) for check in self.sheet.checks) if self.bits.size else ()


def match_sheets(durations_us: Floats, sheets: Sequence[Sheet]) -> list[Match]:
    """Every sheet's frame that fits the pulses, in the sheets' order. Sheets that share a frame have it laid once."""
    laid: dict[object, Match | None] = {}
    found = []
    for frame in _worth_a_try(durations_us, _frames_of(tuple(sheets))):
        if frame.shape not in laid:
            laid[frame.shape] = match_frame(durations_us, frame.sheet, frame.kind)
        match = laid[frame.shape]
        if match is not None:
            same = match.sheet is frame.sheet and match.kind is frame.kind
            found.append(match if same else replace(match, sheet=frame.sheet, kind=frame.kind))
    return found


@dataclass(frozen=True)
class _SheetFrame:
    """A kind of frame of a sheet, and what makes two of them look the same."""

    sheet: Sheet
    kind: FrameKind
    shape: object


@dataclass(frozen=True)
class _Frames:
    """All kinds of frame of some sheets.

    ``bounds`` has shape (frames, 5, 2): the least and the most of each of what ``_measure`` measures. ``longest``,
    shape (frames,), is the longest pulse as a part of the whole length, whatever the clock.
    """

    frames: tuple[_SheetFrame, ...]
    bounds: Floats
    longest: Floats


def _measure(d: Floats) -> Floats:
    """Number of pulses, whole length, first two pulses, the longest: what tells at a glance what a frame is not."""
    second = d[1] if d.size > 1 else 0.0
    return np.array([d.size, d.sum(), d[0], second, d.max()])


def _worth_a_try(d: Floats, among: _Frames) -> list[_SheetFrame]:
    measured = _measure(d)
    possible = ((measured >= among.bounds[:, :, 0]) & (measured <= among.bounds[:, :, 1])).all(axis=1)
    possible &= measured[4] <= among.longest * measured[1] + USUAL_EXCESS_US + JITTER_US
    return [among.frames[i] for i in np.flatnonzero(possible)]


@lru_cache(maxsize=64)
def _frames_of(sheets: tuple[Sheet, ...]) -> _Frames:
    frames, bounds = [], []
    for sheet in sheets:
        for kind in sheet.frames:
            # A frame without bits says nothing of the variant: it belongs to the family's first sheet.
            if kind.bit_count or sheet.family == sheet.id:
                shape = (sheet.alphabet, sheet.serial, sheet.unit_us, sheet.tolerance, kind.shape)
                frames.append(_SheetFrame(sheet, kind, shape))
                bounds.append(_bounds(sheet, kind))
    longest = np.array([_longest(frame.sheet, frame.kind) for frame in frames])
    return _Frames(tuple(frames), np.array(bounds).reshape(-1, 5, 2), longest)


def _longest(sheet: Sheet, kind: FrameKind) -> float:
    """The longest pulse as a part of the whole length, where symbols join; elsewhere the bounds tell enough."""
    if kind.bit_count == 0 or is_paired(sheet) or sheet.serial is not None:
        return 1.0
    run, total, fixed = _run_and_total(sheet, kind)
    return max([2 * run, *(p + run for p in fixed)]) / (total - 2)


def _run_and_total(sheet: Sheet, kind: FrameKind) -> tuple[float, float, list[float]]:
    """Of a code whose symbols join: the longest end of a symbol, the frame's length, its fixed pulses, all in units."""
    fixed = [abs(p) for part in kind.parts for p in part.pulses or ()]
    bits = sum((part.bits or 0) * part.stretch for part in kind.parts) * _width(sheet)
    run = max(abs(symbol[i]) for symbol in sheet.alphabet for i in (0, -1)) * max(p.stretch for p in kind.parts)
    return run, bits + sum(fixed), fixed


def _bounds(sheet: Sheet, kind: FrameKind) -> Floats:
    """The bounds of ``_measure`` for a kind of frame, with all the clock's and the receiver's errors."""
    slack = USUAL_EXCESS_US + JITTER_US
    low, high = sheet.unit_us * (1 - sheet.tolerance), sheet.unit_us * (1 + sheet.tolerance)
    anything = (0.0, np.inf)
    if kind.bit_count == 0 or is_paired(sheet):
        lengths = symbol_template(sheet, kind).lengths
        least, most = lengths.min(axis=0), lengths.max(axis=0)  # NaN in both where a gap is
        gaps = np.isnan(lengths[0])
        pulses = [(least[i] * low - slack, most[i] * high + slack) for i in range(min(2, least.size))]
        whole = (np.nansum(least) * low - slack, np.inf if gaps.any() else np.nansum(most) * high + slack)
        longest = (0.0, np.inf if gaps.any() else np.nanmax(most) * high + slack)
        return np.array([(least.size, least.size), whole, *pulses, *[anything] * (2 - len(pulses)), longest])
    if sheet.serial is not None:
        characters = kind.bit_count // sheet.serial.data_bits
        most_pulses = characters * sheet.serial.length
        whole = (characters * 2 * low - slack, np.inf)
        return np.array([(characters, most_pulses), whole, anything, anything, anything])
    run, total, fixed = _run_and_total(sheet, kind)
    begins = kind.parts[0].pulses or ()
    first = [(abs(p) * low - slack, (abs(p) + run) * high + slack) for p in begins[:2]]
    first += [(low - slack, 2 * run * high + slack)] * (2 - len(first))
    longest_us = max([2 * run, *(p + run for p in fixed)]) * high + slack
    # The last half bit may be a space, which nobody sees.
    return np.array(
        [(kind.bit_count, 2 * kind.bit_count + len(fixed)), ((total - 2) * low - slack, total * high + slack), *first,
         (0.0, longest_us)]
    )  # fmt: skip


def match_frame(durations_us: Floats, sheet: Sheet, kind: FrameKind) -> Match | None:
    """The sheet's frame laid on the pulses, or None where it does not fit."""
    if kind.bit_count == 0 or is_paired(sheet):
        match = _match_symbols(durations_us, sheet, kind)
    elif sheet.serial is not None:
        match = _match_serial(durations_us, sheet, kind)
    else:
        match = _match_grid(durations_us, sheet, kind)
    if match is None:
        return None
    clock = match.clock
    coarsest = COARSEST_WIDE if _difference(sheet.alphabet) >= 4 else COARSEST
    fits = (
        abs(clock.unit_us / sheet.unit_us - 1) <= sheet.tolerance
        and clock.rms_us <= coarsest * clock.unit_us
        and abs(clock.excess_us) <= _largest_excess(clock.unit_us) * clock.unit_us
    )
    return match if fits else None


def _largest_excess(unit_us: float) -> float:
    """As a part of the unit."""
    return min(max(LARGEST_EXCESS, USUAL_EXCESS_US / unit_us), MOST_EXCESS)


@lru_cache(maxsize=256)
def _difference(alphabet: tuple[tuple[float, ...], ...]) -> float:
    """By how many units the two most similar symbols differ."""
    if not alphabet or len({len(symbol) for symbol in alphabet}) > 1:
        return 1.0
    table = np.array(alphabet)
    apart = np.abs(table[:, None] - table[None]).sum(axis=2)
    return float(apart[~np.eye(len(table), dtype=bool)].min())


def _match_symbols(d: Floats, sheet: Sheet, kind: FrameKind) -> Match | None:
    template = symbol_template(sheet, kind)
    if d.size != template.place.size:
        return None
    clock = _first_clock(d, template, sheet)
    for _ in range(ROUNDS):
        symbols = _decide(d, template, np.array([clock.unit_us]), np.array([clock.excess_us]))[0][0]
        lengths = _lengths(template, symbols)
        clock = fit_clock(d, lengths)
        if clock.unit_us <= 0:
            return None
    return Match(sheet, kind, clock, _bits(template, symbols), _spans(d, template), expected_durations(clock, lengths))


def _lengths(template: SymbolTemplate, symbols: NDArray[np.intp]) -> Floats:
    """Each pulse's length in units."""
    if symbols.size == 0:
        first: Floats = template.lengths[0]
        return first
    # Fixed pulses have the same length in every row.
    lengths: Floats = template.lengths[symbols[template.place], np.arange(template.place.size)]
    return lengths


def _bits(template: SymbolTemplate, symbols: NDArray[np.intp]) -> Bits:
    if template.bits_a_symbol == 1:
        return symbols.astype(np.uint8)
    shifts = np.arange(template.bits_a_symbol - 1, -1, -1)
    bits: Bits = (symbols[:, None] >> shifts & 1).astype(np.uint8).ravel()
    return bits


def _spans(d: Floats, template: SymbolTemplate) -> Floats:
    """Where the bits stand; those of one symbol share its time evenly."""
    edges = np.concatenate(([0.0], np.cumsum(d)))
    of = template.of_symbol
    if of.size == 0:
        return np.empty((0, 2))
    starts, ends = edges[of[:, 0]], edges[of.max(axis=1) + 1]
    parts = np.linspace(0.0, 1.0, template.bits_a_symbol + 1)
    bounds = starts[:, None] + (ends - starts)[:, None] * parts
    return np.stack((bounds[:, :-1], bounds[:, 1:]), axis=2).reshape(-1, 2)


def _first_clock(d: Floats, template: SymbolTemplate, sheet: Sheet) -> Clock:
    """The best of a coarse grid of clocks and excesses, tried all at once."""
    units, excesses = _clock_grid(sheet.unit_us, sheet.tolerance)
    cost = _decide(d, template, units, excesses)[1] / units**2
    best = int(np.argmin(cost))
    return Clock(float(units[best]), float(excesses[best]), 0.0)


@lru_cache(maxsize=256)
def _clock_grid(unit_us: float, tolerance: float) -> tuple[Floats, Floats]:
    """Units and excesses (µs) that the search begins with, every unit with every excess."""
    steps = max(3, round(0.9 * tolerance / CLOCK_STEP))
    most = 0.58 * _largest_excess(unit_us)
    parts = np.linspace(-most, most, 5 if most < 0.3 else 7)
    units, excesses = np.meshgrid(unit_us * (1 + CLOCK_STEP * np.arange(-steps, steps + 1)), parts)
    return units.ravel(), (units * excesses).ravel()


def _decide(d: Floats, template: SymbolTemplate, units: Floats, excesses: Floats) -> tuple[NDArray[np.intp], Floats]:
    """Each symbol by the nearest one, for each of several clocks.

    Edges err independently, so what counts is how far a symbol's edges lie from their places, the whole symbol moved
    to the middle of them: for a mark and the space behind it, with residuals r and q, r² + rq + q², up to a factor.
    Returns symbols (clocks, places) and the sum of squared residuals (clocks,).
    """
    shift = excesses[:, None] * alternating(d.size)
    fixed = template.fixed
    rest = (d - shift)[:, fixed] - units[:, None] * template.lengths[0, fixed]
    misfit = (rest**2).sum(axis=1)
    of = template.of_symbol
    if of.size == 0:
        return np.empty((units.size, 0), np.intp), misfit
    lengths = template.lengths[:, of]  # (symbols, places, pulses)
    r = (d - shift)[None, :, of] - units[None, :, None, None] * lengths[:, None]
    r *= of >= 0  # the frame's last symbol has lost its space
    if of.shape[1] == 2:
        mark, space = r[..., 0], r[..., 1]
        squares = mark**2 + space**2
        distance = squares + mark * space
    else:
        moved = np.cumsum(r, axis=3)
        count = of.shape[1] + 1
        distance = (moved**2).sum(axis=3) - moved.sum(axis=3) ** 2 / count
        squares = (r**2).sum(axis=3)
    if len(distance) == 2:
        ones = distance[1] < distance[0]
        return ones.astype(np.intp), misfit + np.where(ones, squares[1], squares[0]).sum(axis=1)
    nearest = distance.argmin(axis=0)
    return nearest, misfit + np.take_along_axis(squares, nearest[None], axis=0)[0].sum(axis=1)


def _match_serial(d: Floats, sheet: Sheet, kind: FrameKind) -> Match | None:
    """For asynchronous characters: edges on a grid that begins anew with each start bit."""
    assert sheet.serial is not None
    serial = sheet.serial
    best = on_serial_grid(d, clocks_about(d, sheet.unit_us), serial.length)
    if best is None:
        return None
    read = characters(best, serial.data_bits, serial.parity, serial.stop_bits)
    if read is None or read.bits.size != kind.bit_count:
        return None
    return Match(sheet, kind, best.clock, read.bits, read.bit_spans_us, best.expected_us)


def _match_grid(d: Floats, sheet: Sheet, kind: FrameKind) -> Match | None:
    """For codes whose symbols join into one another: edges on a grid of units, then symbol by symbol."""
    total = round(_run_and_total(sheet, kind)[1])
    if d.size > total:
        return None
    # The whole length is known, but for the half bits at the ends that are spaces and cannot be seen.
    most = _largest_excess(sheet.unit_us) * sheet.unit_us
    excesses, seen = (a.ravel() for a in np.meshgrid(np.linspace(-most, most, EXCESS_STEPS), total - np.arange(3.0)))
    units = (float(d.sum()) - excesses) / seen
    possible = np.abs(units / sheet.unit_us - 1) <= sheet.tolerance
    on_grid = best_grid(d, units[possible], excesses[possible]) if possible.any() else None
    if on_grid is None:
        return None
    places, clock = on_grid
    levels = np.repeat(np.arange(d.size) % 2 == 0, np.diff(places))
    for lead in (0, 1):  # a frame may begin with a half bit of space, which cannot be seen
        chips = np.zeros(total, np.bool_)
        if not total - 2 <= lead + levels.size <= total:
            continue
        chips[lead : lead + levels.size] = levels
        bits = _bits_of_chips(chips, sheet, kind)
        if bits is not None:
            spans = _grid_spans(sheet, kind, clock.unit_us, lead)
            return Match(sheet, kind, clock, bits, spans, grid_expected(clock, places))
    return None


def _width(sheet: Sheet) -> int:
    return round(sum(abs(p) for p in sheet.alphabet[1]))


def _chips(symbol: tuple[float, ...], stretch: int) -> NDArray[np.bool_]:
    return np.repeat(np.sign(symbol) > 0, [round(abs(p)) * stretch for p in symbol])


def _bits_of_chips(chips: NDArray[np.bool_], sheet: Sheet, kind: FrameKind) -> Bits | None:
    """Symbols read off unit by unit; None where something else stands than the sheet has."""
    at = 0
    found: list[Bits] = [NO_BITS]
    for part in kind.parts:
        if part.pulses is not None:
            fixed = _chips(part.pulses, 1)
            if not np.array_equal(chips[at : at + fixed.size], fixed):
                return None
            at += fixed.size
        elif part.bits:
            zero, one = (_chips(symbol, part.stretch) for symbol in sheet.alphabet)
            rows = chips[at : at + part.bits * one.size].reshape(part.bits, one.size)
            ones, zeros = (rows == one).all(axis=1), (rows == zero).all(axis=1)
            if not (ones | zeros).all():
                return None
            found.append(ones.astype(np.uint8))
            at += rows.size
    return np.concatenate(found)


def _grid_spans(sheet: Sheet, kind: FrameKind, unit_us: float, lead: int) -> Floats:
    at, spans = -lead, []
    for part in kind.parts:
        if part.pulses is not None:
            at += round(sum(abs(p) for p in part.pulses))
        for _ in range(part.bits or 0):
            spans.append((at, at + _width(sheet) * part.stretch))
            at += _width(sheet) * part.stretch
    return np.array(spans, dtype=np.float64).reshape(-1, 2) * unit_us
