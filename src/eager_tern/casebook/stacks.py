"""The stack of a gadget's presses: their bits as kept, and what their labels say."""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal

import numpy as np
from msgspec import Struct

from eager_tern.casebook.values import Caught
from eager_tern.compare.quantities import numbers_in
from eager_tern.compare.stack import Label, Stack, label_word
from eager_tern.linecode.values import bit_text
from eager_tern.tables import table_text

BITS, PRESS = "bits", "press"  # the column that copied rows end with, and one that numbers them
CopiedAs = Literal["table", "CSV", "NumPy"]
USUAL = 0.25  # of the presses have what goes without saying
NEXT_LABEL = re.compile(r",(?=[^,]*=)|,\s*$")  # a decimal comma, or one within words, parts nothing
KEY = "key"  # what a label without a name is about


def labels_of(text: str) -> dict[str, Label]:
    """What a press's label says: ``temperature = 21, mode = dry`` by name, anything else as the key's name."""
    if "=" not in text:
        return {KEY: text.strip()} if text.strip() else {}
    found: dict[str, Label] = {}
    for part in NEXT_LABEL.split(text):
        name, equals, value = (piece.strip() for piece in part.partition("="))
        if equals and name and value:
            found[name] = _number(value)
    return found


def usual_labels(texts: Iterable[str]) -> dict[str, Label]:
    """Of labels that say several things: the value of each that most of them have, if it is one that they usually have
    and no number that came twice.
    """
    counts: dict[str, Counter[Label]] = {}
    for text in texts:
        for name, value in labels_of(text).items():
            counts.setdefault(name, Counter())[value] += 1
    most = {name: of.most_common(1)[0] for name, of in counts.items()}
    return {name: value for name, (value, count) in most.items() if count > max(1, USUAL * counts[name].total())}


def short_label(text: str, usual: Mapping[str, Label]) -> str:
    """What a label says that is not as usual, so that many long ones can be told apart at a glance."""
    own = labels_of(text)
    odd = own if len(own) < 2 else {n: v for n, v in own.items() if n not in usual or v != usual[n]}
    said = [label_word(v) if n == KEY else f"{n} {label_word(v)}" for n, v in odd.items()]
    return " · ".join(said) if said else "as most" if own else ""


def pasted_labels(text: str, rows: int) -> list[str]:
    """The labels in a table copied from a spreadsheet, for so many ``rows``: a label each.

    A single column is labels as they stand, unless it has one too many. Of several, or of that one, the first row names
    what was varied; empty cells are not known, and a column that only numbers the presses is left out.
    """
    lines = [line for line in text.splitlines() if line.strip()]
    if not lines:
        return []
    between = _delimiter(lines) if len(lines) == rows + 1 else "\t"
    cells = [[cell.strip() for cell in row] for row in csv.reader(lines, delimiter=between)]
    if max(map(len, cells)) == 1 and len(cells) != rows + 1:
        return [row[0] for row in cells]
    names, *rest = cells
    rows_said = [{n: v for n, v in zip(names, row, strict=False) if n and v and n != BITS} for row in rest]
    counted = [said.get(PRESS) for said in rows_said]
    if any(counted == [str(n + first) for n in range(len(rest))] for first in (0, 1)):
        rows_said = [{n: v for n, v in said.items() if n != PRESS} for said in rows_said]
    return [", ".join(f"{name} = {value}" for name, value in said.items()) for said in rows_said]


def _delimiter(lines: Sequence[str]) -> str:
    """What stands between the cells of a table: tabs, as a spreadsheet copies them, or what a text file has in each
    line as often as in the first. A label in words has commas as well.
    """
    for between in ";,":
        counts = {line.count(between) for line in lines if '"' not in line}
        if "\t" not in lines[0] and "=" not in lines[0] and len(counts) == 1 and counts != {0}:
            return between
    return "\t"


def copied_rows(stack: Stack, rows: Sequence[int], form: CopiedAs) -> str:
    """The text of rows for the clipboard: labels and bits as a table or as CSV, or the bits alone for NumPy."""
    if form == "NumPy":
        bits = ",\n".join(f"    {stack.bits[row].tolist()}" for row in rows)
        return f"np.array([\n{bits},\n], dtype=np.uint8)\n"
    said = [["" if values[row] is None else values[row] for values in stack.labels.values()] for row in rows]
    cells = [[*labels, bit_text(stack.bits[row])] for row, labels in zip(rows, said, strict=True)]
    return table_text([[*stack.labels, BITS], *cells], "," if form == "CSV" else "\t")


class Cut(Struct, frozen=True):
    """What is laid under one another: frames of so many ``bits``, or one ``section`` of that length of any frame."""

    bits: int
    section: int | None = None

    @property
    def words(self) -> str:
        whole = f"{self.bits} bits"
        return whole if self.section is None else f"section {self.section + 1}, {whole}"

    def of(self, press: Caught) -> str:
        """The bits of a press that it takes; none where the press is of another kind."""
        reading = press.reading
        sizes = (len(reading.bits),) if self.section is None else _sections(press)
        at = self.section or 0
        if reading.first_missed or at >= len(sizes) or sizes[at] != self.bits:
            return ""
        start = sum(sizes[:at])
        return reading.bits[start : start + self.bits]


def cuts_of(presses: Sequence[Caught]) -> list[Cut]:
    """What can be stacked: frames of each length, the commonest first; and where lengths differ, sections in common."""
    with_bits = [press for press in presses if press.reading.bits and not press.reading.first_missed]
    sizes = Counter(len(press.reading.bits) for press in with_bits)
    cuts = [Cut(size) for size, _ in sizes.most_common()]
    if len(cuts) < 2:
        return cuts
    sections = Counter((n, size) for press in with_bits for n, size in enumerate(_sections(press)))
    return cuts + [Cut(size, n) for (n, size), count in sorted(sections.items()) if count > sizes[cuts[0].bits]]


def _sections(press: Caught) -> tuple[int, ...]:
    return press.reading.sections or (len(press.reading.bits),)


def stack_of(presses: Sequence[Caught], cut: Cut | None = None) -> tuple[Stack, list[Caught], list[Caught]]:
    """The stack, the presses it is made of in shooting order, and those set apart.

    Apart are presses that a cut takes nothing of; without one, presses with another number of bits than most have.
    """
    cut = cut or next(iter(cuts_of(presses)), Cut(0))
    taken = {press.id: of for press in presses if (of := cut.of(press))}
    rows = [press for press in presses if press.id in taken]
    known: dict[str, dict[str, Label]] = {}  # presses of one label are many
    said = [known.setdefault(p.label, known[p.label] if p.label in known else labels_of(p.label)) for p in rows]
    names = dict.fromkeys(name for row in said for name in row)
    labels: dict[str, tuple[Label, ...]] = {name: _one_kind(name, [row.get(name) for row in said]) for name in names}
    digits = "".join(taken[press.id] for press in rows).encode("ascii")
    bits = (np.frombuffer(digits, np.uint8) - ord("0")).reshape(len(rows), cut.bits)
    whole = rows[0].reading.sections if rows and cut.section is None else ()
    return Stack(bits, labels, whole), rows, [press for press in presses if press.id not in taken]


def _number(value: str) -> Label:
    try:
        return float(value)
    except ValueError:
        return value


def _one_kind(name: str, values: list[Label]) -> tuple[Label, ...]:
    """Numbers if all are, else words; what keys are called is a word, be it a figure."""
    known = [label_word(value) for value in values if value is not None]
    if all(isinstance(value, float) for value in values if value is not None):
        return tuple(values)
    said: Iterator[Label] = iter((numbers_in(known) if name != KEY else None) or known)
    return tuple(None if value is None else next(said) for value in values)
