"""How bits are shown: one by one or as numbers, for all columns or for some."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import numpy as np
from msgspec import Struct

from eager_tern.linecode.values import Bits
from eager_tern.texts import term

Shown = Literal["bits", "hex", "decimal"]
SHOWN: tuple[Shown, ...] = (term("bits"), term("hex"), term("decimal"))
Range = tuple[int, int]  # first and last column


class Way(Struct, frozen=True):
    """``turned``: of a number, the bit sent first is the lowest; ``group`` bits stand together."""

    shown: Shown = "bits"
    turned: bool = False
    inverted: bool = False
    group: int = 8


class Piece(Struct, frozen=True):
    """Columns shown together, as one number or bit by bit."""

    first: int
    last: int
    way: Way


def pieces(bounds: Sequence[tuple[int, int]], way: Way, own: Mapping[Range, Way]) -> list[Piece]:
    """All columns in pieces: the ranges with a way of their own, and what is left of each group between them.

    ``bounds`` are the sections' begins and ends (not included).
    """
    out = [Piece(*columns, its) for columns, its in own.items()]
    taken = {column for first, last in own for column in range(first, last + 1)}
    for start, end in bounds:
        for group in range(start, end, way.group):
            left = [c for c in range(group, min(group + way.group, end)) if c not in taken]
            for run in np.split(np.array(left, int), np.flatnonzero(np.diff(left) > 1) + 1):
                if run.size:
                    out.append(Piece(int(run[0]), int(run[-1]), way))
    return sorted(out, key=lambda piece: piece.first)


def number_text(bits: Bits, way: Way) -> str:
    """A piece's bits, in the order sent, as the number they are shown as."""
    sent = (bits ^ way.inverted).tolist()
    number = int("".join(map(str, sent[::-1] if way.turned else sent)), 2)
    return f"{number:0{-(-len(sent) // 4)}X}" if way.shown == "hex" else f"{number}"
