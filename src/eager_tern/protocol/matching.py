"""Laying sheets' frames on measured pulses, many frames of one size at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.linecode.clock import alternating, edges_of
from eager_tern.linecode.likelihood import any_pulse_score, parameter_cost, timing_score
from eager_tern.linecode.serial import characters
from eager_tern.linecode.serial_grid import clocks_about, on_serial_grid
from eager_tern.linecode.values import Bits, Clock
from eager_tern.protocol.checks import CheckResult, evaluate_each
from eager_tern.protocol.glance import shapes_of
from eager_tern.protocol.grid import lay_on_grid
from eager_tern.protocol.laid import Laid, nothing_laid, some_rows
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.protocol.scoring import scores_of
from eager_tern.protocol.symbols import lay_symbols
from eager_tern.protocol.template import is_paired
from eager_tern.protocol.tolerance import coarsest, largest_excess
from eager_tern.signal.values import Floats

OUT_OF_PLACE = 0.9  # of a unit: no late edge is off as far


class Match(Struct, frozen=True, gc=False):
    """A frame read by a sheet. ``bits`` are as sent, ``meant`` without what this kind of frame inverts.
    ``bit_spans_us`` shape (n, 2), ``expected_us`` shape (pulses,).

    ``timing`` is the log probability of the durations under the sheet, whatever bits it could have been, ``score`` with
    the bits and what the checks say of them (``results``: none for a frame without bits). ``out_of_place`` tells that a
    pulse among the bits is farther off the ruler than jitter can explain.
    """

    sheet: Sheet
    kind: FrameKind
    clock: Clock
    bits: Bits
    meant: Bits
    bit_spans_us: Floats
    expected_us: Floats
    timing: float
    score: float
    results: tuple[CheckResult, ...]
    out_of_place: bool

    @property
    def is_bare(self) -> bool:
        """Whether it is nothing but equal symbols, as much else is: no leader, no checks, and all bits alike."""
        if not self.bits.size or self.sheet.checks or self.kind.leader:
            return False
        return bool((self.bits == self.bits[0]).all())

    @property
    def checks_hold(self) -> bool:
        return all(result.ok for result in self.results)


def match_sheets(durations_us: Floats, sheets: Sequence[Sheet], most_rms: float | None = None) -> list[list[Match]]:
    """For each of several frames of one size, every sheet's frame that fits it. ``durations_us``: (frames, pulses).

    ``most_rms`` is what may lie between ruler and edges, as a part of the unit; if not given, what suits the sheet.
    """
    shapes = shapes_of(tuple(sheets))
    found: list[list[Match]] = [[] for _ in durations_us]
    possible = shapes.possible(durations_us)
    for shape in np.flatnonzero(possible.any(axis=0)).tolist():
        rows = np.flatnonzero(possible[:, shape])
        alike = shapes.frames[shape]
        # Characters begin wherever their start bits stand, in each frame elsewhere; so do gaps where symbols join.
        sheet, kind = alike[0]
        alone = sheet.serial is not None or (kind.section_count > 1 and not is_paired(sheet))
        together = rows[:, None] if alone else [rows]
        for some in together:
            for row, match in _matches(durations_us[some], alike, most_rms):
                found[some[row]].append(match)
    return found


def _matches(
    d: Floats, alike: Sequence[tuple[Sheet, FrameKind]], most_rms: float | None
) -> Iterator[tuple[int, Match]]:
    """Kinds of frame that look alike laid on those that they fit, with their rows."""
    sheet, kind = alike[0]
    laid = _lay(d, sheet, kind) if sheet.mark_excess_us is None else _lay_with_excess(d, sheet, kind)
    units = laid.units_us
    near = np.abs(units / sheet.unit_us - 1) <= sheet.tolerance
    near &= laid.rms_us <= (most_rms or coarsest(sheet.alphabet)) * units
    if sheet.mark_excess_us is None:
        near &= np.abs(laid.excesses_us) <= largest_excess(units) * units
    if not near.any():
        return
    laid = some_rows(laid, near)
    measured = d[laid.rows]
    timing, out_of_place = _timing(measured, laid.expected_us), _out_of_place(measured, laid).tolist()
    told = (laid.units_us.tolist(), laid.excesses_us.tolist(), laid.rms_us.tolist())
    clocks = [Clock(*each) for each in zip(*told, strict=True)]
    for sheet, kind in alike:
        meant = kind.turned(laid.bits)
        results = [evaluate_each(check, meant) for check in sheet.checks] if kind.bit_count else []
        scores = scores_of(sheet, kind, laid, timing, results)
        of_each = list(zip(*results, strict=True)) if results else [()] * len(clocks)
        each_frame = zip(
            laid.rows.tolist(), clocks, laid.bits, meant, laid.bit_spans_us, laid.expected_us, timing.tolist(),
            scores.tolist(), of_each, out_of_place, strict=True,
        )  # fmt: skip
        for row, *rest in each_frame:
            yield row, Match(sheet, kind, *rest)


def _out_of_place(d: Floats, laid: Laid) -> NDArray[np.bool_]:
    """Whether a pulse among the bits of each frame lies a unit off: a mark or a space beside it was lost."""
    found = np.zeros(len(d), np.bool_)
    off = np.abs(d - laid.expected_us) > OUT_OF_PLACE * laid.units_us[:, None]
    for row in np.flatnonzero(off.any(axis=1)).tolist():
        begins = edges_of(d[row : row + 1])[0, :-1][off[row]]
        spans = laid.bit_spans_us[row]
        found[row] = ((begins[:, None] >= spans[:, 0]) & (begins[:, None] < spans[:, 1])).any()
    return found


def _timing(d: Floats, expected_us: Floats) -> Floats:
    """Log probability of the durations, with what two fitted numbers cost; shape (frames,)."""
    score = timing_score(d - expected_us) - parameter_cost(2, d.shape[1])
    unknown = np.isnan(expected_us[0])
    return score + any_pulse_score(d[:, unknown]) if unknown.any() else score


def _lay_with_excess(d: Floats, sheet: Sheet, kind: FrameKind) -> Laid:
    """The frame laid with the mark excess that the sheet says."""
    said = (sheet.mark_excess_us or 0.0) * alternating(d.shape[1])
    laid = _lay(d - said, sheet, kind)
    if laid.rows.size == 0:
        return laid
    expected = laid.expected_us - laid.excesses_us[:, None] * alternating(d.shape[1]) + said
    rms = np.sqrt(np.nanmean((d[laid.rows] - expected) ** 2, axis=1))
    excesses = np.full(laid.rows.size, sheet.mark_excess_us)
    return replace(laid, excesses_us=excesses, rms_us=rms, expected_us=expected)


def _lay(d: Floats, sheet: Sheet, kind: FrameKind) -> Laid:
    if kind.bit_count == 0 or is_paired(sheet):
        return lay_symbols(d, sheet, kind)
    return lay_on_grid(d, sheet, kind) if sheet.serial is None else _lay_characters(d, sheet, kind)


def _lay_characters(d: Floats, sheet: Sheet, kind: FrameKind) -> Laid:
    """For asynchronous characters: the edges of one frame on a grid that begins anew with each start bit."""
    assert sheet.serial is not None
    serial = sheet.serial
    clocks = clocks_about(d[0], sheet.unit_us)
    best = on_serial_grid(d[0], clocks, [serial.length]).get(serial.length) if clocks else None
    read = characters(best, serial.data_bits, serial.parity, serial.stop_bits) if best is not None else None
    if best is None or read is None or read.bits.size != kind.bit_count:
        return nothing_laid(d)
    unit, excess, rms = np.array([[best.clock.unit_us], [best.clock.excess_us], [best.clock.rms_us]])
    first = np.zeros(1, np.intp)
    return Laid(first, unit, excess, rms, read.bits[None], read.bit_spans_us[None], best.expected_us[None])
