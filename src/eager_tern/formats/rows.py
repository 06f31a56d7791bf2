"""Rows: lines that say the same with other numbers, whatever words stand between these.

The commonest line of a log is found, and every other line like it is a row of a table. What a column is, its numbers
tell: a counter goes up by one, a clock rises, a level is 0 or 1 (or a word for it), and what is left are durations.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from itertools import pairwise

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.formats.rates import UNITS_US, unit_named, unit_of_name
from eager_tern.signal.order import median
from eager_tern.signal.values import Floats

FEWEST_ROWS = 4
MOST_COLUMNS = 7  # numbers on a line that is a row; a line with more holds a frame
LONGEST_ROW = 500  # characters
LOOKED_AT = 500  # lines of which the commonest form is found
MOST_OTHERS = 2.0  # other lines with numbers for each row; boot messages are long
LONGEST_PERIOD = 10  # words and signs after which a long line says the same again
MOSTLY = 0.8  # of the rows, or of the digits: a line lost or garbled now and then changes nothing
COARSEST = 0.1  # of a clock's steps that are steps at all: in milliseconds some of the pulses' are
SHORTEST_US = 20.0  # median of what can be durations
SECONDS = 0.02  # median of fractions that must be seconds: in milliseconds the pulses would last a few microseconds
DECIMALS = 4  # of a second, of a time of day that is a clock for pulses

MARKS = {"mark": 1.0, "pulse": 1.0, "m": 1.0, "space": 0.0, "gap": 0.0, "timeout": 0.0, "s": 0.0}
LINE = {
    "low": 0.0, "l": 0.0, "false": 0.0, "off": 0.0, "high": 1.0, "h": 1.0, "true": 1.0, "on": 1.0, "rising": 1.0,
    "rise": 1.0, "up": 1.0, "falling": 0.0, "fall": 0.0, "down": 0.0,
}  # fmt: skip
LEVELS = {**LINE, "lo": 0.0, "hi": 1.0, **MARKS}

A_NUMBER, A_LEVEL = "<number>", "<level>"  # in the form of a line

TERMINAL_CODES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]|[\x00-\x08\x0b-\x1a\x1c-\x1f\x7f]")
TIME_OF_DAY = re.compile(
    r"^\s*\[?(?:\d{4}-\d\d-\d\d[ T])?\d{1,2}:\d\d(?::\d\d(?:[.,]\d+)?)?\]?(?![\d.:])\s*(?:->|=>|[>:|])?\s*"
)
CLOCK = re.compile(rf"(?:\d{{4}}-\d\d-\d\d[ T])?(\d{{1,2}}):(\d\d):(\d\d[.,]\d{{{DECIMALS},9}})(?!\d)")
ENTRY = re.compile(r"^-[ \t]+(?=[^\W\d_])")  # of a list, before a name and no number
COMMENT = re.compile(r"#.*|//.*")
UNIT = re.compile(r"(?<=\d)(?:\s?(?:us|usec|µs|μs)|[uU][lL]?|[lL])(?!\w)")
NUMBER = r"[-+]?\d+(?:\.\d+)?"
TOKEN = re.compile(rf"({NUMBER})|([^\W\d_]+)|([^\w\s])")
WORD = re.compile(r"[^\W\d_]+")
OF_NUMBER = re.compile(r"(?:\s*[:=]\s*)?\d")
SEPARATORS = str.maketrans(",;\t", "   ")
LONG_LINE = re.compile(rf"^(?:[^\d\n]*+\d++){{{MOST_COLUMNS + 1}}}", re.MULTILINE)  # may be several rows
LIST_ONLY = re.compile(r"[\s\d.,;+-]*")
GROUP = re.compile(r"[\[{(]([^\[\]{}()]*)[\]})]")


class Rows(Struct, frozen=True):
    """Numbers as written, shape (rows, columns); ``named`` are columns of words for levels, each (rows,), as 0 and 1.

    ``lines`` are the rows' lines, counted from 1; ``begins`` says of each whether other lines stand before it, blank
    ones included. ``units_us`` are those written behind a column's numbers, None where there are none. ``marks`` says
    whether the words tell marks from spaces, and not how the line stands. ``others`` are the lines that are no rows,
    blank ones left out, ``words`` what all lines say but for the rows' numbers. ``plain`` rows hold nothing but
    numbers and separators.
    """

    table: Floats
    named: tuple[Floats, ...]
    lines: NDArray[np.intp]
    begins: NDArray[np.bool_]
    units_us: tuple[float | None, ...]
    marks: bool
    others: tuple[int, ...]
    words: str
    plain: bool


class Roles(Struct, frozen=True):
    """Which columns are what; ``level``, shape (rows,), is 0 and 1, or empty where no level is told. ``levels`` is how
    many there are: that of the first channel counts.
    """

    times: list[int]
    durations: list[int]
    counters: list[int]
    level: Floats
    levels: int


def bare(line: str) -> str:
    """A line without what terminals and loggers add to it; a clock that is fine enough stays, in µs."""
    line = line.strip()
    if not line.isprintable():
        line = TERMINAL_CODES.sub("", line)
    if line[:2] == "- ":
        line = ENTRY.sub("", line)
    if ":" not in line:
        return line
    if CLOCK.search(line):
        return CLOCK.sub(_microseconds, line).strip()
    return TIME_OF_DAY.sub("", line).strip()


def _microseconds(found: re.Match[str]) -> str:
    return f" {seconds_of(found) * 1e6:.0f} "


def seconds_of(stamp: re.Match[str]) -> float:
    """The time of day, s, of hours, minutes and seconds."""
    return 3600 * int(stamp[1]) + 60 * int(stamp[2]) + float(stamp[3].replace(",", "."))


def numbered_lines(text: str) -> list[tuple[int, str]]:
    """The lines of a text with their numbers, long ones cut into what recurs in them; where all that the text says
    stands in small groups in brackets, those.
    """
    groups = [found for found in GROUP.finditer(text) if _is_small(found[1])]
    inside = sum(sum(map(str.isdigit, found[1])) for found in groups)
    if len(groups) < FEWEST_ROWS or inside < MOSTLY * sum(map(str.isdigit, text)):
        whole = list(enumerate(text.splitlines(), 1))
        if max((len(line) for _, line in whole), default=0) <= 2 * MOST_COLUMNS or not LONG_LINE.search(text):
            return whole
        return [(number, piece) for number, line in whole for piece in _what_recurs(line)]
    lines = list(enumerate(text[: groups[0].start()].splitlines(), 1))  # a header, or what the numbers count
    number, at = 1, 0
    for found in groups:
        between = text[at : found.start()]
        number += between.count("\n")
        lines += [(number, "")] if re.search(r"[\]})]", between) else []
        lines.append((number, found[0].replace("\n", " ").replace('"', " ")))
        number += found[0].count("\n")
        at = found.end()
    return lines


def _is_small(group: str) -> bool:
    """Whether a group in brackets has a row's numbers in it, and no time of day."""
    said = len(re.findall(NUMBER, group)) + sum(word.lower() in LEVELS for word in WORD.findall(group))
    return 2 <= said <= MOST_COLUMNS and not CLOCK.search(group)


def _what_recurs(line: str) -> list[str]:
    """A line that says the same again and again, cut where it begins anew, an empty line before; others as they are."""
    if len(line) < 2 * MOST_COLUMNS or LIST_ONLY.fullmatch(line):
        return [line]
    plain = bare(line)
    form = _form(plain)
    if form.count(A_NUMBER) <= MOST_COLUMNS:
        return [line]
    named_both_ends = form[0] == form[-1] == A_LEVEL and form.count(A_LEVEL) > form.count(A_NUMBER)
    kept = [at for at, token in enumerate(form) if token not in ",;"][named_both_ends:]  # "pulse 560 us on …"
    said = np.array([form[at] for at in kept])
    for period in range(2, min(LONGEST_PERIOD, said.size // 3) + 1):
        same = np.flatnonzero(said[period:] != said[:-period])
        first = int(same[-1]) + 1 if same.size else 0
        if said.size - first >= MOSTLY * said.size and A_NUMBER in said[first : first + period]:
            if set(said[first : first + period].tolist()) == {A_NUMBER}:
                return [line]  # a list
            begins = [token.start() for token in TOKEN.finditer(plain)]
            cuts = [begins[kept[at]] for at in range(first, said.size, period)]
            return ["", *(plain[a:b] for a, b in pairwise([*cuts, len(plain)]))]
    return [line]


def rows_of(lines: Sequence[tuple[int, str]]) -> Rows | None:
    """The rows among some lines, each with its number; None where too few of them are alike."""
    looked_at = [bare(line) for _, line in lines[:LOOKED_AT]]
    form = _commonest(looked_at)
    if form is None:
        return None
    kinds = [token for token in form if token in (A_NUMBER, A_LEVEL)]
    cells = _all_at_once(lines, form, len(kinds)) or _line_by_line(lines, form, len(kinds))
    numeric = sum(any(c.isdigit() for c in line) for _, line in cells.others)
    if len(cells.lines) < FEWEST_ROWS or numeric > MOST_OTHERS * len(cells.lines):
        return None
    table: list[Floats] = []
    named: list[Floats] = []
    for column, kind in zip(cells.columns, kinds, strict=True):
        if kind == A_NUMBER:
            table.append(np.array(column, np.float64))  # None becomes NaN
        else:
            named.append(np.array([LEVELS[word.lower()] if word else np.nan for word in column]))
    numbers_at = [at for at, token in enumerate(form) if token == A_NUMBER]
    above = _units_above([line for number, line in cells.others if number < cells.lines[0]][-1:], kinds)
    units = tuple(
        (UNITS_US.get(form[at + 1]) if at + 1 < len(form) else None) or unit
        for at, unit in zip(numbers_at, above, strict=True)
    )
    is_row = _pattern(form).fullmatch
    said = {word.lower() for line in looked_at if is_row(line) for word in WORD.findall(line)}
    return Rows(
        np.column_stack(table), tuple(named), np.array(cells.lines), np.array(cells.begins), units,
        bool(said & MARKS.keys()) and not said & LINE.keys(), tuple(number for number, _ in cells.others),
        "\n".join([*sorted(said), *(line for _, line in cells.others)]), {*form} <= {A_NUMBER, *",;"},
    )  # fmt: skip


def _units_above(header: Sequence[str], kinds: Sequence[str]) -> list[float | None]:
    """The units that a header over all columns names, of those that are numbers."""
    for parts in (r"\s*[,;\t|]\s*", r"\s+"):
        names = [name for line in header for name in re.split(parts, line.strip())]
        if len(names) == len(kinds):
            return [unit_of_name(name) for name, kind in zip(names, kinds, strict=True) if kind == A_NUMBER]
    return [None] * list(kinds).count(A_NUMBER)


class _Cells(Struct, frozen=True):
    """What stands in each column of the rows, None where a row is cut short; the rest as in ``Rows``."""

    columns: Sequence[Sequence[str | None]]
    lines: Sequence[int]
    begins: Sequence[bool]
    others: Sequence[tuple[int, str]]


def _line_by_line(lines: Sequence[tuple[int, str]], form: tuple[str, ...], width: int) -> _Cells:
    short = _cut_short(form)
    last = max(at for at, token in enumerate(form) if token == A_NUMBER)
    whole, cut = _pattern(form).fullmatch, _pattern(short, form[len(short) : last]).fullmatch
    cells: list[tuple[str | None, ...]] = []
    places, begins, others = [], [], []
    apart = True
    for number, line in ((number, bare(line)) for number, line in lines):
        if found := whole(line):
            cells.append(found.groups())
        elif not apart and (found := cut(line)):
            cells.append(found.groups() + (None,) * (width - len(found.groups())))
        else:
            apart = True
            others += [(number, line)] if line else []
            continue
        places.append(number)
        begins.append(apart)
        apart = False
    return _Cells(list(zip(*cells, strict=True)) or [()] * width, places, begins, others)


def _all_at_once(lines: Sequence[tuple[int, str]], form: tuple[str, ...], width: int) -> _Cells | None:
    """The same where nothing but whole rows of numbers and levels stands behind some lines; None where more does."""
    if not {*form} <= {A_NUMBER, A_LEVEL, *",;"}:
        return None
    row = re.compile(_strict(form)).fullmatch
    first = next((at for at, (_, line) in enumerate(lines[:LOOKED_AT]) if row(line)), None)
    if first is None:
        return None
    body = "\n".join(line for _, line in lines[first:]).rstrip()
    if not re.compile(rf"(?>{_strict(form)}\n)*+{_strict(form)}").fullmatch(body):
        return None
    words: list[str] = body.translate(SEPARATORS).split()
    count = len(words) // width
    begins = np.arange(count) == 0
    others = [(number, plain) for number, line in lines[:first] if (plain := bare(line))]
    numbers = [number for number, _ in lines[first : first + count]]
    return _Cells([words[at::width] for at in range(width)], numbers, begins.tolist(), others)


def _strict(form: tuple[str, ...]) -> str:
    """A pattern of lines of a form on which blanks, commas or semicolons part whatever stands there."""
    levels = "|".join(sorted(LEVELS, key=len, reverse=True))
    said = {A_NUMBER: NUMBER, A_LEVEL: f"(?i:{levels})"}
    pieces = ["[ \\t]*"]
    for token, following in pairwise([*form, ""]):
        parts = token in ",;" or following in ",;"
        pieces.append(said.get(token, token) + ("[ \\t]*" if parts else "[ \\t]+"))
    return "".join(pieces) + r"[ \t,;]*\r?"


def _form(line: str) -> tuple[str, ...]:
    """What a line says: placeholders for numbers and words that are levels, other words and signs as they are."""
    form: list[str] = []
    for token in TOKEN.finditer(line):
        number, word, sign = token[1], token[2] or "", token[3]
        before_number = bool(OF_NUMBER.match(line, token.end()))  # "S602" and "S: 602" are a space of 602
        is_unit = bool(form) and form[-1] == A_NUMBER and word.lower() in UNITS_US and not before_number
        is_level = word.lower() in LEVELS and not is_unit
        form.append(A_NUMBER if number else A_LEVEL if is_level else word.lower() or sign)
    return tuple(form)


def _without_end(form: tuple[str, ...]) -> tuple[str, ...]:
    """A form without the signs at its end, which the last row lacks."""
    while form and not form[-1].isalnum() and form[-1] not in (A_NUMBER, A_LEVEL):
        form = form[:-1]
    return form


def _commonest(lines: Iterable[str]) -> tuple[str, ...] | None:
    """The form that most lines with numbers have."""
    forms = Counter(_without_end(_form(line)) for line in lines if 0 < len(line) < LONGEST_ROW)
    forms = Counter({form: count for form, count in forms.items() if 1 <= form.count(A_NUMBER) <= MOST_COLUMNS})
    return forms.most_common(1)[0][0] if forms else None


def _cut_short(form: tuple[str, ...]) -> tuple[str, ...]:
    """The form of a frame's last row: its mark has no space behind it, its only number perhaps no unit."""
    numbers = [at for at, token in enumerate(form) if token == A_NUMBER]
    if len(numbers) < 2:
        return form[: numbers[0] + 1]
    behind = form[numbers[-2] + 1 :]
    more = int(behind[0] in UNITS_US)
    at = more + int(behind[more] in ",;")
    if behind[at] == A_LEVEL and A_LEVEL not in form[: numbers[0]]:  # "560 us mark, 1690 us space"
        more = at + 1
    return form[: numbers[-2] + 1 + more]


def _pattern(form: Sequence[str], perhaps: Sequence[str] = ()) -> re.Pattern[str]:
    """Lines of a form: a group for each number and each level. Words that perhaps stand behind it are in no group."""
    levels = "|".join(sorted(LEVELS, key=len, reverse=True))
    pieces, before = [], ""
    for token in form:
        between = r"(?:[\s_]+|(?=[-+]))" if before == token == A_NUMBER else r"[\s_]*"
        said = {A_NUMBER: f"({NUMBER})", A_LEVEL: rf"({levels})(?![^\W\d_])"}.get(token, re.escape(token))
        pieces.append(between + said)
        before = token
    if perhaps and A_LEVEL not in perhaps:
        pieces.append("(?:" + "".join(rf"[\s_]*{re.escape(token)}" for token in perhaps) + ")?")
    return re.compile("".join(pieces) + r"\W*", re.IGNORECASE)


def roles_of(rows: Rows) -> Roles:
    """What each column is, by its numbers alone."""
    times, durations, counters = [], [], []
    levels = [named for named in rows.named if np.unique(named[~np.isnan(named)]).size == 2]
    for at, column in enumerate(rows.table.T):
        known = column[~np.isnan(column)]
        steps = np.diff(known)
        if not steps.any():
            continue  # the number of a pin, or of a channel
        if ((known == 0) | (known == 1)).all():
            if (steps < 0).any():  # else it tells two presses apart
                levels.append(column)
        elif np.mean(steps == 1) > MOSTLY:
            counters.append(at)
        elif np.mean(steps >= 0) > MOSTLY and np.mean(steps > 0) > COARSEST:
            times.append(at)
        elif median(np.abs(known)) * unit_of(rows, at) >= SHORTEST_US:
            durations.append(at)
    heights = [at for at in durations if times and not levels and _takes_turns(rows.table[:, at])]
    levels += [(rows.table[:, at] > rows.table[:, at].min()).astype(np.float64) for at in heights]
    durations = [at for at in durations if at not in heights]
    return Roles(times, durations, counters, levels[0] if levels else np.empty(0), len(levels))


def _takes_turns(values: Floats) -> bool:
    """Whether a column holds two values in turn."""
    return np.unique(values).size == 2 and bool(np.mean(np.diff(values) != 0) > MOSTLY)


def unit_of(rows: Rows, at: int) -> float:
    """What 1 stands for in a column of durations, µs; where its numbers are too small for µs, a header may say it."""
    if (unit := rows.units_us[at]) is not None:
        return unit
    usual = float(np.nanmedian(np.abs(rows.table[:, at])))
    if usual >= SHORTEST_US:
        return 1.0
    return unit_named(rows.words) or unit_of_fractions(rows.table[:, at], usual)


def unit_of_fractions(numbers: Floats, usual: float) -> float:
    """What 1 stands for, µs, in durations without a unit: nobody writes fractions of a few microseconds."""
    if not np.any(numbers % 1 > 0):
        return 1.0
    return 1e6 if usual < SECONDS else 1e3
