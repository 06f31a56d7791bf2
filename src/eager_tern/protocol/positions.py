"""Where a number stands among the bits of a frame.

Written as in ``"7-0"``, ``"3, 17-20"`` or ``"!1, 8-13"``: positions in the order in which the bits were sent, counted
from 0, listed from the most significant bit to the least. ``!`` in front of a piece means its bits are sent inverted.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.values import Bits

WIDEST = 62  # bits of a number that an array holds; wider ones are Python's
PIECE = re.compile(r"(!?)\s*(\d+)\s*(?:-\s*(\d+))?")


class Positions:
    """``index`` and ``inverted`` have shape (width,), most significant bit first."""

    def __init__(self, index: NDArray[np.intp], inverted: NDArray[np.uint8]) -> None:
        self.index = index
        self.inverted = inverted

    @property
    def width(self) -> int:
        return int(self.index.size)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Positions) and self._sent == other._sent

    def __hash__(self) -> int:
        return hash(self._sent)

    def __str__(self) -> str:
        pieces: list[str] = []
        first = 0
        for i in range(1, self.width + 1):
            step = int(self.index[first + 1] - self.index[first]) if i - first > 1 else 0
            joins = (
                i < self.width
                and self.inverted[i] == self.inverted[first]
                and abs(int(self.index[i]) - int(self.index[i - 1])) == 1
                and (step == 0 or int(self.index[i]) - int(self.index[i - 1]) == step)
            )
            if not joins:
                a, b = int(self.index[first]), int(self.index[i - 1])
                pieces.append(("!" if self.inverted[first] else "") + (f"{a}-{b}" if a != b else f"{a}"))
                first = i
        return ", ".join(pieces)

    @cached_property
    def _sent(self) -> tuple[tuple[int, int], ...]:
        """Each position, and what turns the bit there."""
        return tuple(zip(self.index.tolist(), self.inverted.tolist(), strict=True))

    def read(self, bits: Bits) -> int:
        """The number at these positions."""
        value, row = 0, bits.tobytes()  # a few bytes are read sooner than an array
        for at, turned in self._sent:
            value = value << 1 | row[at] ^ turned
        return value

    def read_each(self, rows: Bits) -> NDArray[np.int64]:
        """The numbers at these positions in each of several frames: shape (frames, bits) to (frames,)."""
        return numbers_of(rows[:, self.index] ^ self.inverted)

    def write(self, bits: Bits, value: int) -> None:
        """Put a number at these positions of ``bits``, in place. The value must fit the width."""
        shifts = range(self.width - 1, -1, -1)
        digits = np.array([value >> shift & 1 for shift in shifts], dtype=np.uint8)
        bits[self.index] = digits ^ self.inverted


def numbers_of(rows: Bits) -> NDArray[np.int64]:
    """The numbers that rows of bits are, most significant first: shape (rows, bits) to (rows,)."""
    weights = _weights(rows.shape[1])
    numbers: NDArray[np.int64] = rows.astype(weights.dtype) @ weights
    return numbers


@lru_cache(maxsize=256)
def _weights(width: int) -> NDArray[np.int64]:
    """What each bit of a number counts, the highest first."""
    return 1 << np.arange(width - 1, -1, -1, dtype=np.int64 if width <= WIDEST else np.object_)


def positions_text(positions: Sequence[int]) -> str:
    """The text of positions whose bits are sent as they are, most significant first."""
    return str(Positions(np.array(positions, np.intp), np.zeros(len(positions), np.uint8)))


def parse_positions(text: str) -> Positions:
    """Positions from their text. Raises ValueError saying what is wrong."""
    index: list[int] = []
    inverted: list[int] = []
    for piece in text.split(","):
        match = PIECE.fullmatch(piece.strip())
        if match is None:
            raise ValueError(f'"{piece.strip()}" is no bit position: write "7-0", "3, 17-20" or "!1, 8-13"')
        first, last = int(match[2]), int(match[3] or match[2])
        if max(first, last) > 100_000:
            raise ValueError(f"bit {max(first, last)} is beyond any frame")
        step = 1 if last >= first else -1
        run = list(range(first, last + step, step))
        index += run
        inverted += [int(bool(match[1]))] * len(run)
    if len(set(index)) != len(index):
        raise ValueError(f'"{text}" names a bit twice')
    return Positions(np.array(index, dtype=np.intp), np.array(inverted, dtype=np.uint8))
