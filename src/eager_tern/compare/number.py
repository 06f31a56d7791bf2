"""A number that bits carry: where it stands, how it is coded, and the line that makes a value of it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

NEXT_BYTE = 15  # columns from a byte's lowest bit back to the highest of the byte before
Encoding = Literal["binary", "signed", "magnitude", "bcd", "gray"]
Ints = NDArray[np.int64]


class Number(Struct, frozen=True):
    """A field found for a number. ``positions`` run from the most significant bit to the least.

    value = scale × (raw read through ``encoding``) + offset; ``holds`` tells of each row that was looked at whether it
    does. ``chance`` is log10 of the probability of an accident, given all that was tried, ``in_any_order`` the same
    were the rows in any order; ``cost`` that of how many descriptions of the same bits a maker would choose as soon.
    ``decimals`` are those of the values, where it gives them rounded only, and cannot give all of them. ``table`` has
    the value of every raw number where no line through any encoding says it.
    """

    positions: tuple[int, ...]
    encoding: Encoding
    scale: float
    offset: float
    holds: NDArray[np.bool_]
    chance: float
    in_any_order: float
    cost: float = 0.0
    decimals: int | None = None
    table: Mapping[int, float] | None = None

    @property
    def pieces(self) -> int:
        """How many runs of neighbouring bits the positions are in; bytes whose lowest is sent first are one run."""
        steps = np.diff(self.positions)
        if steps.size == 0:
            return 1
        direction = 1 if np.sum(steps == 1) >= np.sum(steps == -1) else -1
        return 1 + int(np.sum((steps != direction) & (steps != -NEXT_BYTE * direction)))


def decoded(raw: Ints, encoding: Encoding, width: int) -> Ints:
    """The numbers that raw ones of ``width`` bits stand for."""
    if encoding == "signed":
        return raw - ((raw >> (width - 1)) << width)
    if encoding == "magnitude":
        return (raw & ((1 << (width - 1)) - 1)) * (1 - 2 * (raw >> (width - 1)))
    if encoding == "gray":
        number = raw.copy()
        for shift in (1, 2, 4, 8, 16):
            number ^= number >> shift
        return number
    if encoding == "bcd":
        return np.asarray(sum((raw >> 4 * digit & 15) * 10**digit for digit in range(-(-width // 4))))
    return raw
