"""Numbers over time: what was typed now and then filled in between, and the bits that follow its curve."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from eager_tern.compare.number import Encoding, decoded
from eager_tern.compare.stack import Label, Stack, numbers
from eager_tern.signal.order import median
from eager_tern.signal.values import Floats

ENCODINGS: tuple[Encoding, ...] = ("binary", "signed", "magnitude")
FEWEST_TYPED = 3
NARROWEST, WIDEST = 4, 16
LEAST_SAME = 0.6  # r²: with less, a curve is not followed
MOST_PAIRED = 200  # rows of which every two give a slope
WORTH = 0.9  # of what a narrower run leaves, at most, is left by a wider one that is taken instead


class Curve(Struct, frozen=True):
    """Bits whose number goes with a label's: about scale × number + offset, ``same`` being r² over ``rows``."""

    positions: tuple[int, ...]
    encoding: Encoding
    scale: float
    offset: float
    same: float
    rows: int


def filled_in(values: tuple[Label, ...], times_s: Floats) -> Floats | None:
    """A label's numbers in every row, shape (rows,): straight lines in time between those known, NaN before and behind.

    None where they are words, or fewer than three are known.
    """
    known = numbers(values)
    if known is None or np.count_nonzero(~np.isnan(known)) < FEWEST_TYPED:
        return None
    there = ~np.isnan(known)
    filled: Floats = np.interp(times_s, times_s[there], known[there], left=np.nan, right=np.nan)
    return filled


def fitted(raw: NDArray[np.int64], values: Floats) -> tuple[float, float, float]:
    """Scale and offset of the line through the rows whose value is known (not NaN), and how much of their changes they
    share (r²). A few values mistyped do not tilt the line.

    (The median of all slopes: Sen 1968, "Estimates of the regression coefficient based on Kendall's tau".)
    """
    known = np.flatnonzero(~np.isnan(values))
    x, y = raw[known].astype(np.float64), values[known]
    height, off_x, off_y = float(y.mean()), x - x.mean(), y - y.mean()
    if not off_x.any() or not off_y.any():
        return 0.0, height, 0.0
    some = np.unique(np.linspace(0, known.size - 1, MOST_PAIRED).astype(int))
    one, other = (some[each] for each in np.triu_indices(some.size, 1))
    run = x[other] - x[one]
    scale = median((y[other] - y[one])[run != 0] / run[run != 0]) if run.any() else 0.0
    same = float((off_x @ off_y) ** 2 / ((off_x @ off_x) * (off_y @ off_y)))
    return scale, median(y - scale * x), same


def follow(stack: Stack, name: str, times_s: Floats) -> Curve | None:
    """The run of bits, either order, signed or not, that follows a label's curve best; None where none does."""
    values = filled_in(stack.labels[name], times_s)
    if values is None:
        return None
    known = ~np.isnan(values)
    bits, wanted = stack.bits[known], values[known] - values[known].mean()
    if not wanted.any():
        return None
    best: tuple[float, tuple[int, ...], Encoding] | None = None
    for width in range(NARROWEST, min(WIDEST, stack.columns) + 1):
        windows = sliding_window_view(bits, width, axis=1).astype(np.int64)  # (rows, starts, width)
        weights = 1 << np.arange(width)
        for step, order in ((1, weights[::-1]), (-1, weights)):
            raw = windows @ order
            for encoding in ENCODINGS:
                number = decoded(raw, encoding, width).astype(np.float64)
                number -= number.mean(axis=0)
                power = (number**2).sum(axis=0) * (wanted @ wanted)
                with np.errstate(divide="ignore", invalid="ignore"):
                    same = np.nan_to_num((wanted @ number) ** 2 / power)
                at = int(same.argmax())
                run = tuple(range(at, at + width)[::step])
                if same[at] > LEAST_SAME and (best is None or 1 - same[at] < WORTH * (1 - best[0])):
                    best = float(same[at]), run, encoding
    if best is None:
        return None
    _, positions, encoding = best
    raw = decoded(
        stack.bits[:, positions].astype(np.int64) @ (1 << np.arange(len(positions))[::-1]), encoding, len(positions)
    )
    scale, offset, same_there = fitted(raw, values)
    return Curve(positions, encoding, scale, offset, same_there, int(known.sum()))
