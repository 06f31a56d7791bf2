"""Which bits carry each label, beside the others."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations
from math import comb, log10

import numpy as np
from msgspec.structs import replace

from eager_tern.compare.completing import completed, in_order, steps_down
from eager_tern.compare.evidence import SURE, arrangements
from eager_tern.compare.field import Field
from eager_tern.compare.one_label import MOST_WRONG, field_over, fields_of, known_rows
from eager_tern.compare.stack import Stack

LEFT_TO_ORDER = -3.0  # log10: of gadgets whose messages are told apart by the order in which they come, and by no bit


def find_fields(stack: Stack, taken: Sequence[int] = (), lowest_first: bool = True) -> list[Field]:
    """A field for each label that has one; ``taken`` are columns of checks. The surest are found first.

    ``lowest_first``: how the frame's numbers stand, where no number among the fields tells.
    """
    free = np.setdiff1d(stack.varying, np.asarray(taken, np.intp))
    found = [field for name in stack.labels for field in fields_of(stack, name, free)]
    # What others leave has fewer ways to be an accident.
    sure = [field for field in found if field.chance <= SURE]
    left = np.setdiff1d(free, [column for field in sure for column in field.positions])
    fewer = 0 < left.size < free.size
    unsure = [name for name in stack.labels if name not in {field.name for field in sure}] if fewer else []
    again = {name: field_over(stack, name, known_rows(stack, name), left, {}) for name in unsure}
    found = [_if_the_same(again.get(field.name), field) for field in found]
    silent = again.keys() - {field.name for field in found}
    found += [field for name in unsure if name in silent and (field := again[name]) is not None]
    claimed: set[int] = set()
    out = []
    for field in sorted(found, key=lambda f: (not f.holds.all(), f.chance)):
        choice = next((f for f in (field, *field.others) if not claimed & set(f.positions)), field)
        claimed |= set(choice.positions)
        rest = tuple(f for f in (field, *field.others) if f.positions != choice.positions)
        out.append(replace(choice, others=rest))
    out = [_beside(field, [f for f in out if f.name != field.name and not f.told_apart_by(field)]) for field in out]
    order = list(stack.labels)
    out = [in_order(_where_known(field, stack), steps_down(out, lowest_first)) for field in out]
    return sorted(_as_needed(completed(out, stack, claimed)), key=lambda f: order.index(f.name))


def _beside(field: Field, others: Sequence[Field]) -> Field:
    """A field as it is best described beside those of other labels: with none of their bits, if there is a way."""
    free = [each for each in (field, *field.also) if not any(map(each.shares_bits, others))]
    return replace(free[0], others=field.others, also=tuple(free[1:])) if free else replace(field, also=())


def _as_needed(fields: Sequence[Field]) -> list[Field]:
    """The fields; a word that tells what other bits mean is surer than its own presses make it. Kinds of messages that
    take turns say no more than a toggle would, but the frame has to say somewhere which kind it is.
    """
    sure = [field for field in fields if field.chance <= SURE]
    tellers = {name for a, b in combinations(sure, 2) if a.shares_bits(b) for name in a.told_apart_by(b)}
    return [
        replace(field, chance=min(field.chance, LEFT_TO_ORDER))
        if field.name in tellers and field.holds.all() and not field.others
        else field
        for field in fields
    ]


def _if_the_same(again: Field | None, field: Field) -> Field:
    """A field as it was found once more, where that is the same one."""
    same = again is not None and (again.positions, again.map, dict(field.when)) == (field.positions, field.map, {})
    return again if again is not None and same else field


def _where_known(field: Field, stack: Stack) -> Field:
    """A field under the condition that another label's words say of it: its own label is known with them and unknown
    with all others, as where a gadget sends several kinds of messages.
    """
    labels = stack.labels[field.name]
    for other, values in stack.labels.items() if not field.when else ():
        rows = [row for row, value in enumerate(values) if isinstance(value, str)]
        if other == field.name or len(rows) < len(known_rows(stack, other)) or not rows:
            continue
        kinds, known = np.array([values[row] for row in rows]), np.array([labels[row] is not None for row in rows])
        words = [str(word) for word in np.unique(kinds) if 2 * known[kinds == word].sum() > np.sum(kinds == word)]
        wrong = int(np.sum(np.isin(kinds, words) != known))
        told = arrangements([int(known.sum()), int(np.sum(~known))]) - log10(comb(len(rows), wrong))
        if wrong <= MOST_WRONG * len(rows) and told >= -SURE:
            return replace(field, when={other: tuple(words)})
    return field
