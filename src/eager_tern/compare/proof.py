"""The proof: how many presses a sheet makes bit for bit from their labels, those left out of the search first."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence, Set
from itertools import combinations

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.comparison import Comparison, Finding, accepting, compare, is_possible, named, settled, without
from eager_tern.compare.field import Field, Table
from eager_tern.compare.stack import BitRows, Label, Stack, label_word, numbers, raw_numbers
from eager_tern.compare.writing import by_itself, field_names, sheet_of
from eager_tern.errors import InputError
from eager_tern.linecode.values import Bits
from eager_tern.protocol.making import make_bits
from eager_tern.protocol.positions import positions_text
from eager_tern.protocol.schema import Sheet

FOLDS = 5
MOST_NAMED = 3
EXACT = 1e-6  # a label this near to what the bits say was not rounded


class Proof(Struct, frozen=True):
    """``labelled`` are the rows whose labels say all that a frame needs. ``made`` are those of them that the
    comparison's sheet reproduces. ``predicted`` are those that a sheet found without them does: the figure that counts.
    ``expected`` are the bits made, 2 where the sheet makes none.
    """

    labelled: NDArray[np.bool_]
    made: NDArray[np.bool_]
    predicted: NDArray[np.bool_]
    expected: BitRows

    @property
    def words(self) -> str:
        """The figures in a sentence."""
        whole = self.labelled.all()
        told = f"{int(self.made.sum())} of {int(self.labelled.sum())}{'' if whole else ' labelled'} presses made from "
        return f"{told}their labels, {int(self.predicted.sum())} predicted unseen"


class Part(Struct, frozen=True):
    """``out`` are the rows that were left out of a search, ``found`` is what it found in the others."""

    out: NDArray[np.intp]
    found: Comparison


def left_out(stack: Stack, folds: int = FOLDS, tell: Callable[[int], None] = lambda _: None) -> tuple[Part, ...]:
    """Searches of a stack, each without another part of its rows; ``tell`` hears which part is left out now.

    None where nothing has a label: then no row can be predicted.
    """
    unknown = [sum(value is None for value in row) for row in zip(*stack.labels.values(), strict=True)]
    dealt = np.argsort(unknown, kind="stable")  # rows with labels are dealt out evenly
    parts = []
    for fold in range(min(folds, stack.rows) if stack.labels else 0):
        tell(fold)
        out = dealt[fold::folds]
        parts.append(Part(out, compare(stack.of_rows(np.setdiff1d(np.arange(stack.rows), out)))))
    return tuple(parts)


def prove(comparison: Comparison, parts: Sequence[Part], verdicts: Set[str] = frozenset()) -> Proof:
    """Hold what a comparison has settled against its stack, and what was found without some rows against those.

    ``verdicts`` are findings that are dismissed, there too, or accepted.
    """
    stack, comparison = comparison.stack, settled(comparison, verdicts)
    expected = expected_bits(comparison, stack)
    labelled = np.asarray((expected < 2).all(axis=1))
    predicted = np.zeros(stack.rows, np.bool_)
    for part in parts:
        left = settled(without(part.found, verdicts), verdicts | {accepting(named(f)) for f in comparison.fields})
        bits = expected_bits(_with_counters(left, comparison), stack.of_rows(part.out))
        predicted[part.out] = (bits == stack.bits[part.out]).all(axis=1)
    predicted &= labelled
    made = np.asarray((expected == stack.bits).all(axis=1))
    return Proof(labelled, made, predicted, expected)


def unproved(comparison: Comparison) -> list[str]:
    """What no press has shown yet, a sentence each: the proof's rate says nothing of it."""
    told = []
    for field in comparison.fields:
        values = [comparison.stack.labels[field.name][row] for row in field.looked_at[field.holds].tolist()]
        seen = list(dict.fromkeys(values))
        if isinstance(field.map, Table) and field.map.ruled:
            if left := len(set(field.map.words.values())) - len(seen):
                told.append(f"{field.name}: {left} values were never pressed, they follow from the others.")
            continue
        if isinstance(field.map, Table):
            left = (1 << len(field.positions)) - len(field.map.words)
            once = [label_word(value) for value in seen if values.count(value) == 1]
            if once:
                told.append(
                    f"{field.name}: {', '.join(once[:MOST_NAMED])} {'was' if len(once) == 1 else 'were'} seen once."
                )
            if left:
                told.append(f"{field.name}: {left} of {1 << len(field.positions)} numbers were never seen.")
            continue
        steady = [p for p in field.positions if np.ptp(comparison.stack.bits[:, p]) == 0]
        if steady:
            numbers = [value for value in seen if isinstance(value, float)]
            seen_range = f"{min(numbers):g} to {max(numbers):g}"
            told.append(f"{field.name}: seen {seen_range}; bits {positions_text(steady)} never changed.")
        for other, apart in field.apart(comparison.stack).items():
            named = ", ".join(map(label_word, apart))
            told.append(
                f"{field.name}: that it means nothing where {other} is {named} rests on what was pressed there."
            )
    names = list(comparison.stack.labels)
    for one, other in combinations(names, 2):
        both = {
            pair for pair in zip(*(comparison.stack.labels[n] for n in (one, other)), strict=True) if None not in pair
        }
        if 1 < len(both) == max(len({pair[side] for pair in both}) for side in (0, 1)):
            told.append(f"{one} and {other} always changed together.")
    return told


def is_settled(comparison: Comparison) -> bool:
    """Whether there is nothing more to be learnt from presses like these: all bits are accounted for, all is proven."""
    everything: list[Finding] = [*comparison.fields, *comparison.counters]
    silent = comparison.stack.labels.keys() - {field.name for field in comparison.fields}
    return not (comparison.unexplained or silent or any(map(is_possible, everything)) or unproved(comparison))


def _with_counters(found: Comparison, whole: Comparison) -> Comparison:
    """What was found in some of the rows, with the counters of all: they show only where no row is missing."""
    claimed = {column for field in found.fields for column in field.positions}
    claimed |= {column for check in found.checks for column in check.positions}
    return replace(found, counters=tuple(c for c in whole.counters if not claimed & set(c.positions)))


def expected_bits(comparison: Comparison, stack: Stack) -> BitRows:
    """The bits that a comparison's sheet makes from the labels of a stack's rows; all 2 where it can make none.

    Counters, toggles and ids, which no label says, are as in the row. Where labels were rounded, what the row's bits
    say is taken for the label if it rounds to that.
    """
    sheet = sheet_of(comparison).sheet
    names = field_names(comparison)
    given = {name: raw_numbers(stack.bits, positions) for name, positions in by_itself(comparison).items()}
    exact = {field.name: _unrounded(field, comparison.stack, stack) for field in comparison.fields}
    rows = []
    for row in range(stack.rows):
        labels = {names[name]: values[row] for name, values in exact.items()}
        made = made_bits(sheet, labels, {name: int(raw[row]) for name, raw in given.items()})
        rows.append(np.full(stack.columns, 2, np.uint8) if made is None else made)
    return np.array(rows, dtype=np.uint8).reshape(stack.rows, stack.columns)


def _unrounded(field: Field, found_in: Stack, stack: Stack) -> list[Label]:
    """A field's labels in a stack, those that round what the bits say replaced by that."""
    labels = list(stack.labels[field.name])
    known = numbers(found_in.labels[field.name])
    if isinstance(field.map, Table) or known is None:
        return labels
    field = replace(field, map=replace(field.map, decimals=None))
    said = np.array(field.says(found_in.bits), np.float64)
    rest = np.abs(said - known)[field.looked_at][field.holds]
    if not rest.size or rest.max() < EXACT:
        return labels
    half = float(np.diff(np.unique(known[~np.isnan(known)])).min()) / 2 + EXACT
    here = field.says(stack.bits)
    return [
        bits if isinstance(label, float) and isinstance(bits, float) and abs(bits - label) <= half else label
        for label, bits in zip(labels, here, strict=True)
    ]


def made_bits(sheet: Sheet, labels: Mapping[str, Label], given: Mapping[str, int] | None = None) -> Bits | None:
    """A frame from labels, and numbers that are ``given``; None where a label is unknown or beyond the sheet."""
    missing = {name for name, value in labels.items() if value is None}
    if any(field.name in missing and field.means_something(dict(labels)) for field in sheet.fields):
        return None
    try:
        return make_bits(sheet, {**(given or {}), **{n: value for n, value in labels.items() if value is not None}})
    except InputError:
        return None
