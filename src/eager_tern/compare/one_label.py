"""Which bits carry one label: over all presses, or under a condition that another label sets."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from math import inf, log10

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.evidence import SURE, turns
from eager_tern.compare.field import Field, Linear, Table
from eager_tern.compare.number import Number
from eager_tern.compare.numbers import Kinds, find_number
from eager_tern.compare.stack import Stack, numbers, runs_of
from eager_tern.compare.words import find_words

FEWEST_ROWS = 3
MOST_WRONG = 0.12  # of the rows, whose labels may be mistaken
MOST_CHANCE = -0.8  # log10; what would happen more often by accident is not claimed
MOST_CHANCE_ALONE = 0.0
MOST_CHANCE_IN_ORDER = -3.0  # of what only the order of the presses makes doubtful: it is offered as possible
MOST_CHANCE_ELSEWHERE = -1.0  # of a label's second field, which few rows speak for
MOST_ALSO = 4  # descriptions beside the one that is taken; those behind them weigh nothing
MOST_WORDS = 8  # of a label that may be a condition
MOST_NUMBERS = 4
MOST_APART = 2  # of its values at a time
FEWEST_WORSE = 1  # rows that a line has to contradict more than a table does, before the table is believed
MUCH_SURER = 3.0  # log10; then a row fewer is enough: bits here and there say some line of a few values by accident
FEWEST_APART = 2  # rows that a condition sets apart
MOST_ALIKE = 0.4  # of the rows set apart at least do not say what they should without the condition
LESS_WRONG = 0.5  # of the contradictions are left at most under a condition that is believed


def fields_of(stack: Stack, name: str, columns: NDArray[np.intp]) -> list[Field]:
    """The field of a label; two, if it is said otherwise where a condition does not hold."""
    field = _field(stack, name, columns)
    if field is None or not field.when:
        return [field] if field is not None else []
    known = known_rows(stack, name)
    rows = np.setdiff1d(known, field.looked_at)
    when = {other: tuple(dict.fromkeys(stack.labels[other][row] for row in rows)) for other in field.when}
    said = {other: tuple(value for value in values if value is not None) for other, values in when.items()}
    elsewhere = field_over(stack, name, rows, columns, said)
    if elsewhere is None or not elsewhere.holds.all() or elsewhere.chance > MOST_CHANCE_ELSEWHERE:
        return [field]
    return [field, elsewhere]


def _field(stack: Stack, name: str, columns: NDArray[np.intp]) -> Field | None:
    """The field of a label: over all rows, or where that leaves some unexplained under a condition."""
    rows = known_rows(stack, name)
    best = field_over(stack, name, rows, columns, {})
    if best is not None and len(best.contradicting) < FEWEST_APART:  # no condition could settle enough
        return _on_a_line(stack, best, columns)
    found = _under_a_condition(stack, name, columns, best)
    if found is None and numbers([stack.labels[name][row] for row in rows]) is not None:
        found = _under_a_condition(stack, name, columns, None, any_line=True)
    return _on_a_line(stack, found, columns) if found is not None else None


def _under_a_condition(
    stack: Stack, name: str, columns: NDArray[np.intp], best: Field | None, any_line: bool = False
) -> Field | None:
    """The field of a label under the condition that explains most; ``best`` is what is said without one.

    Any line is looked for where asked, then with one value at a time set apart, and where a condition could settle all
    that contradicts: it is costly.
    """
    rows = known_rows(stack, name)
    wrong, explained = (len(best.contradicting), best.explained) if best is not None else (len(rows), 0)
    conditions = list(_conditions(stack, name, rows, 1 if any_line else MOST_APART))
    doubted: Field | None = None
    for when, some in conditions:
        apart = np.setdiff1d(rows, some)
        settles_all = best is not None and set(best.contradicting) <= set(apart)
        under = field_over(stack, name, some, columns, when, "lines" if any_line else "all" if settles_all else None)
        # A condition has to be worth the rows that it sets apart.
        if under is None or not _differs(stack, under, apart):
            continue
        under = _less_sure(under, log10(len(conditions)))
        if under.chance >= MOST_CHANCE and under.in_any_order >= MOST_CHANCE_IN_ORDER:
            continue
        if (by_accident := _of_strangers(under, stack, log10(len(conditions) * columns.size))) > SURE:
            doubted = doubted or _less_sure(under, by_accident - under.chance)
            continue
        settled, lost = wrong - len(under.contradicting), explained - under.explained
        surer = best is not None and under.chance < best.chance
        enough = min(wrong - FEWEST_APART + 1, LESS_WRONG * wrong)
        if len(under.contradicting) < enough and (lost <= settled or surer):
            best, wrong, explained = under, len(under.contradicting), under.explained
            if wrong < FEWEST_APART:
                break
    return doubted if doubted is not None and (best is None or best.chance > max(SURE, doubted.chance)) else best


def _less_sure(field: Field, more_tried: float) -> Field:
    """A field that was found among 10 ** ``more_tried`` times as many."""
    return replace(field, chance=field.chance + more_tried, in_any_order=field.in_any_order + more_tried)


def _on_a_line(stack: Stack, field: Field, columns: NDArray[np.intp]) -> Field:
    """A field of numbers as any line through them, which is looked for last: it is costly, and says more than it was
    told.
    """
    if not isinstance(field.map, Table) or field.map.ruled or any(isinstance(w, str) for w in field.map.words.values()):
        return field
    line = field_over(stack, field.name, field.looked_at, columns, field.when, "lines")
    holds = line is not None and isinstance(line.map, Linear) and len(line.contradicting) <= len(field.contradicting)
    return line if line is not None and holds else field


def _of_strangers(field: Field, stack: Stack, tried: float) -> float:
    """log10 of how likely a bit apart from a number's others says the same by accident, of 10 ** ``tried`` tries."""
    pieces = runs_of(field.positions)
    if not isinstance(field.map, Linear) or len(pieces) == 1:
        return -inf
    apart = [int(piece[0]) for piece in pieces if piece.size == 1]
    return max((tried - turns(stack.bits[field.looked_at, c]) for c in apart), default=-inf)


def _differs(stack: Stack, field: Field, apart: NDArray[np.intp]) -> bool:
    """Whether the rows that a condition sets apart say something else, and not a mistaken label or two among them."""
    says = field.says(stack.bits[apart])
    labels = [stack.labels[field.name][row] for row in apart]
    different = sum(said != label for said, label in zip(says, labels, strict=True))
    return bool(different >= MOST_ALIKE * len(apart))


def field_over(
    stack: Stack, name: str, rows: NDArray[np.intp], columns: NDArray[np.intp],
    when: Mapping[str, tuple[float | str, ...]], kinds: Kinds | None = None,
) -> Field | None:  # fmt: skip
    """The field of a label over some rows. Of numbers, ``kinds`` are looked for: all where there is no condition, exact
    ones elsewhere, unless it is said.
    """
    if len(rows) < FEWEST_ROWS:
        return None
    bits = stack.bits[rows]
    values = [stack.labels[name][i] for i in rows]
    errors = round(MOST_WRONG * len(rows))
    fields: list[Field] = []
    as_numbers = numbers(values)
    starts = [start for start, _ in stack.section_bounds]
    if as_numbers is not None:
        for number in find_number(bits, columns, as_numbers, errors, kinds or ("exact" if when else "all"), starts):
            fields.append(_of_number(name, number, rows, when))
    wrong = len(fields[0].contradicting) if fields else len(rows)
    if wrong:
        known = [value for value in values if value is not None]
        by_table = [
            Field(name, words.positions, Table(words.table), rows, words.holds, words.chance, words.in_any_order, when)
            for words in find_words(bits, columns, known, errors)
        ]
        if by_table and (not fields or _is_better(by_table[0], fields[0])):
            fields = by_table
    if not fields:
        return None
    first, *others = fields
    fewest = len(first.contradicting)
    apart = [f for f in others if len(f.contradicting) == fewest and not set(f.positions) & set(first.positions)]
    # What could well be an accident is claimed only where nothing else says the same.
    if first.chance >= (MOST_CHANCE if apart else MOST_CHANCE_ALONE) and first.in_any_order >= MOST_CHANCE_IN_ORDER:
        return None
    return replace(first, others=tuple(apart), also=_described_otherwise(first, others))


def _is_better(table: Field, line: Field) -> bool:
    """Whether a table is believed before a line, which says more of what was never set."""
    worse = len(line.contradicting) - len(table.contradicting)
    return worse > FEWEST_WORSE or (worse > 0 and table.chance < line.chance - MUCH_SURER)


def _described_otherwise(field: Field, others: Sequence[Field]) -> tuple[Field, ...]:
    """Other descriptions of the same bits that fit the same presses."""
    said = {(field.positions, str(field.map))}
    also = []
    for each in others:
        shared = set(each.positions) & set(field.positions) and np.array_equal(each.holds, field.holds)
        if isinstance(each.map, Linear) and shared and (each.positions, str(each.map)) not in said:
            said.add((each.positions, str(each.map)))
            also.append(each)
    return tuple(also[:MOST_ALSO])


def _of_number(name: str, number: Number, rows: NDArray[np.intp], when: Mapping[str, tuple[float | str, ...]]) -> Field:
    line = Linear(number.scale, number.offset, number.encoding, number.decimals)
    found = line if number.table is None else Table(dict(number.table), True)
    return Field(
        name, number.positions, found, rows, number.holds, number.chance, number.in_any_order, when, cost=number.cost
    )


def _conditions(
    stack: Stack, name: str, rows: NDArray[np.intp], most_apart: int
) -> Iterator[tuple[dict[str, tuple[float | str, ...]], NDArray[np.intp]]]:
    """Other labels' values under which a label may mean something, and the rows in which they stand; widest first."""
    found = []
    for other, values in stack.labels.items():
        known = {values[i] for i in rows if values[i] is not None}
        most = MOST_WORDS if any(isinstance(value, str) for value in known) else MOST_NUMBERS
        if other == name or not 2 <= len(known) <= most:
            continue
        ordered = sorted(known, key=str)
        for count in range(1, min(most_apart, len(known) - 1) + 1):
            for apart in combinations(ordered, count):
                left = tuple(value for value in ordered if value not in apart)
                some = np.array([i for i in rows if values[i] in left], dtype=np.intp)
                if len(rows) - len(some) >= FEWEST_APART and len(some) >= FEWEST_ROWS:
                    found.append((count, {other: left}, some))
    for _, when, some in sorted(found, key=lambda each: (each[0], -len(each[2]))):
        yield when, some


def known_rows(stack: Stack, name: str) -> NDArray[np.intp]:
    """The rows in which a label is known."""
    return np.array([i for i, value in enumerate(stack.labels[name]) if value is not None], dtype=np.intp)
