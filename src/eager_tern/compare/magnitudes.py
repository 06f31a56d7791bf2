"""Numbers that are sent as a magnitude, with their sign in the bit above it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.contiguous import OTHER_ENCODING, in_a_row
from eager_tern.compare.number import Number, decoded
from eager_tern.compare.stack import BitRows
from eager_tern.compare.windows import WIDEST_TABLE
from eager_tern.signal.values import Floats


def by_magnitude(
    bits: BitRows, columns: NDArray[np.intp], values: Floats, step: float, errors: int, starts: Sequence[int]
) -> Iterator[Number]:
    """The numbers in a row of bits that say the values but in ``errors`` rows; arguments as of ``in_a_row``."""
    below = values < 0
    if below.all() or not below.any():
        return
    for number in in_a_row(bits, columns, np.abs(values), step, errors, starts):
        run = number.positions
        sign = run[0] + (run[0] - run[1] if len(run) > 1 else -1)
        if number.offset or number.scale < 0 or number.encoding != "binary" or sign not in columns:
            continue
        # Nothing has no sign, or any.
        holds = number.holds & np.where(below, bits[:, sign] == 1, (bits[:, sign] == 0) | (values == 0))
        if np.sum(~holds) <= errors and 2 * np.sum(holds & below) > np.sum(below):
            yield _signed(replace(number, positions=(sign, *run), holds=holds, cost=number.cost + OTHER_ENCODING))


def _signed(number: Number) -> Number:
    """A number whose first bit is the sign: as a table of all that it can say, where that is short."""
    width = len(number.positions)
    if width > WIDEST_TABLE:
        return replace(number, encoding="magnitude")
    every = decoded(np.arange(1 << width), "magnitude", width) * number.scale
    return replace(number, table=dict(enumerate(np.round(every, 9).tolist())))
