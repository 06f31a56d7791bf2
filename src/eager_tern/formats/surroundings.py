"""Durations among whatever else a log says: numbers that stand in the same surroundings again and again.

Nothing is known of what prints such a log. What stands between two of its durations stands between most of them, or
two things in turn; what stands before the first of a row ("12:03:07 ir> [16] {") comes again before other rows. Which
of several ways to see a text is meant, its numbers tell: see ``plausible``.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Hashable, Iterator, Sequence
from itertools import pairwise
from typing import TypeVar

from msgspec import Struct

from eager_tern.formats.lists import FEWEST, RISING
from eager_tern.formats.rows import MOSTLY, NUMBER, SHORTEST_US, TERMINAL_CODES, TIME_OF_DAY, UNIT

A_NUMBER = re.compile(rf"(?<![\d.]){NUMBER}(?!\.?\d)")
CODE = re.compile(r"\b\w*\d[^\W\d]+\d\w*")  # digits and letters in turn
REPEATED = re.compile(r"([^\w\s])\1+")  # as in bars and dotted lines
SPACES = re.compile(r"\s+")
BRACKETS = str.maketrans("|/", "  ", "[](){}")  # and bars, which stand between some numbers and behind others
LEVELS = {"0", "1"}
PLACE = re.compile(r"^([^\w\n]*)([0-9a-f]{2,8})(?=[:\])>])", re.IGNORECASE | re.MULTILINE)
MIXED = re.compile(r"\d[a-f]|[a-f]\d", re.IGNORECASE)  # words have letters alone
MOST_FAMILIES = 4  # of surroundings that are tried, the commonest
RARE = 0.1  # of all that stands between two numbers: what is rarer stands between no durations
FEWEST_IN_ALL = 12  # numbers: with fewer nothing comes again
COUNTING = 0.5  # of the steps from row to row are the same, where rows are counted: each press may begin anew

Form = TypeVar("Form", bound=Hashable)
Lines = list[tuple[int, list[str]]]  # each with its number
Family = frozenset[str]  # what stands between durations: one thing, or two in turn; none, where each has its own line


class Line(Struct, frozen=True):
    """A line's numbers, and what stands before each and behind the last; ``stamp`` is a time of day at its start."""

    number: int
    stamp: str
    numbers: list[str]
    glue: list[str]


class Row(Struct, frozen=True):
    """The durations of a line, and the form of what stands before and behind them: brackets and digits aside.

    ``counted`` are the numbers before them; a list ``opens`` before them, or ``closes`` behind.
    """

    line: Line
    numbers: list[str]
    counted: list[str]
    before: str
    behind: str
    opens: bool
    closes: bool


class Way(Struct, frozen=True):
    """A way to see a text: what stands between its durations, and how many of a row's numbers before and behind them
    count it, or tell the time.
    """

    family: Family
    before: int
    behind: int


def ways_to_see(lines: Sequence[Line]) -> Iterator[Way]:
    """The ways in which a text may hold durations."""
    if sum(len(line.numbers) for line in lines) < FEWEST_IN_ALL:
        return
    for family in _families([list(map(_without_brackets, line.glue[1:-1])) for line in lines]):
        rows = _rows(lines, family)
        if not rows:
            continue
        width = min(len(row.numbers) for row in rows)
        counted = [all(_is_counted(rows, at) for at in range(count)) for count in range(1, width)]
        before, behind = 1 + sum(counted), 1 + (width > 1 and _rises([float(row.numbers[-1]) for row in rows]))
        yield from (Way(family, first, last) for first in range(before) for last in range(behind))


def seen_so(lines: Sequence[Line], way: Way) -> tuple[list[Lines], list[int]]:
    """Bursts of lines of durations, and the numbers of the lines that are none."""
    rows = _rows(lines, way.family)
    others = sorted({line.number for line in lines} - {row.line.number for row in rows})
    return _bursts(rows, way), others


def lines_of(text: str) -> list[Line]:
    """A text's lines but for blank ones, their numbers told from what stands between them."""
    plain = _with_decimal_places(text)
    return [_parted(number, line) for number, line in enumerate(plain.splitlines(), 1) if line.strip()]


def _with_decimal_places(text: str) -> str:
    """A text whose lines begin with hexadecimal numbers of as many digits each, with decimal ones."""
    places = [found[2] for found in PLACE.finditer(text)]
    if len(places) < FEWEST or len(set(map(len, places))) > 1 or not any(map(MIXED.search, places)):
        return text
    return PLACE.sub(lambda found: f"{found[1]}{int(found[2], 16)}", text)


def _parted(number: int, line: str) -> Line:
    line = CODE.sub("code", UNIT.sub("", TERMINAL_CODES.sub("", line)))
    stamp = found[0] if ":" in line and (found := TIME_OF_DAY.match(line)) else ""
    line = line[len(stamp) :]
    glue = [SPACES.sub(" ", each).lower() for each in A_NUMBER.split(line)]
    return Line(number, stamp, A_NUMBER.findall(line), glue)


def _families(glues: Sequence[Sequence[str]]) -> list[Family]:
    single = Counter(each for line in glues for each in line)
    pairs = Counter(frozenset(pair) for line in glues for pair in pairwise(line) if pair[0] != pair[1])
    often = RARE * single.total()
    common = [each for each, count in single.most_common(MOST_FAMILIES) if count >= often]
    in_turn = [pair for pair, count in pairs.most_common(MOST_FAMILIES) if count >= often]
    return list(dict.fromkeys([*(frozenset([each]) for each in common), *in_turn, frozenset(common[:2]), frozenset()]))


def _rows(lines: Sequence[Line], family: Family) -> list[Row]:
    """The lines in which a family joins numbers, and short ones behind them that begin as they do."""
    found = [(line, *_longest(line, family)) for line in lines if line.numbers]
    if not family:
        rows = [_row(*each) for each in found if len(each[0].numbers) == 1]
        common = _commonest([(row.before, row.behind) for row in rows])
        return [row for row in rows if (row.before, row.behind) in common]
    rows = [_row(line, first, last) for line, first, last in found if last > first]
    long = [row for row in rows if len(row.numbers) >= FEWEST]
    if sum(len(row.numbers) for row in long) >= MOSTLY * sum(len(row.numbers) for row in rows):
        rows, forms = long, {row.before for row in long}  # short ones may say something of them
    else:
        forms, widths = _commonest([row.before for row in rows]), _commonest([len(row.numbers) for row in rows])
        there = {row.line.number for row in rows}  # no block of rows begins with a shorter one
        rows = [r for r in rows if r.before in forms and (len(r.numbers) in widths or r.line.number - 1 in there)]
    there = {row.line.number for row in rows}
    ends = [_row(*each) for each in found if each[0].number - 1 in there and each[0].number not in there]
    return sorted(rows + [row for row in ends if row.before in forms], key=lambda row: row.line.number)


def _commonest(forms: Sequence[Form]) -> set[Form]:
    """What is most frequent among some, and what is half as frequent: lines of two forms may take turns."""
    counts = Counter(forms)
    return {form for form, count in counts.items() if 2 * count >= max(counts.values())}


def _longest(line: Line, family: Family) -> tuple[int, int]:
    """The first and the last number of the longest run that a family joins; the last of all where it joins none."""
    glue = list(map(_without_brackets, line.glue[1:-1]))
    best, first = (len(glue), len(glue)), 0
    for at, each in enumerate(glue):
        if each not in family:
            first = at + 1
        elif at > first and len(family) > 1 and glue[at - 1] == each:
            first = at
        if each in family and at + 1 - first > best[1] - best[0]:
            best = first, at + 1
    return best


def _row(line: Line, first: int, last: int) -> Row:
    before, behind = "\n".join(line.glue[: first + 1]), "\n".join(line.glue[last + 1 :])
    opens, closes = any(each in before for each in "[({"), any(each in behind for each in "])}")
    signed = [each[0] in "+-" for each in line.numbers[first : last + 1]]
    first += last > first and not signed[0] and all(signed[1:])  # only what stands before them has no sign
    numbers, counted = line.numbers[first : last + 1], line.numbers[:first]
    return Row(line, numbers, counted, _form(before), _form(behind), opens, closes)


def _form(text: str) -> str:
    return REPEATED.sub(r"\1", _without_brackets(text)).strip(" ,;")


def _without_brackets(text: str) -> str:
    return SPACES.sub(" ", text.translate(BRACKETS))


def _is_counted(rows: Sequence[Row], at: int) -> bool:
    """Whether a number of each row may count the rows, name what is logged, tell the time, or say how many follow."""
    column = [float(row.numbers[at]) for row in rows]
    if all(each == len(row.numbers) - at - 1 for each, row in zip(column, rows, strict=True)):
        return True
    if len(rows) <= 2:
        return False
    ((step, count),) = Counter(b - a for a, b in pairwise(column)).most_common(1)
    return _rises(column) or ((step == 0 or min(column) < SHORTEST_US) and count >= COUNTING * (len(rows) - 1))


def _rises(column: Sequence[float]) -> bool:
    steps = [b > a for a, b in pairwise(column)]
    return len(steps) >= FEWEST and sum(steps) >= RISING * len(steps)


def _bursts(rows: Sequence[Row], way: Way) -> list[Lines]:
    """The rows without the numbers that count them. A burst ends where other lines stand between two rows, or what
    leads from one to the next is not what usually does.
    """
    joins = [_join(a, b, way.before) for a, b in pairwise(rows)]
    usual = _commonest(joins)
    bursts: list[Lines] = []
    for at, row in enumerate(rows):
        if not at or row.line.number != rows[at - 1].line.number + 1 or joins[at - 1] not in usual:
            bursts.append([])
        if words := row.numbers[way.before : len(row.numbers) - way.behind]:
            bursts[-1].append((row.line.number, words))
    return [_without_noughts(_without_levels(burst)) for burst in bursts if burst]


def _join(row: Row, following: Row, first: int) -> tuple[object, ...]:
    """What leads from a row to the next: the words between them, and whether what counts them goes up or stays."""
    counts, then = ([float(each) for each in (*of.counted, *of.numbers[:first])] for of in (row, following))
    goes_up = tuple((a < b) - (a > b) for a, b in zip(counts, then, strict=False))
    next_list = row.closes and following.opens
    return row.behind, following.before, next_list, row.line.stamp == following.line.stamp, len(then), goes_up


def _without_levels(burst: Lines) -> Lines:
    """A burst without what stands before or behind each of its numbers, where that is 0 or 1."""
    for at in (0, 1):
        if all(LEVELS.issuperset(words[at::2]) for _, words in burst):
            return [(line, rest) for line, words in burst if (rest := words[1 - at :: 2])]
    return burst


def _without_noughts(burst: Lines) -> Lines:
    """A burst without the noughts that stand for the silences around it."""
    if burst and float(burst[0][1][0]) == 0:
        burst = [(burst[0][0], burst[0][1][1:]), *burst[1:]]
    if burst and burst[-1][1] and float(burst[-1][1][-1]) == 0:
        burst = [*burst[:-1], (burst[-1][0], burst[-1][1][:-1])]
    return [(line, words) for line, words in burst if words]
