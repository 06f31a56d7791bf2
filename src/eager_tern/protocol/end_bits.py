"""What stands at the ends of an unknown frame's bits and may be one more: a sync mark, or half of a bi-phase bit."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.clusters import SAME_RATIO
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading, digits_of
from eager_tern.signal.assumed import SURE_GAP_US
from eager_tern.signal.values import Floats, Pulses


def with_end_bits(pulses: Pulses, frames: Sequence[Frame]) -> list[Frame]:
    """The frames; what was left over beside the bits becomes one where another frame of the code clearly has it.

    A short mark between equal spaces and a silence is a bit in any case: syncs stand behind bits of a fixed period, or
    have a mark soon behind them. ``pulses`` are those that the frames' indices count.
    """
    silent = {f.last for f in frames if (pulses.durations_us[f.last + 1 :][:1] >= SURE_GAP_US).all()}
    longer = [_with_one_more(frame) for frame in frames]
    certain = {
        _kind(frame.reading)
        for frame, more in zip(frames, longer, strict=True)
        if more is None and not frame.reading.known and not frame.reading.sections
    }
    return [
        replace(frame, readings=(more, *frame.readings[1:]))
        if more is not None and (_kind(more) in certain or (frame.last in silent and _has_equal_spaces(more)))
        else frame
        for frame, more in zip(frames, longer, strict=True)
    ]


def _kind(reading: Reading) -> tuple[str, int, int]:
    return reading.code, reading.symbols, int(reading.bits.size)


def _with_one_more(frame: Frame) -> Reading | None:
    """What a frame says if the left over pulse beside its bits is one of them; None where none is."""
    best = frame.reading
    if best.known or best.sections or not best.bits.size or best.code not in ("pulse-width", "biphase"):
        return None
    told = ~np.isnan(best.expected_us)
    first, edges = int(np.argmax(told)), frame.as_read.edge_times_us - frame.as_read.start_us
    if best.code == "pulse-width":
        left_over = (told.size - first + 1) // 2 == best.bits.size // best.symbol_bits + 1
        whole = first % 2 == 0 and told[first:-1].all()
        return _with_lowest_behind(best, edges[-2:]) if left_over and whole else None
    last, unit = told.size - 1 - int(np.argmax(told[::-1])), best.clock.unit_us
    begin, end = best.bit_spans_us[0, 0], best.bit_spans_us[-1, 1]
    before, behind = begin - edges[first] > unit / 2, edges[last + 1] - end > unit / 2
    if before == behind or not told[first:last].all():
        return None
    at, bit, start = (best.bits.size, 1 - last % 2, end) if behind else (0, first % 2, begin - 2 * unit)
    bits, span = np.insert(best.bits, at, np.uint8(bit)), [start, start + 2 * unit]
    return replace(best, bits=bits, bit_spans_us=np.insert(best.bit_spans_us, at, span, axis=0))


def _with_lowest_behind(reading: Reading, span_us: Floats) -> Reading:
    """The reading with one more symbol, the one of the shortest mark, in that span."""
    count = reading.symbol_bits
    bounds = np.linspace(float(span_us[0]), float(span_us[1]), count + 1)
    spans = np.vstack((reading.bit_spans_us, np.stack((bounds[:-1], bounds[1:]), axis=1)))
    longer = replace(reading, bits=np.append(reading.bits, np.zeros(count, np.uint8)), bit_spans_us=spans)
    return replace(longer, fields=digits_of(longer))


def _has_equal_spaces(reading: Reading) -> bool:
    """Whether all spaces of a pulse width code are alike, and its frame ends with one of its marks."""
    spaces = reading.expected_us[1::2]
    ends = reading.code == "pulse-width" and not np.isnan(reading.expected_us[-1])
    return bool(ends and np.nanmax(spaces) < SAME_RATIO * np.nanmin(spaces))
