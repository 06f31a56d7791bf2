"""Which bits carry a number that somebody read off a display or typed, in any of the ways that are looked for."""

from __future__ import annotations

from collections.abc import Sequence
from math import gcd
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from eager_tern.compare.contiguous import PARTS_OF_STEP, find_contiguous
from eager_tern.compare.magnitudes import by_magnitude
from eager_tern.compare.number import Number
from eager_tern.compare.planes import by_other_codes, by_planes
from eager_tern.compare.stack import BitRows
from eager_tern.compare.windows import by_windows
from eager_tern.signal.values import Floats

# What is looked for: numbers that say the values exactly, any line through them where those are known to fail, or both.
Kinds = Literal["exact", "lines", "all"]
DECIMALS = 4
PIECE_IN_ROWS = 2
FEW_WRONG = 2  # labels of one value, which a slip of the pen may well be


def find_number(
    bits: BitRows, columns: NDArray[np.intp], values: Floats, errors: int, kinds: Kinds = "all",
    starts: Sequence[int] = (0,),
) -> list[Number]:  # fmt: skip
    """The fields that explain the values (shape (rows,), all known), best first.

    ``columns`` are those that may be used, ``errors`` the rows that may contradict; ``kinds`` is what is looked for,
    ``starts`` are where sections begin.
    """
    if np.unique(values).size < 2 or columns.size == 0:
        return []
    step = _step(values)
    found = _exact(bits, columns, values, step, errors, starts, kinds == "all") if kinds != "lines" else []
    if kinds != "exact" and not found:
        found = by_windows(bits, columns, values, step, errors)
    enough = [n for n in found if np.sum(~n.holds) <= errors and (n.encoding != "signed" or n.offset == 0)]
    enough = [n for n in enough if _no_value_fails(n.holds, values)]
    return sorted(enough, key=lambda n: (_cost(n), n.cost, len(n.positions), n.encoding != "binary"))


def _exact(
    bits: BitRows,
    columns: NDArray[np.intp],
    values: Floats,
    step: float,
    errors: int,
    starts: Sequence[int],
    alone: bool,
) -> list[Number]:
    """The numbers that say the values exactly. Where they are not looked for ``alone``, but under one of many
    conditions, a wrong label is left to the planes, which are quicker about it, and a sign above a magnitude to others.
    """

    def is_done() -> bool:
        return any(number.holds.all() for number in found)

    found = find_contiguous(bits, columns, values, step, errors if alone else 0, starts)
    if alone and not is_done():
        found += by_magnitude(bits, columns, values, _step(np.abs(values)), errors, starts)
    for part in PARTS_OF_STEP:
        if is_done():
            break
        found += by_planes(bits, columns, values, step / part, errors)
    if not is_done():
        found += by_other_codes(bits, columns, values, step, errors)
    return found


def _no_value_fails(holds: NDArray[np.bool_], values: Floats) -> bool:
    """Whether no value is contradicted most of the times that it was set: that is no mistake but another code."""
    return all(
        holds[at].mean() >= 0.5 or np.sum(~holds[at]) <= FEW_WRONG
        for value in np.unique(values)
        if np.sum(at := values == value) > 1
    )


def _cost(number: Number) -> int:
    """Rows that contradict, and a field in pieces is to be worth its pieces: a damaged frame must not break it up."""
    return int(np.sum(~number.holds)) + PIECE_IN_ROWS * (number.pieces - 1)


def _step(values: Floats) -> float:
    """The greatest step of which all differences are multiples, to four decimals."""
    whole = np.rint(np.unique(values) * 10**DECIMALS).astype(np.int64)
    return float(gcd(*np.diff(whole).tolist()) / 10**DECIMALS)
