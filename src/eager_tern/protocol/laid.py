"""The result of laying one kind of frame on several measured ones."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from msgspec.structs import astuple, replace
from numpy.typing import NDArray

from eager_tern.signal.values import Floats


class Laid(Struct, frozen=True, gc=False):
    """``rows`` are the frames it could be laid on; everything else has one entry for each of them.

    ``units_us``, ``excesses_us`` and ``rms_us`` have shape (rows,), ``bits`` (as sent) (rows, bits), ``bit_spans_us``
    (rows, bits, 2), ``expected_us`` (rows, pulses).
    """

    rows: NDArray[np.intp]
    units_us: Floats
    excesses_us: Floats
    rms_us: Floats
    bits: NDArray[np.uint8]
    bit_spans_us: Floats
    expected_us: Floats


def nothing_laid(durations_us: Floats) -> Laid:
    """Where a frame fits none of the measured ones, which have shape (frames, pulses)."""
    none = np.empty(0)
    spans = np.empty((0, 0, 2))
    return Laid(none.astype(np.intp), none, none, none, spans[..., 0].astype(np.uint8), spans, durations_us[:0])


def of_rows(laid: Laid, rows: NDArray[np.intp]) -> Laid:
    """The same where the frames it was laid on are ``rows`` of more."""
    return replace(laid, rows=rows[laid.rows])


def not_among(rows: NDArray[np.intp], count: int) -> NDArray[np.intp]:
    """Those of ``count`` frames that are not among some."""
    left = np.ones(count, dtype=bool)
    left[rows] = False
    return np.flatnonzero(left)


def some_rows(laid: Laid, chosen: NDArray[np.bool_]) -> Laid:
    """Some of what was laid."""
    return Laid(*(part[chosen] for part in astuple(laid)))


def both_laid(one: Laid, other: Laid) -> Laid:
    """What was laid on some frames and on others."""
    return Laid(*map(np.concatenate, zip(astuple(one), astuple(other), strict=True)))
