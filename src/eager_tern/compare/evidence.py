"""How much a column of labels says: in how many ways it could have been otherwise.

Two models, and the weaker is believed: the labels in any order, and what they do from press to press in any order. A
label that changed once has said one thing in each of the places where it could have changed; one that rises by the same
step with every press has said nothing that a counter would not say.
"""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from itertools import pairwise
from math import lgamma, log, log10

import numpy as np
from numpy.typing import NDArray

from eager_tern.signal.values import Floats

SURE = -2.0  # log10 of an accident; what is likelier is possible, and enters a sheet only if it is accepted


def arrangements(counts: Sequence[int]) -> float:
    """log10 of in how many orders things can stand of which there are so many of each kind (multinomial)."""
    return float((lgamma(sum(counts) + 1) - sum(lgamma(count + 1) for count in counts)) / log(10))


def turns(bit: NDArray[np.uint8]) -> float:
    """log10 of in how many ways a bit could be set as often, or turn as often from row to row; the fewer are taken.

    One that turned once has said one thing, and one that turns with every row says nothing that another such does not.
    """
    ones, moved = int(np.sum(bit)), int(np.count_nonzero(np.diff(bit.astype(np.int8))))
    return min(arrangements([ones, len(bit) - ones]), arrangements([moved, max(len(bit) - 1 - moved, 0)]))


def of_words(values: Sequence[Hashable]) -> tuple[float, float]:
    """log10 of the ways in which words could have been set as often, and in which they could have changed as often."""
    kinds = list(dict.fromkeys(values))
    moved = sum(a != b for a, b in pairwise(values))
    changes = arrangements([moved, len(values) - 1 - moved]) + max(moved - 1, 0) * log10(max(len(kinds) - 1, 1))
    return arrangements([values.count(kind) for kind in kinds]), changes


def of_numbers(steps: Floats) -> tuple[float, float]:
    """The same of whole numbers, shape (rows,), in shooting order; also the ways in which each could have been another
    number of their range, or another step of those that were made."""
    return _otherwise(steps), _otherwise(np.diff(steps))


def _otherwise(numbers: Floats) -> float:
    """log10 of the ways: in another order, or each distinct one beyond the two of a line anywhere between them."""
    _, counts = np.unique(numbers, return_counts=True)
    elsewhere = (counts.size - 2) * log10(float(np.ptp(numbers)) + 1) if counts.size > 2 else 0.0
    return max(arrangements(counts.tolist()), elsewhere)
