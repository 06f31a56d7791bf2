"""Which kinds of frame a burst could be, by its length and first pulses; computed for many bursts at once."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.protocol.template import is_paired, symbol_template
from eager_tern.signal.assumed import EXCESS_FOUND_US, LARGEST_JITTER_US
from eager_tern.signal.values import Floats


class Shapes(Struct, frozen=True):
    """What kinds of frame look like; kinds of several sheets may look the same and are laid on a frame once.

    ``frames`` lists the kinds of each shape. ``bounds`` has shape (shapes, 5, 2): the least and the most of each of
    what ``_measure`` measures. ``longest``, shape (shapes,), is the longest pulse as a part of the whole length,
    whatever the clock.
    """

    frames: tuple[tuple[tuple[Sheet, FrameKind], ...], ...]
    bounds: Floats
    longest: Floats

    def possible(self, durations_us: Floats) -> NDArray[np.bool_]:
        """Which shapes each of several frames of one size could have: (frames, pulses) to (frames, shapes)."""
        measured = _measure(durations_us)[:, None]
        inside = ((measured >= self.bounds[:, :, 0]) & (measured <= self.bounds[:, :, 1])).all(axis=2)
        inside &= measured[..., 4] <= self.longest * measured[..., 1] + EXCESS_FOUND_US + LARGEST_JITTER_US
        return inside


@lru_cache(maxsize=64)
def shapes_of(sheets: tuple[Sheet, ...]) -> Shapes:
    """The shapes of all the sheets' frames, in the order of the sheets."""
    frames: dict[object, list[tuple[Sheet, FrameKind]]] = {}
    for sheet in sheets:
        for kind in sheet.frames:
            # A frame without bits says nothing of the variant: it belongs to the family's first sheet.
            if kind.bit_count or sheet.family == sheet.id:
                shape = (
                    sheet.alphabet, sheet.serial, sheet.unit_us, sheet.tolerance, sheet.mark_excess_us, kind.shape
                )  # fmt: skip
                frames.setdefault(shape, []).append((sheet, kind))
    firsts = [same[0] for same in frames.values()]
    bounds = np.array([_bounds(*first) for first in firsts]).reshape(-1, 5, 2)
    return Shapes(tuple(map(tuple, frames.values())), bounds, np.array([_longest(*first) for first in firsts]))


def _measure(d: Floats) -> Floats:
    """Number of pulses, whole length, first two pulses, the longest: shape (frames, pulses) to (frames, 5)."""
    second = d[:, 1] if d.shape[1] > 1 else np.zeros(len(d))
    return np.column_stack((np.full(len(d), d.shape[1]), d.sum(axis=1), d[:, 0], second, d.max(axis=1)))


def _longest(sheet: Sheet, kind: FrameKind) -> float:
    """The longest pulse as a part of the whole length, where symbols join; elsewhere the bounds tell enough."""
    if kind.bit_count == 0 or is_paired(sheet) or sheet.serial is not None:
        return 1.0
    if kind.section_count > 1:
        return 1.0
    run, total, fixed = run_and_total(sheet, kind)
    return max([2 * run, *(p + run for p in fixed)]) / (total - 2)


def _bounds(sheet: Sheet, kind: FrameKind) -> Floats:
    """The bounds of ``_measure`` for a kind of frame, with all the clock's and the receiver's errors."""
    slack = EXCESS_FOUND_US + LARGEST_JITTER_US + abs(sheet.mark_excess_us or 0.0)
    low, high = sheet.unit_us * (1 - sheet.tolerance), sheet.unit_us * (1 + sheet.tolerance)
    anything = (0.0, np.inf)
    if kind.bit_count == 0 or is_paired(sheet):
        lengths = symbol_template(sheet, kind).lengths
        least, most = lengths.min(axis=0), lengths.max(axis=0)  # NaN in both where a gap is
        gaps = np.isnan(lengths[0])
        pulses = [
            anything if gaps[i] else (least[i] * low - slack, most[i] * high + slack) for i in range(min(2, least.size))
        ]
        whole = (np.nansum(least) * low - slack, np.inf if gaps.any() else np.nansum(most) * high + slack)
        longest = (0.0, np.inf if gaps.any() else np.nanmax(most) * high + slack)
        return np.array([(least.size, least.size), whole, *pulses, *[anything] * (2 - len(pulses)), longest])
    if sheet.serial is not None:
        characters = kind.bit_count // sheet.serial.data_bits
        most_pulses = characters * sheet.serial.length
        whole = (characters * 2 * low - slack, np.inf)
        return np.array([(characters, most_pulses), whole, anything, anything, anything])
    run, total, fixed = run_and_total(sheet, kind)
    begins = kind.leader
    first = [(abs(p) * low - slack, (abs(p) + run) * high + slack) for p in begins[:2]]
    first += [(low - slack, 2 * run * high + slack)] * (2 - len(first))
    gaps = kind.section_count > 1
    longest_us = np.inf if gaps else max([2 * run, *(p + run for p in fixed)]) * high + slack
    # The last half bit may be a space, which nobody sees.
    whole = ((total - 2 * kind.section_count) * low - slack, np.inf if gaps else total * high + slack)
    return np.array([(kind.bit_count, 2 * kind.bit_count + len(fixed)), whole, *first, (0.0, longest_us)])


def run_and_total(sheet: Sheet, kind: FrameKind) -> tuple[float, float, list[float]]:
    """Of a code whose symbols join: the longest end of a symbol, the frame's length, its fixed pulses, all in units."""
    fixed = [abs(p) for part in kind.parts for p in part.pulses or ()]
    bits = sum((part.bits or 0) * part.stretch for part in kind.parts) * symbol_width(sheet)
    run = max(abs(symbol[i]) for symbol in sheet.alphabet for i in (0, -1)) * max(p.stretch for p in kind.parts)
    return run, bits + sum(fixed), fixed


def symbol_width(sheet: Sheet) -> int:
    """In units, of a code whose symbols join."""
    return round(sum(abs(p) for p in sheet.alphabet[1]))
