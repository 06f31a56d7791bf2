"""Which presses would settle the most of what a comparison leaves open."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from itertools import product

from eager_tern.compare.comparison import Comparison, is_possible
from eager_tern.compare.fields import Field, Table
from eager_tern.compare.stack import Label, Stack, label_word

MOST = 6
SELDOM = 2  # presses that a value wants at least


@dataclass(frozen=True)
class Wanted:
    """A press to be recorded, by its labels, and why; ``again``: even if there is such a press, as a second witness."""

    labels: dict[str, Label]
    why: str
    again: bool = False


def next_shots(found: Comparison) -> list[Wanted]:
    """The presses asked for, those that settle most first. Everything not in question is as in most presses."""
    stack = found.stack
    usual = {name: _usual(values) for name, values in stack.labels.items()}
    usual = {name: value for name, value in usual.items() if value is not None}
    fields = {field.name: field for field in found.fields}
    wanted: list[Wanted] = []
    for name in usual:
        field = fields.get(name)
        for value in _seldom(stack.labels[name]) if field is None or is_possible(field) else ():
            what = "no bits follow it yet" if field is None else "its bits may follow it by accident"
            wanted.append(Wanted({**usual, name: value}, f"{name}: {what}", field is not None))
    wanted += [ask for field in found.fields for ask in _under_condition(field, stack, usual)]
    wanted += [ask for field in found.fields for ask in _of_table(field, stack, usual)]
    wanted += [ask for field in found.fields for ask in _apart(field, found, usual)]
    done = {tuple(sorted((n, str(v)) for n, v in row.items())) for row in _rows(stack)}
    fresh: dict[tuple[tuple[str, str], ...], Wanted] = {}
    for ask in wanted:
        key = tuple(sorted((name, str(value)) for name, value in ask.labels.items()))
        if ask.again or key not in done:
            fresh.setdefault(key, ask)
    return list(fresh.values())[:MOST]


def _usual(values: tuple[Label, ...]) -> Label:
    counts = Counter(value for value in values if value is not None)
    return counts.most_common(1)[0][0] if counts else None


def _seldom(values: tuple[Label, ...]) -> list[Label]:
    """The values that fewest presses have, not the usual one."""
    counts = Counter(value for value in values if value is not None)
    rare: list[Label] = [value for value, _ in counts.most_common()[:0:-1]]
    return rare[:SELDOM]


def _under_condition(field: Field, stack: Stack, usual: dict[str, Label]) -> list[Wanted]:
    """Where a field seems to mean nothing: one more press there, with another value."""
    asks = []
    for other, allowed in field.when.items():
        apart = dict.fromkeys(v for v in stack.labels[other] if v is not None and v not in allowed)
        for value in apart:
            own = _seldom(stack.labels[field.name]) or [usual.get(field.name)]
            labels = {**usual, other: value, field.name: own[0]}
            asks.append(Wanted(labels, f"{field.name}: whether it means anything where {other} is {label_word(value)}"))
    return asks


def _of_table(field: Field, stack: Stack, usual: dict[str, Label]) -> list[Wanted]:
    """Words of a table that one press alone bears witness to."""
    if not isinstance(field.map, Table):
        return []
    counts = Counter(stack.labels[field.name][row] for row in field.looked_at[field.holds].tolist())
    alone = [value for value, count in counts.items() if count == 1]
    return [
        Wanted({**usual, field.name: value}, f"{field.name}: {label_word(value)} was seen once", again=True)
        for value in alone
    ]


def press_to_tell(field: Field, found: Comparison) -> dict[str, Label]:
    """The labels of a press that would tell a field from what explains it as well; empty where none would.

    Bits that follow another label too are told apart by a press in which one of the two changes without the other.
    """
    said = {bit for each in (field, *field.others) for bit in each.positions}
    for other in found.fields:
        if other.name == field.name or not said & set(other.positions):
            continue
        seen = set(zip(found.stack.labels[field.name], found.stack.labels[other.name], strict=True))
        both = product(*(dict.fromkeys(found.stack.labels[n]) for n in (field.name, other.name)))
        new = next((pair for pair in both if pair not in seen and None not in pair), None)
        if new is not None:
            return {field.name: new[0], other.name: new[1]}
    return {}


def _apart(field: Field, found: Comparison, usual: dict[str, Label]) -> list[Wanted]:
    """A press that tells what two labels share."""
    labels = press_to_tell(field, found)
    why = f"{' and '.join(labels)}: their bits always changed together"
    return [Wanted({**usual, **labels}, why)] if labels else []


def _rows(stack: Stack) -> list[dict[str, Label]]:
    return [{name: values[row] for name, values in stack.labels.items()} for row in range(stack.rows)]
