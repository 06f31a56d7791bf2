"""Rows of symbols as values, and how likely they make all pulses of a burst."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.linecode import prices
from eager_tern.linecode.likelihood import any_pulse_score, parameter_cost, timing_score
from eager_tern.linecode.values import Code, LineReading
from eager_tern.signal.stretches import stretches
from eager_tern.signal.values import Floats

FEWEST_SYMBOLS = 4  # of a row: fewer are a leader's pulses that happen to be as long
FEWEST_PAIRS = 6  # of all rows together, of which lengths can be learned
RECURRING = 0.4  # of the pulses at the least are data; leaders and gaps are few
ALIKE, ALIKE_US = 0.4, 4 * math.sqrt(2.0) * 40  # by how much equal pulses differ: four times what 40 µs make of two
FEWEST_RUN_IN = 6  # equal pulses in a row that are no accident


class Row(Struct, frozen=True):
    """Symbols in a row: pulses ``first`` to ``last`` (both included) with a reading of them, ``first`` at 0.

    ``bare`` tells that all its symbols are alike, but for a last mark that may be a sync's.
    """

    first: int
    last: int
    line: LineReading
    bare: bool


class Parsed(Struct, frozen=True):
    """A burst as rows of symbols of one code. ``score`` is the log likelihood of all its pulses, less what it cost."""

    code: Code
    symbol_bits: int
    rows: tuple[Row, ...]
    score: float


def score_of(d: Floats, rows: Sequence[Row], expected_us: Floats, a_symbol: float, numbers: int) -> float:
    """Log likelihood of all pulses, less what the hypothesis costs; ``expected_us`` is NaN outside the rows.

    Equal pulses before the first of the other rows, and equal pulses outside the rows, run in: they are as certain as
    data and say nothing but how many there are.
    """
    expected_us = expected_us.copy()
    score = 0.0
    for first, end in _runs_in(d, np.isnan(expected_us)):
        for begin in (first, first + 1):  # marks, and spaces
            expected_us[begin:end:2] = d[begin:end:2].mean()
        score += prices.RUN_IN
    begins = next((i for i, row in enumerate(rows) if not row.bare), 0)
    for at, row in enumerate(rows):
        cost = row.line.bits.size / row.line.symbol_bits * a_symbol
        score -= min(cost, -prices.RUN_IN) if at < begins else cost
    score += float(timing_score(d - expected_us)) + float(any_pulse_score(d[np.isnan(expected_us)]))
    return score - parameter_cost(numbers, d.size) + prices.ROW_BEGINS * len(rows)


def repeats_itself(d: Floats) -> NDArray[np.bool_]:
    """For each pulse but the first two, whether it is as long as the previous mark or space."""
    return np.asarray(np.abs(d[2:] - d[:-2]) < np.maximum(ALIKE * np.minimum(d[2:], d[:-2]), ALIKE_US))


def _runs_in(d: Floats, outside: NDArray[np.bool_]) -> Iterator[tuple[int, int]]:
    """Stretches of pulses outside the rows that are as long as the ones two before them: first and end."""
    alike = outside[2:] & outside[:-2] & repeats_itself(d)
    for first, last in stretches(alike):
        if last + 1 - first >= FEWEST_RUN_IN:
            yield first, last + 3
