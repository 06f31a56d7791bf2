"""Which presses would settle the most of what a comparison leaves open."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise, product

from eager_tern.compare.comparison import Comparison, is_possible
from eager_tern.compare.fields import Field, Table
from eager_tern.compare.stack import Label, Stack, label_word

MOST = 6
SELDOM = 2  # presses that a value wants at least


@dataclass(frozen=True)
class Wanted:
    """A press to be recorded, by its labels, and why; ``again``: even if there is such a press, as a second witness.

    ``about`` are the labels that have to be as they are; the others are as in most presses.
    """

    labels: dict[str, Label]
    why: str
    again: bool = False
    about: frozenset[str] = frozenset()


def next_shots(found: Comparison) -> list[Wanted]:
    """The fewest presses that would settle what is open, those first that settle most; none where no press would.

    Questions about different labels share a press: what is asked of one does not depend on the other.
    """
    stack = found.stack
    usual = {name: _usual(values) for name, values in stack.labels.items()}
    usual = {name: value for name, value in usual.items() if value is not None}
    fields = {field.name: field for field in found.fields}
    wanted: list[Wanted] = []
    for name in usual:
        field = fields.get(name)
        if field is not None and not is_possible(field):
            continue
        what = "no bits follow it yet" if field is None else "its bits may follow it by accident"
        for value in _seldom(stack.labels[name]) + (_unseen(stack.labels[name]) if field is None else []):
            wanted.append(Wanted({name: value}, f"{name}: {what}", field is not None, frozenset({name})))
    wanted += [ask for field in found.fields for ask in _under_condition(field, stack, usual)]
    wanted += [ask for field in found.fields for ask in _of_table(field, stack)]
    wanted += [ask for field in found.fields for ask in _apart(field, found)]
    rows = [{name: values[row] for name, values in stack.labels.items()} for row in range(stack.rows)]
    asked = [ask for ask in wanted if ask.again or {**usual, **ask.labels} not in rows]
    shared = [replace(ask, labels={**usual, **ask.labels}) for ask in _shared(asked)][:MOST]
    return shared + _of_the_unexplained(found, usual, rows)[: MOST - len(shared)]


def _of_the_unexplained(found: Comparison, usual: dict[str, Label], rows: list[dict[str, Label]]) -> list[Wanted]:
    """Settings that were not pressed together yet, where some bits are unexplained: a check, as a rule, or what goes
    along with one of them. Those go first that were pressed least.
    """
    if not found.unexplained:
        return []
    seen = {name: Counter(value for value in found.stack.labels[name] if value is not None) for name in usual}
    rare = {name: sorted(counts, key=lambda value: counts[value]) for name, counts in seen.items()}
    turns = max((len(values) for values in rare.values()), default=0)
    mixed: list[dict[str, Label]] = [
        {name: values[(turn * (n + 1) + n) % len(values)] for n, (name, values) in enumerate(rare.items())}
        for turn in range(turns)
    ]
    why = "other bits change, and nothing accounts for them yet"
    fresh = [Wanted(labels, why, about=frozenset(labels)) for labels in mixed if labels not in rows]
    by_themselves = Wanted(usual, f"{why}: whether they change by themselves", again=True)
    return fresh or ([by_themselves] if usual else [])


def _shared(asks: Sequence[Wanted]) -> list[Wanted]:
    """Questions put together as long as they are about different labels; the one that is asked first leads."""
    shared: list[Wanted] = []
    for ask in asks:
        at = next((n for n, other in enumerate(shared) if not other.about & ask.about), None)
        if at is None:
            shared.append(ask)
            continue
        other = shared[at]
        why = other.why if ask.why in other.why else f"{other.why}; {ask.why}"
        both = {**other.labels, **ask.labels}, why, other.again or ask.again, other.about | ask.about
        shared[at] = Wanted(*both)
    return list({tuple(sorted(map(str, ask.labels.items()))): ask for ask in shared}.values())


def _unseen(values: Sequence[Label]) -> list[Label]:
    """Numbers that were not pressed yet: between those that were, and a step beyond."""
    known = sorted({value for value in values if isinstance(value, float)})
    if len(known) < SELDOM or any(isinstance(value, str) for value in values):
        return []
    step = min(b - a for a, b in pairwise(known))
    between = [a + step * (round((b - a) / step) // 2) for a, b in pairwise(known) if b - a > 1.5 * step]
    new: list[Label] = [*between, known[-1] + step]
    return new[:SELDOM]


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
    for other, apart in field.apart(stack).items():
        for value in apart:
            own = _seldom(stack.labels[field.name]) or [usual.get(field.name)]
            why = f"{field.name}: whether it means anything where {other} is {label_word(value)}"
            asks.append(Wanted({other: value, field.name: own[0]}, why, about=frozenset({other, field.name})))
    return asks


def _of_table(field: Field, stack: Stack) -> list[Wanted]:
    """Words of a table that one press alone bears witness to."""
    if not isinstance(field.map, Table):
        return []
    counts = Counter(stack.labels[field.name][row] for row in field.looked_at[field.holds].tolist())
    alone = [value for value, count in counts.items() if count == 1]
    return [
        Wanted({field.name: value}, f"{field.name}: {label_word(value)} was seen once", True, frozenset({field.name}))
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


def _apart(field: Field, found: Comparison) -> list[Wanted]:
    """A press that tells what two labels share."""
    labels = press_to_tell(field, found)
    why = f"{' and '.join(labels)}: their bits always changed together"
    return [Wanted(labels, why, about=frozenset(labels))] if labels else []
