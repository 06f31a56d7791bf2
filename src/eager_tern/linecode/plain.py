"""Bits sent as they are, without start bits and without an edge in each: a mark or a space lasts whole bits."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from eager_tern.linecode.biphase import edges_on_grid
from eager_tern.linecode.clock import alternating, expected_durations
from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.likelihood import LN2, parameter_cost, timing_score
from eager_tern.linecode.prices import PLAIN_BITS
from eager_tern.linecode.values import LineReading
from eager_tern.signal.order import quantile
from eager_tern.signal.values import Floats

SHORT_PART = 0.1  # of the marks and of the spaces: these have one bit, or as many as ``PARTS`` says
PARTS = (1, 2, 3)
ALIKE = 1.5  # shorter than two bits, whatever a receiver lengthens
AT_RANDOM = 0.2  # of a bit, by which lengths are off on the average: of random ones a quarter
LONGEST_RUN = 40  # bits: what lasts longer is a leader or a rest, which this code knows nothing of


def plain_bits(durations_us: Floats) -> LineReading | None:
    """The pulses, shape (n,), as bits each of which is a mark (1) or a space (0) from its first moment to its last;
    None where the edges lie on no grid of bits.
    """
    return _plain_bits(durations_us.tobytes())


@lru_cache(maxsize=1024)  # as often asked as the other codes
def _plain_bits(durations: bytes) -> LineReading | None:
    durations_us = np.frombuffer(durations)
    marks, spaces = (_shortest(part) for part in (durations_us[0::2], durations_us[1::2]))
    for part in PARTS:  # a coarser grid has fewer bits to explain
        unit, excess = (marks + spaces) / 2 / part, (marks - spaces) / 2
        in_bits = (durations_us - excess * alternating(durations_us.size)) / unit
        if np.abs(in_bits - np.rint(in_bits)).mean() > AT_RANDOM:
            continue
        places, clock = edges_on_grid(durations_us, unit, excess)
        lengths = np.diff(places)
        if clock.unit_us > 0 and clock.rms_us < CLEAN * clock.unit_us and lengths.max() <= LONGEST_RUN:
            break
    else:
        return None
    bits = np.repeat(np.arange(lengths.size) % 2 == 0, lengths).astype(np.uint8)
    expected = expected_durations(clock, lengths)
    starts = clock.unit_us * np.arange(bits.size)
    score = float(timing_score(durations_us - expected)) - bits.size * LN2 - parameter_cost(2, durations_us.size)
    spans = np.column_stack((starts, starts + clock.unit_us))
    return LineReading("unknown", clock, bits, spans, expected, 0, score + PLAIN_BITS)


def _shortest(part: Floats) -> float:
    """What the shortest of some marks, or of some spaces, last on the average."""
    return float(part[part <= ALIKE * quantile(part, SHORT_PART)].mean())
