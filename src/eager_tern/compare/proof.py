"""The proof: how many presses a sheet makes bit for bit from their labels, those left out of the search first."""

from __future__ import annotations

from collections.abc import Mapping, Set
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from eager_tern.compare.comparison import Comparison, compare, without
from eager_tern.compare.stack import BitRows, Label, Stack
from eager_tern.compare.writing import field_names, sheet_of
from eager_tern.errors import InputError
from eager_tern.linecode.values import Bits
from eager_tern.protocol.loading import parse_sheet
from eager_tern.protocol.making import make_bits
from eager_tern.protocol.schema import Sheet

FOLDS = 5


@dataclass(frozen=True)
class Proof:
    """``made`` are the rows that the comparison's sheet reproduces from their labels. ``predicted`` are those that a
    sheet found without them does: the figure that counts. ``expected`` are the bits made, where the sheet makes any;
    ``counted`` tells which columns are held against them: counters go on by themselves."""

    made: NDArray[np.bool_]
    predicted: NDArray[np.bool_]
    expected: BitRows
    counted: NDArray[np.bool_]


def prove(comparison: Comparison, folds: int = FOLDS, dismissed: Set[str] = frozenset()) -> Proof:
    """Hold the comparison against its stack, and searches without a part of the rows against that part.

    ``dismissed`` findings are left out of those searches too.
    """
    stack = comparison.stack
    expected = expected_bits(comparison, stack)
    counted = _counted(comparison)
    made = _same(expected, stack.bits, counted)
    predicted = np.zeros(stack.rows, np.bool_)
    for fold in range(min(folds, stack.rows)):
        out = np.arange(fold, stack.rows, folds)
        left = without(compare(stack.of_rows(np.setdiff1d(np.arange(stack.rows), out))), dismissed)
        bits = expected_bits(left, stack.of_rows(out))
        predicted[out] = _same(bits, stack.bits[out], counted & _counted(left))
    return Proof(made, predicted, expected, counted)


def expected_bits(comparison: Comparison, stack: Stack) -> BitRows:
    """The bits that a comparison's sheet makes from the labels of a stack's rows; all 2 where it can make none."""
    sheet = parse_sheet(sheet_of(comparison), "comparison")
    names = field_names(comparison)
    rows = []
    for row in range(stack.rows):
        labels = {names[name]: stack.labels[name][row] for name in names}
        made = made_bits(sheet, labels)
        rows.append(np.full(stack.columns, 2, np.uint8) if made is None else made)
    return np.array(rows, dtype=np.uint8).reshape(stack.rows, stack.columns)


def made_bits(sheet: Sheet, labels: Mapping[str, Label]) -> Bits | None:
    """A frame from labels; None where one of them is unknown or beyond what the sheet can say."""
    known = {field.name: field for field in sheet.fields}
    needed = [name for name, value in labels.items() if value is None and known[name].means_something(dict(labels))]
    if needed:
        return None
    try:
        return make_bits(sheet, {name: value for name, value in labels.items() if value is not None})
    except InputError:
        return None


def _counted(comparison: Comparison) -> NDArray[np.bool_]:
    """All columns but counters and what is computed over them."""
    free = np.ones(comparison.stack.columns, np.bool_)
    for counter in comparison.counters:
        free[list(counter.positions)] = False
    for found in comparison.checks:
        if any(not free[first : last + 1].all() for first, last in found.covers):
            free[list(found.positions)] = False
    return free


def _same(expected: BitRows, bits: BitRows, counted: NDArray[np.bool_]) -> NDArray[np.bool_]:
    same: NDArray[np.bool_] = (expected[:, counted] == bits[:, counted]).all(axis=1)
    return same
