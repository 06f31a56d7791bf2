"""Laying a sheet's frame on measured pulses."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from eager_tern.linecode.biphase import edges_on_grid, grid_expected
from eager_tern.linecode.clock import alternating, expected_durations, fit_clock
from eager_tern.linecode.values import NO_BITS, Bits, Clock
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.protocol.template import PairTemplate, is_paired, pair_template
from eager_tern.signal.values import Floats

ROUNDS = 2
COARSEST = 0.25  # rms of a unit between ruler and edges beyond which a sheet does not fit
LARGEST_EXCESS = 0.45  # of a unit
# Where the search for a clock begins, every clock with every excess (as parts of the published unit).
EXCESSES = np.linspace(-0.26, 0.26, 5)
CLOCK_STEP = 0.06


@dataclass(frozen=True)
class Match:
    """A frame read by a sheet. ``bit_spans_us`` shape (n, 2), ``expected_us`` shape (pulses,)."""

    sheet: Sheet
    kind: FrameKind
    clock: Clock
    bits: Bits
    bit_spans_us: Floats
    expected_us: Floats


def match_frame(durations_us: Floats, sheet: Sheet, kind: FrameKind) -> Match | None:
    """The sheet's frame laid on the pulses, or None where it does not fit."""
    if kind.bit_count == 0 or is_paired(sheet):
        match = _match_pairs(durations_us, sheet, kind)
    else:
        match = _match_grid(durations_us, sheet, kind)
    if match is None:
        return None
    clock = match.clock
    fits = (
        abs(clock.unit_us / sheet.unit_us - 1) <= sheet.tolerance
        and clock.rms_us <= COARSEST * clock.unit_us
        and abs(clock.excess_us) <= LARGEST_EXCESS * clock.unit_us
    )
    return match if fits else None


def _match_pairs(d: Floats, sheet: Sheet, kind: FrameKind) -> Match | None:
    template = pair_template(sheet, kind)
    if d.size != template.zero.size:
        return None
    clock = _first_clock(d, template, sheet)
    bits = NO_BITS
    for _ in range(ROUNDS):
        bits = _decide(d, template, np.array([clock.unit_us]), np.array([clock.excess_us]))[0][0]
        clock = fit_clock(d, _lengths(template, bits))
        if clock.unit_us <= 0:
            return None
    edges = np.concatenate(([0.0], np.cumsum(d)))
    spans = np.column_stack((edges[template.first_of_bit], edges[template.last_of_bit + 1]))
    return Match(sheet, kind, clock, bits, spans, expected_durations(clock, _lengths(template, bits)))


def _lengths(template: PairTemplate, bits: Bits) -> Floats:
    if bits.size == 0:
        return template.zero
    return np.where((template.bit >= 0) & (bits[template.bit] == 1), template.one, template.zero)


def _first_clock(d: Floats, template: PairTemplate, sheet: Sheet) -> Clock:
    """The best of a coarse grid of clocks and excesses, tried all at once."""
    units, excesses = _clock_grid(sheet.unit_us, sheet.tolerance)
    cost = _decide(d, template, units, excesses)[1] / units**2
    best = int(np.argmin(cost))
    return Clock(float(units[best]), float(excesses[best]), 0.0)


@lru_cache(maxsize=256)
def _clock_grid(unit_us: float, tolerance: float) -> tuple[Floats, Floats]:
    """Units and excesses (µs) that the search begins with, every unit with every excess."""
    steps = max(3, round(0.9 * tolerance / CLOCK_STEP))
    units, excesses = np.meshgrid(unit_us * (1 + CLOCK_STEP * np.arange(-steps, steps + 1)), EXCESSES)
    return units.ravel(), (units * excesses).ravel()


def _decide(d: Floats, template: PairTemplate, units: Floats, excesses: Floats) -> tuple[Bits, Floats]:
    """Each bit by the nearer symbol, for each of several clocks.

    Edges err independently, so the residuals r, q of a mark and the space behind it have the covariance
    [[2, −1], [−1, 2]]; their squared distance is r² + rq + q², up to a factor. Returns bits (clocks, bits) and the sum
    of squared residuals (clocks,).
    """
    shift = excesses[:, None] * alternating(d.size)
    rest = [d - shift - units[:, None] * lengths for lengths in (template.zero, template.one)]
    fixed = (rest[0][:, template.fixed] ** 2).sum(axis=1)
    if template.first_of_bit.size == 0:
        return np.empty((units.size, 0), np.uint8), fixed
    first, last = template.first_of_bit, template.last_of_bit
    alone = first == last  # the last symbol may have lost its space
    distances, squares = [], []
    for r in rest:
        mark, space = r[:, first], np.where(alone, 0.0, r[:, last])
        distances.append(mark**2 + mark * space + space**2)
        squares.append(mark**2 + space**2)
    ones = distances[1] < distances[0]
    return ones.astype(np.uint8), fixed + np.where(ones, squares[1], squares[0]).sum(axis=1)


def _match_grid(d: Floats, sheet: Sheet, kind: FrameKind) -> Match | None:
    """For codes whose symbols join into one another: edges on a grid of units, then symbol by symbol."""
    if d.size > 2 * kind.bit_count + sum(len(part.pulses or ()) for part in kind.parts):
        return None
    widths = [sum(abs(p) for p in part.pulses) if part.pulses else (part.bits or 0) * part.stretch * _width(sheet)
              for part in kind.parts]  # fmt: skip
    total = round(sum(widths))
    span = 1 + sheet.tolerance + 0.2
    if not total / span < float(d.sum()) / sheet.unit_us < total * span or d.size > total:
        return None
    longest = _longest_run(sheet, kind)
    if float(d.max()) > (longest + LARGEST_EXCESS) * sheet.unit_us * (1 + sheet.tolerance):
        return None
    units, excesses = _clock_grid(sheet.unit_us, sheet.tolerance)
    exact = (d - excesses[:, None] * alternating(d.size)) / units[:, None]
    misfit = ((exact - np.rint(exact)) ** 2).sum(axis=1) * units**2
    best = int(np.argmin(misfit))
    places, clock = edges_on_grid(d, float(units[best]), float(excesses[best]))
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


def _longest_run(sheet: Sheet, kind: FrameKind) -> float:
    """The most units that marks or spaces in a row can have: two halves of neighbouring symbols, or a fixed pulse."""
    fixed = [abs(p) for part in kind.parts for p in part.pulses or ()]
    stretch = max(part.stretch for part in kind.parts)
    ends = [abs(symbol[i]) for symbol in (sheet.zero, sheet.one) for i in (0, -1)]
    return max([2 * max(ends) * stretch, *(f + max(ends) * stretch for f in fixed)])


def _width(sheet: Sheet) -> int:
    return round(sum(abs(p) for p in sheet.one))


def _chips(symbol: tuple[float, ...], stretch: int) -> np.ndarray:
    return np.repeat(np.sign(symbol) > 0, [round(abs(p)) * stretch for p in symbol])


def _bits_of_chips(chips: np.ndarray, sheet: Sheet, kind: FrameKind) -> Bits | None:
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
            one, zero = _chips(sheet.one, part.stretch), _chips(sheet.zero, part.stretch)
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
