"""What a frame that stands alone rather is: not what it reads as, but a damaged frame of a simpler or a known code."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from eager_tern.linecode.closeness import STEADY
from eager_tern.linecode.runs import parsed
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL, Reading, symbol_numbers
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Floats

SAME_LEADER = 0.15  # by which a receiver, and a handset's clock, make it differ
MOST_LOST, MOST_ADDED = 4, 1  # bits by which a lost mark, or a stray one, makes a frame differ from its sheet
MOSTLY = 0.7  # of the pulses that a simpler code explains, all but what was damaged
FEWEST_OF_EACH = 2  # of a symbol beyond two: a single long pulse is two that were one


def is_rather_damaged(frame: Frame, sheets: Sequence[Sheet]) -> bool:
    """Whether damage to one place of a frame explains it better than that it is what it reads as."""
    best, d = frame.reading, frame.as_read.durations_us
    if best.protocol == SERIAL:
        return _mostly_simpler(d)
    return _holds_a_rare_symbol(best) or any(
        best.code == code
        and -MOST_ADDED <= bits - best.bits.size <= MOST_LOST
        and d.size > len(leader)
        and bool((np.abs(d[: len(leader)] / leader - 1) < SAME_LEADER).all())
        for code, bits, leader in _led(tuple(sheets))
    )


def _mostly_simpler(d: Floats) -> bool:
    """Whether pulses taken for characters are nearly all symbols of two lengths, or half bits."""
    covered = [
        sum(
            row.last - row.first + 1
            for row in each.rows
            if row.line.clock.rms_us < STEADY * row.line.clock.unit_us and not row.bare
        )
        for each in parsed(d)
        if each.symbol_bits == 1
    ]
    return max(covered, default=0) >= MOSTLY * d.size


def _holds_a_rare_symbol(reading: Reading) -> bool:
    """Whether a code of more than two symbols has one of them only once."""
    if reading.symbols <= 2 or reading.framing is not None:
        return False
    return bool(
        (np.bincount(symbol_numbers(reading), minlength=reading.symbols)[: reading.symbols] < FEWEST_OF_EACH).any()
    )


@lru_cache(maxsize=16)
def _led(sheets: tuple[Sheet, ...]) -> list[tuple[str, int, tuple[float, ...]]]:
    """Line code, bits and leader (µs) of the sheets' frames that begin with one."""
    return [
        (sheet.code, kind.bit_count, tuple(abs(p) * sheet.unit_us for p in kind.leader))
        for sheet in sheets
        for kind in sheet.leads
        if kind.leader
    ]
