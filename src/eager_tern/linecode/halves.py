"""Bi-phase among a burst's pulses: stretches of one or two half bits."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from eager_tern.linecode.biphase import edges_on_grid, grid_expected, guess_unit
from eager_tern.linecode.clock import alternating
from eager_tern.linecode.likelihood import LN2
from eager_tern.linecode.rows import FEWEST_PAIRS, FEWEST_SYMBOLS, RECURRING, Parsed, Row, score_of
from eager_tern.linecode.values import Bits, Clock, LineReading
from eager_tern.signal.order import quantile
from eager_tern.signal.stretches import stretches
from eager_tern.signal.values import Floats

BYTE = 8  # bits
FEWEST_JOINED = 6  # a pulse of two half bits could be anything; an even number of single ones has to follow each
LONGEST_RUN = 2.5  # half bits
SHORTEST_RUN = 0.5


class InHalves(Struct, frozen=True):
    """Stretches of pulses (first and last index) that one or two half bits may be, and about how long a half is."""

    stretches: tuple[tuple[int, int], ...]
    unit_us: float = 0.0
    excess_us: float = 0.0


def in_halves(d: Floats, unit_us: float | None = None) -> InHalves:
    """What could be bi-phase of some pulses; ``unit_us`` is a half bit's approximate length, if known."""
    short = quantile(d, 0.2)
    inside = d < 2.9 * short
    if inside.sum() < max(2 * FEWEST_PAIRS, RECURRING * d.size):
        return InHalves(())
    odd = np.arange(d.size) % 2 == 1
    if not (inside & odd).any() or not (inside & ~odd).any():
        return InHalves(())
    alike = np.empty(2 * min(int((inside & odd).sum()), int((inside & ~odd).sum())))
    alike[0::2], alike[1::2] = d[inside & ~odd][: alike.size // 2], d[inside & odd][: alike.size // 2]
    unit, excess = guess_unit(alike) if unit_us is None else (unit_us, 0.0)
    if unit <= 0:
        return InHalves(())
    exact = (d - excess * alternating(d.size)) / unit
    data = (exact > SHORTEST_RUN) & (exact < LONGEST_RUN)
    enough = [(a, b) for a, b in stretches(data) if b + 1 - a >= 2 * FEWEST_SYMBOLS - 2]
    return InHalves(tuple(enough), unit, excess)


def most_joined(halves: InHalves) -> int:
    """How many pulses could be bi-phase at the most."""
    return sum(last + 1 - first for first, last in halves.stretches)


def is_surely_joined(parsed: Parsed) -> bool:
    """Whether half bits are joined so often that no code of pulse pairs could look like it."""
    clocks = [(row.line.expected_us, row.line.clock.unit_us) for row in parsed.rows]
    return sum(int(np.count_nonzero(expected > 1.5 * unit)) for expected, unit in clocks) >= FEWEST_JOINED


def read_in_halves(d: Floats, halves: InHalves) -> Iterator[Parsed]:
    """Bi-phase: pulses of one or two half bits."""
    rows, expected = [], np.full(d.size, np.nan)
    for first, last in halves.stretches:
        row = _halves(d, first, last, halves.unit_us, halves.excess_us)
        if row is None and first and last - first >= 2 * FEWEST_SYMBOLS:
            # A leader's last pulse may be as long as data is, and ends where a bit begins.
            first += 1
            row = _halves(d, first, last, halves.unit_us, halves.excess_us)
        if row is not None:
            rows.append(row)
            expected[first : last + 1] = row.line.expected_us
    if not rows or all(row.bare for row in rows):
        return
    yield Parsed("biphase", 1, tuple(rows), score_of(d, rows, expected, LN2, 3))


def _halves(d: Floats, first: int, last: int, unit: float, excess: float) -> Row | None:
    """Pulses of one or two half bits with a change in the middle of each bit; mark, then space is 1.

    The first half bit may have joined the pulse before, the last one the pulse behind.
    """
    own = d[first : last + 1]
    begins_high = first % 2 == 0
    sign = 1.0 if begins_high else -1.0  # the ruler takes its first pulse for a mark
    places, laid = edges_on_grid(own, unit, sign * excess)
    clock = Clock(laid.unit_us, sign * laid.excess_us, laid.rms_us)
    lengths = np.diff(places)
    if clock.unit_us <= 0 or lengths.max() > 2:
        return None
    levels = np.repeat((np.arange(own.size) % 2 == 0) == begins_high, lengths)
    best: tuple[int, Bits, int] | None = None
    for shift in (0, 1):
        halves = np.concatenate(([not levels[0]] * shift, levels))
        if halves.size % 2:
            halves = np.append(halves, not halves[-1])
        pairs = halves.reshape(-1, 2)
        wrong = int(np.sum(pairs[:, 0] == pairs[:, 1]))
        if best is None or wrong < best[2]:
            best = shift, pairs[:, 0].astype(np.uint8), wrong
    assert best is not None
    shift, bits, wrong = best
    if wrong or bits.size < FEWEST_SYMBOLS:
        return None
    spans = clock.unit_us * (np.arange(bits.size)[:, None] * 2 + np.array([0, 2]) - shift)
    if bits.size > BYTE:  # what only half of is seen may be a leader's space, or a sync
        if shift and not begins_high and bits.size % 2:
            bits, spans = bits[1:], spans[1:]
        elif (levels.size + shift) % 2 and bits.size % BYTE == 1:
            bits, spans = bits[:-1], spans[:-1]
    line = LineReading("biphase", clock, bits, spans, grid_expected(laid, places), 0, 0.0)
    return Row(first, last, line, bool((lengths == 1).all()))
