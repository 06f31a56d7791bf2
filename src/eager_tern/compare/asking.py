"""Which presses would settle the most of what a comparison leaves open."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from itertools import product
from math import ceil, log10

import numpy as np
from msgspec import Struct

from eager_tern.compare.comparison import Comparison, is_possible
from eager_tern.compare.evidence import SURE, of_words
from eager_tern.compare.field import Field, Table
from eager_tern.compare.stack import Label, Stack, label_word

MOST = 6  # presses asked for at a time
OFTEN = 8  # presses of a label, from which on its seldom values are asked for by name
LEAST_A_PRESS = 0.25  # log10 of what a press says of a label that has two values
ENOUGH_TURNS = 12  # of an unexplained bit: what it follows would have shown
OFTEN_ALIKE = 3  # presses of the same settings, or of one word: what changes beside it would have shown
FEWEST_IN_STEPS = 3  # numbers that show by which step a label goes
BY_ACCIDENT = "bits may follow by accident"
MORE = "there may be more than was pressed"
SELDOM, FAR_LESS = 2, 0.25  # presses that a value wants at least; of its even share, that make it rare


class Wanted(Struct, frozen=True):
    """A press to be recorded, by the labels that have to be so, and why. The others may be anything, best what is new.

    ``again``: even if there is such a press, as a second witness. ``about`` are the labels that it tells of.
    """

    labels: dict[str, Label]
    why: str
    again: bool = False
    about: frozenset[str] = frozenset()


def next_shots(found: Comparison) -> list[Wanted]:
    """The fewest presses that would settle what is open, those first that settle most; none where no press would.

    Questions about different labels share a press: what is asked of one does not depend on the other. Where little is
    known of some labels, presses tell most in which all of them are what they were not yet.
    """
    stack = found.stack
    usual = {name: _usual(values) for name, values in stack.labels.items()}
    usual = {name: value for name, value in usual.items() if value is not None}
    fields = {field.name: field for field in found.fields}
    unknown = [name for name in usual if (field := fields.get(name)) is None or is_possible(field)]
    few = {name: _how_many(stack.labels[name], stack.columns) for name in unknown}
    few |= {name: 1 for name in usual if name not in few and _has_more(stack.labels[name], fields[name])}
    wanted = list(_anew(few, fields))
    for name in unknown:
        what = "no bits follow yet" if name not in fields else BY_ACCIDENT
        for value in _seldom(stack.labels[name]) if not few[name] else []:
            wanted.append(Wanted({name: value}, f"{name}: {what}", True, frozenset({name})))
    wanted += [ask for field in found.fields for ask in _contradicted(field, stack)]
    wanted += [ask for field in found.fields if field.name not in unknown for ask in _with_others(field, stack)]
    wanted += [ask for field in found.fields for ask in _under_condition(field, stack)]
    wanted += [ask for field in found.fields for ask in _apart(field, found)]
    rows = [{name: values[row] for name, values in stack.labels.items()} for row in range(stack.rows)]
    asked = [ask for ask in wanted if ask.again or not any(ask.labels.items() <= row.items() for row in rows)]
    return _shared(asked)[:MOST] or _of_the_unexplained(found, usual, rows)


def said_in_full(asks: Sequence[Wanted], stack: Stack) -> list[dict[str, Label]]:
    """The labels of the presses with a value for each: what may be anything is one of those that were pressed, the
    seldom ones first of all. What was never pressed yet nobody can name.
    """
    rng = np.random.default_rng(stack.rows)  # in no order that bits could follow
    pressed: dict[str, Counter[Label]] = {
        name: Counter(value for value in values if value is not None) for name, values in stack.labels.items()
    }
    full = []
    for ask in asks:
        labels = dict(ask.labels)
        for name, counts in pressed.items():
            if name not in labels and counts:
                seldom = np.array([1.0 / count for count in counts.values()])
                labels[name] = list(counts)[int(rng.choice(seldom.size, p=seldom / seldom.sum()))]
        for name, value in labels.items():
            pressed[name][value] += 1
        full.append(labels)
    return full


def _how_many(values: Sequence[Label], columns: int) -> int:
    """How many presses more would show what follows a label, as far as those so far tell; 0 where it was pressed often,
    but some of its values seldom: then these are asked for by name.

    What varied in some way could have varied otherwise (``evidence.of_words``): so much that no column does so by
    accident is wanted, and each press brings as much as those before.
    """
    known = [value for value in values if value is not None]
    if len(known) >= OFTEN and _seldom(known):
        return 0
    said = min(of_words(known))
    each = max(said / len(known), LEAST_A_PRESS)
    return min(max(ceil((log10(columns) - SURE - said) / each), 1), MOST)


def _anew(few: dict[str, int], fields: Mapping[str, Field]) -> Iterator[Wanted]:
    """Presses in which labels are what they were not yet: so many for each, none of those with 0."""
    for turn in range(max(few.values(), default=0)):
        names = [name for name, count in few.items() if count > turn]
        silent = [name for name in names if name not in fields]
        doubted = [name for name in names if name in fields and is_possible(fields[name])]
        more = [name for name in names if name not in (*silent, *doubted)]
        why = [
            f"{' and '.join(which)}: {what}"
            for which, what in ((silent, "no bits follow yet"), (doubted, BY_ACCIDENT), (more, MORE))
            if which
        ]
        yield Wanted({}, "; ".join(why), again=True, about=frozenset(names))


def _of_the_unexplained(found: Comparison, usual: dict[str, Label], rows: list[dict[str, Label]]) -> list[Wanted]:
    """A press of other settings together, where some bits are unexplained and have not turned often enough to tell:
    a check, as a rule, or what goes along with one of them; and the usual one again, as long as it was not pressed
    three times, to see whether they change by themselves.
    """
    turns = np.count_nonzero(np.diff(found.stack.bits[:, list(found.unexplained)].astype(np.int8), axis=0), axis=0)
    if not usual or not (turns < ENOUGH_TURNS).any():
        return []
    why = "other bits change, and nothing accounts for them yet"
    if rows.count(usual) < OFTEN_ALIKE:
        return [Wanted(usual, f"{why}: whether they change by themselves", again=True)]
    return [Wanted({}, why, about=frozenset(usual))]


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
    # What may be anything is another press each time.
    keys = [n if ask.again else tuple(sorted(map(str, ask.labels.items()))) for n, ask in enumerate(shared)]
    return list(dict(zip(keys, shared, strict=True)).values())


def _has_more(values: Sequence[Label], field: Field) -> bool:
    """Whether a label of a table probably has values that were not pressed yet: numbers between those that were, words
    as long as some were pressed only once.

    (The next press has a new one as often as presses so far had one that no other has: Good 1953, "The population
    frequencies of species".)
    """
    if not isinstance(field.map, Table) or field.map.ruled:
        return False
    known = Counter(value for value in values if value is not None)
    numbers = sorted(value for value in known if isinstance(value, float))
    if len(numbers) < len(known) or len(numbers) < FEWEST_IN_STEPS:
        return 1 in known.values()
    steps = np.diff(numbers)
    return bool(steps.max() > 1.5 * steps.min())


def _usual(values: tuple[Label, ...]) -> Label:
    counts = Counter(value for value in values if value is not None)
    return counts.most_common(1)[0][0] if counts else None


def _seldom(values: Sequence[Label]) -> list[Label]:
    """The values that were pressed once, or far less often than others."""
    counts = Counter(value for value in values if value is not None)
    least = max(SELDOM, FAR_LESS * counts.total() / max(len(counts), 1))
    rare: list[Label] = [value for value, count in counts.most_common()[::-1] if count < least]
    return rare[:SELDOM] if len(rare) < len(counts) else []


def _under_condition(field: Field, stack: Stack) -> list[Wanted]:
    """Where a field seems to mean nothing: one more press there, with another value."""
    asks = []
    for other, apart in field.apart(stack).items():
        for value in apart:
            there = [
                own for own, at in zip(*(stack.labels[n] for n in (field.name, other)), strict=True) if at == value
            ]
            if there.count(None) == len(there):  # nobody could set it there
                continue
            new = next((own for own in dict.fromkeys(stack.labels[field.name]) if own not in (None, *there)), None)
            why = f"{field.name}: whether it means anything where {other} is {label_word(value)}"
            if new is not None:
                asks.append(Wanted({other: value, field.name: new}, why, about=frozenset({other, field.name})))
    return asks


def _contradicted(field: Field, stack: Stack) -> list[Wanted]:
    """Presses that did not say what their label should: again with its words, to see whether that was a slip."""
    asks = []
    for row in field.looked_at[~field.holds].tolist():
        said = {name: values[row] for name, values in stack.labels.items() if isinstance(values[row], str)}
        words = ", ".join(f"{name} = {word}" for name, word in said.items() if name != field.name)
        if words:
            why = f"{field.name}: a press of {words} said otherwise"
            labels = {name: word for name, word in said.items() if name != field.name}
            asks.append(Wanted(labels, why, True, frozenset(said) | {field.name}))
    return asks


def _with_others(field: Field, stack: Stack) -> list[Wanted]:
    """Words with which the other labels were hardly pressed: whether these mean the same there nobody knows."""
    words = Counter(value for value in stack.labels[field.name] if isinstance(value, str))
    return [
        Wanted({field.name: word}, f"{field.name}: {word} was pressed seldom", True, frozenset({field.name}))
        for word, count in words.items()
        for _ in range(OFTEN_ALIKE - count)
    ]


def press_to_tell(field: Field, found: Comparison) -> dict[str, Label]:
    """The labels of a press that would tell a field from what explains it as well; empty where none would.

    Bits that follow another label too are told apart by a press in which one of the two changes without the other.
    """
    said = {bit for each in (field, *field.others) for bit in each.positions}
    for other in found.fields:
        if other.name == field.name or not said & set(other.positions) or field.told_apart_by(other):
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
