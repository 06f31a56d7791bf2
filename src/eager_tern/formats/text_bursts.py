"""Bursts of a text: lines of durations, as words, between two silences."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise, zip_longest

from msgspec import Struct
from msgspec.structs import replace

from eager_tern.formats.lists import FEWEST, bare_lists, each_a_press
from eager_tern.formats.rows import MARKS

WORDS = {word: 2 * level - 1 for word, level in MARKS.items() if len(word) > 1}
NUMBERS_ONLY = re.compile(r"[\s\d.,;+eEuUlL-]*\d[\s\d.,;+eEuUlL-]*")
# What lists of one kind are called. Keys may be "on" and "off" as well: their frames end alike.
OF_MARKS = re.compile(r"(?<![a-z])(?:marks?|pulses?|(on|high))(?![a-z])", re.IGNORECASE)
OF_SPACES = re.compile(r"(?<![a-z])(?:spaces?|gaps?|(off|low))(?![a-z])", re.IGNORECASE)


class Burst(Struct, frozen=True):
    """Lines between two silences, each as its number and its words; ``name`` is that of an array.

    In a ``column`` each word of the one line stands on a line of its own, from that number on.
    """

    lines: list[tuple[int, list[str]]]
    name: str = ""
    column: bool = False


def names_levels(burst: Sequence[tuple[int, list[str]]]) -> bool:
    return bool(burst) and burst[0][1][0].lower() in WORDS


def marks_beside_spaces(bursts: list[Burst]) -> list[Burst]:
    """The bursts, those made one of which the first holds a frame's marks and the second its spaces."""
    joined: list[Burst] = []
    for burst in bursts:
        whole = _marks_and_spaces(joined[-1], burst) if joined else None
        joined[-1:] = [*joined[-1:], burst] if whole is None else [whole]
    return joined


def _marks_and_spaces(some: Burst, others: Burst) -> Burst | None:
    """A frame of two lists that are called so and as long as each other, but for the last mark; None of all others."""
    of_marks, of_spaces = OF_MARKS.search(some.name), OF_SPACES.search(others.name)
    if of_marks is None or of_spaces is None:
        return None
    marks, spaces = ([word for _, words in each.lines for word in words] for each in (some, others))
    could_be_keys = of_marks[1] or of_spaces[1]
    if len(marks) - len(spaces) not in ((1,) if could_be_keys else (0, 1)):
        return None
    turns = [word for pair in zip_longest(marks, spaces) for word in pair if word is not None]
    return Burst([(some.lines[0][0], turns)], OF_MARKS.sub("", some.name).strip(" _-.:"))


def presses_of(burst: Burst) -> list[Burst]:
    """The burst itself, or a burst a line where each line is a press: it begins with a mark and ends with one."""
    burst = replace(burst, lines=bare_lists(burst.lines))
    rows = [words for _, words in burst.lines]
    counts = [len(row) for row in rows]
    if len(rows) < 2 or min(counts) < FEWEST:
        return [burst]
    if names_levels(burst.lines):
        ends = [(row[0], row[-2]) for row in rows]
        own = all(before[1] == after[0] for before, after in pairwise(ends))
    elif any(word[0] in "+-" for row in rows for word in row):
        own = all((before[-1][0] == "-") == (after[0][0] == "-") for before, after in pairwise(rows))
    else:
        own = each_a_press(rows) or (all(count % 2 for count in counts) and len(set(counts[:-1])) > 1)
    return [Burst([line], burst.name) for line in burst.lines] if own else [burst]
