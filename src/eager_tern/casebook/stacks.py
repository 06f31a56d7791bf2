"""The stack of a gadget's presses: their bits as kept, and what their labels say."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from eager_tern.casebook.values import Caught
from eager_tern.compare.stack import Label, Stack, label_word

BITS = "bits"  # the column that copied rows end with
KEY = "key"  # what a label without a name is about


def labels_of(text: str) -> dict[str, Label]:
    """What a press's label says: ``temperature = 21, mode = dry`` by name, anything else as the key's name."""
    if "=" not in text:
        return {KEY: text.strip()} if text.strip() else {}
    found: dict[str, Label] = {}
    for part in text.split(","):
        name, equals, value = (piece.strip() for piece in part.partition("="))
        if equals and name and value:
            found[name] = _number(value)
    return found


def usual_labels(texts: Iterable[str]) -> dict[str, Label]:
    """Of labels that say several things: the value of each that most of them have, if more than one has it."""
    counts: dict[str, Counter[Label]] = {}
    for text in texts:
        for name, value in labels_of(text).items():
            counts.setdefault(name, Counter())[value] += 1
    most = {name: of.most_common(1)[0] for name, of in counts.items()}
    return {name: value for name, (value, count) in most.items() if count > 1}


def short_label(text: str, usual: Mapping[str, Label]) -> str:
    """What a label says that is not as usual, so that many long ones can be told apart at a glance."""
    own = labels_of(text)
    odd = own if len(own) < 2 else {n: v for n, v in own.items() if n not in usual or v != usual[n]}
    said = [label_word(v) if n == KEY else f"{n} {label_word(v)}" for n, v in odd.items()]
    return " · ".join(said) if said else "as most" if own else ""


def pasted_labels(text: str) -> list[str]:
    """The labels in a table copied from a spreadsheet: a label a row.

    A single column is labels as they stand. Of several, the first row names what was varied; empty cells are not known.
    """
    rows = [[cell.strip() for cell in line.split("\t")] for line in text.splitlines() if line.strip()]
    if not rows:
        return []
    if max(map(len, rows)) == 1:
        return [row[0] for row in rows]
    names, *rest = rows
    return [", ".join(f"{n} = {v}" for n, v in zip(names, row, strict=False) if n and v and n != BITS) for row in rest]


def stack_of(presses: Sequence[Caught], sections: tuple[int, ...] = ()) -> tuple[Stack, list[Caught], list[Caught]]:
    """The stack, the presses it is made of in shooting order, and those set apart.

    Apart are presses without bits, and those with another number of bits than most have.
    """
    with_bits = [press for press in presses if press.reading.bits and not press.reading.first_missed]
    sizes = Counter(len(press.reading.bits) for press in with_bits)
    usual = sizes.most_common(1)[0][0] if sizes else 0
    rows = [press for press in with_bits if len(press.reading.bits) == usual]
    taken = {press.id for press in rows}
    said = [labels_of(press.label) for press in rows]
    names = dict.fromkeys(name for row in said for name in row)
    labels: dict[str, tuple[Label, ...]] = {name: _one_kind([row.get(name) for row in said]) for name in names}
    bits = np.array([[int(bit) for bit in press.reading.bits] for press in rows], np.uint8).reshape(len(rows), usual)
    whole = sections if sum(sections) == usual else ()
    return Stack(bits, labels, whole), rows, [press for press in presses if press.id not in taken]


def _number(value: str) -> Label:
    try:
        return float(value)
    except ValueError:
        return value


def _one_kind(values: list[Label]) -> tuple[Label, ...]:
    """Numbers if all are, else words."""
    if any(isinstance(value, str) for value in values):
        return tuple(f"{value:g}" if isinstance(value, float) else value for value in values)
    return tuple(values)
