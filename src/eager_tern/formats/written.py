"""Durations as people write and paste them: a text to bursts of words, whatever stands round them."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from itertools import pairwise, zip_longest

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.errors import InputError
from eager_tern.formats.columns import columns_in
from eager_tern.formats.lists import FEWEST, bare_lists, each_a_press, lists_in
from eager_tern.formats.numbers import is_number
from eager_tern.formats.plain_words import in_plain_words
from eager_tern.formats.plausible import are_times, evidence, holds_others, takes_turns
from eager_tern.formats.rates import rate_named, tick_named, unit_named
from eager_tern.formats.rows import (
    COMMENT,
    FEWEST_ROWS,
    MARKS,
    SEPARATORS,
    SHORTEST_US,
    TIME_OF_DAY,
    UNIT,
    Roles,
    Rows,
    numbered_lines,
    roles_of,
    rows_of,
    seconds_of,
    unit_of,
)
from eager_tern.formats.surroundings import Way, seen_so, ways_to_see
from eager_tern.formats.unwrapped import unwrapped
from eager_tern.signal.order import median

WORDS = {word: 2 * level - 1 for word, level in MARKS.items() if len(word) > 1}
BLOCK_COMMENT = re.compile(r"/\*.*?\*/", re.DOTALL)
ARRAY = re.compile(r"\{([^{}\"']*)\}")
NAMED = re.compile(r"(\w{1,200})\s*(?:\[[\w\s]{0,40}\])?(?:\s+PROGMEM)?\s*=\s*$")  # what stands before an array
LIST = re.compile(r"[\[(]([\s\d.,;+-]*)[\])]")
# What lists of one kind are called. Keys may be "on" and "off" as well: their frames end alike.
OF_MARKS = re.compile(r"(?<![a-z])(?:marks?|pulses?|(on|high))(?![a-z])", re.IGNORECASE)
OF_SPACES = re.compile(r"(?<![a-z])(?:spaces?|gaps?|(off|low))(?![a-z])", re.IGNORECASE)
NAMES = ("name", "label", "key")  # what a JSON object calls the durations in it
FEWEST_WRAPPED = 3  # lines of as many durations that no terminal breaks by chance
FREQUENCY = re.compile("freq|carrier", re.IGNORECASE)
NICKNAME = re.compile(r"^\s*<[^<>\s]{1,40}>\s*|^\s*[\w.-]{1,30}@[\w.-]{1,30}[:~\w/.-]*[$#>]\s*|^\s*>+\s*")
STAMP = re.compile(r"^\D{0,3}(?:\d{4}-\d\d-\d\d[ T])?(\d{1,2}):(\d\d):(\d\d(?:[.,]\d+)?)(?![\d.:])")
PRESSES_APART_S = 0.3  # by a logger's clock: printing a line a duration takes a few milliseconds each
ELLIPSIS = re.compile(r"\.\.\.|…")
BEFORE_ARRAY = 300  # characters in which its name is looked for
NUMBERS_ONLY = re.compile(r"[\s\d.,;+eEuUlL-]*\d[\s\d.,;+eEuUlL-]*")
TWO_ON_A_LINE = re.compile(r"\d[^\d\n.]+\d")  # numbers
NOTHING_ELSE = re.compile(r"[\s\d.,;+-]*")  # than numbers
COLUMN = re.compile(r"[+-]?\d[\d.]*[,;]?(?>\r?\n[+-]?\d[\d.]*[,;]?)*+\s*")  # a number a line, and no line is blank
PROMPT = re.compile(r"^\s*(?:>+|\$)\s+")
LONG_NUMBER = 7  # digits: no text counts so many durations
CLEARLY = 3.0  # nats
EACH = 4.0  # nats at least that speak for each number of a list of durations; those of prose and of programs have 3
LOOKED_AT = 20_000  # characters by which it is decided how a text is seen: some dozen presses
OF_DURATIONS = re.compile(r"(?<![a-z])(?:marks?|spaces?|pulses?|gaps?|durations?|lengths?)(?![a-z])", re.IGNORECASE)


class Burst(Struct, frozen=True):
    """Lines between two silences, each as its number and its words; ``name`` is that of an array.

    In a ``column`` each word of the one line stands on a line of its own, from that number on.
    """

    lines: list[tuple[int, list[str]]]
    name: str = ""
    column: bool = False


class Written(Struct, frozen=True):
    """A text's bursts; ``carrier_hz`` where it names one, ``passed_over`` the lines that are prose, ``cut`` the line
    on which an ellipsis stands.
    """

    bursts: list[Burst]
    carrier_hz: float | None
    passed_over: list[int]
    cut: int | None


def as_written(text: str, source: object) -> Written:
    """The bursts of a text. Raises InputError with the line where it holds words and no durations."""
    ellipsis = ELLIPSIS.search(text)
    cut = text.count("\n", 0, ellipsis.start()) + 1 if ellipsis else None
    text = in_plain_words(ELLIPSIS.sub(" ", text))
    if (found := _json_bursts(text)) is not None:
        bursts, carrier_hz = found
        return Written(_marks_beside_spaces(bursts), carrier_hz, [], cut)
    bursts, passed_over = _likeliest(text, source)
    return Written(bursts, None, passed_over, cut)


def _likeliest(text: str, source: object) -> tuple[list[Burst], list[int]]:
    """What a text's form says, or what numbers in like surroundings say if its beginning is clearly likelier so."""
    way, _ = _way_to_see(text[:LOOKED_AT])
    return _by_form(text, source) if way is None else _in_surroundings(text, way)


def _by_form(text: str, source: object) -> tuple[list[Burst], list[int]]:
    bursts, passed_over = (
        _in_columns(text) or _in_brackets(text) or _in_lists(text) or _in_rows(text) or _on_lines(text, source)
    )
    return _marks_beside_spaces(bursts), passed_over


def _in_surroundings(text: str, way: Way) -> tuple[list[Burst], list[int]]:
    bursts, others = seen_so(text, way)
    return [press for lines in bursts for press in _presses_of(Burst(lines))], others


def _way_to_see(text: str) -> tuple[Way | None, float]:
    """The way to see a text that is clearly likelier than what its form says, if one is; and the evidence."""
    try:
        by_form = _evidence(_by_form(text, "")[0])
    except InputError:
        by_form = 0.0
    if by_form > 0 and NOTHING_ELSE.fullmatch(text):
        return None, by_form
    names_unit = any(named(text) for named in (unit_named, tick_named, rate_named))
    most, likeliest = by_form + CLEARLY, None
    for way in ways_to_see(text):
        bursts = _in_surroundings(text, way)[0]
        numbers = [float(word) for burst in bursts for _, words in burst.lines for word in words]
        found = _evidence(bursts)
        if found > max(most, EACH * len(numbers)) and (names_unit or median(np.abs(numbers)) >= SHORTEST_US):
            most, likeliest = found, way
    return likeliest, most if likeliest is not None else by_form


def holds_likelier(text: str, than: float) -> bool:
    """Whether a text's numbers are durations clearly likelier than what else they were taken for; see ``plausible``."""
    return _way_to_see(in_plain_words(text))[1] > than + CLEARLY


def _evidence(bursts: Sequence[Burst]) -> float:
    """See ``plausible``; none where words are no numbers, or some of them something else than durations."""
    lines = [[[word for word in words if word.lower() not in WORDS] for _, words in burst.lines] for burst in bursts]
    try:
        values = [[np.array(words, np.float64) for words in burst] for burst in lines]
    except ValueError:
        return 0.0
    whole = [np.concatenate(burst) for burst in values if burst]
    if not all(np.isfinite(each).all() and takes_turns(each) for each in whole):
        return 0.0
    if all(len(burst) == 1 for burst in values) and all(map(are_times, whole)):  # a column of them is one of a table
        return evidence([np.diff(each) for each in whole])
    return 0.0 if holds_others(values) else evidence(whole)


def _marks_beside_spaces(bursts: list[Burst]) -> list[Burst]:
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


def holds_a_list(text: str) -> bool:
    """Whether durations stand in brackets somewhere, whatever is written round them."""
    return any(_bracketed(text))


def holds_rows(text: str) -> bool:
    """Whether durations stand in rows of a table, whatever is written round them."""
    return _rows(in_plain_words(text)) is not None


def holds_frames(text: str) -> bool:
    """Whether whole frames stand in columns, or on lines, whatever is written round them."""
    return bool(columns_in(text)) or lists_in(list(enumerate(in_plain_words(text).splitlines(), 1))) is not None


def begins(text: str) -> bool:
    """Whether text begins as timing text does: with a number, a word for a level, a comment or an array."""
    first = COMMENT.sub("", text).translate(SEPARATORS).split(maxsplit=1)
    return not first or first[0].lower() in WORDS or is_number(first[0]) or text[:1] in ("[", "{") or "{" in text


def names_levels(burst: Sequence[tuple[int, list[str]]]) -> bool:
    return bool(burst) and burst[0][1][0].lower() in WORDS


def _json_bursts(text: str) -> tuple[list[Burst], float | None] | None:
    """The lists of numbers in a JSON document, a burst each, and a carrier (Hz) that it names; None if it is none."""
    if text.lstrip()[:1] not in ("[", "{"):
        return None
    document = _document(text)
    if document is None:
        return None
    bursts: list[Burst] = []
    carriers: list[float] = []

    def look(value: object, name: str) -> None:
        if isinstance(value, dict):
            own = next((value[key] for key in NAMES if isinstance(value.get(key), str)), "")
            in_halves = all(any(map(half.search, map(str, value))) for half in (OF_MARKS, OF_SPACES))
            for key, each in value.items():
                if FREQUENCY.search(str(key)) and isinstance(each, int | float) and each > 1000:
                    carriers.append(float(each))
                look(each, f"{own} {key}".strip() if in_halves else own or str(key))
        elif isinstance(value, list) and value and all(type(each) in (int, float) for each in value):
            if len(value) >= FEWEST:
                bursts.append(Burst(bare_lists([(1, [repr(each) for each in value])]), name))
        elif isinstance(value, list) and len(value) >= FEWEST and all(map(_is_numeral, value)):
            bursts.append(Burst(bare_lists([(1, value)]), name))
        elif isinstance(value, list):
            for each in value:
                look(each, name)
        elif isinstance(value, str) and NUMBERS_ONLY.fullmatch(value):
            words = value.translate(SEPARATORS).split()
            if len(words) >= FEWEST:
                bursts.append(Burst([(1, words)], name))

    look(document, "")
    return (bursts, carriers[0] if carriers else None) if bursts else None


def _is_numeral(value: object) -> bool:
    return isinstance(value, str) and is_number(value)


def _document(text: str) -> object:
    """A JSON document, or one a line; None where it is neither."""
    for pieces in ([text], [line for line in text.splitlines() if line.strip()]):
        try:
            found = [json.loads(piece) for piece in pieces]
        except (ValueError, RecursionError):
            continue
        return found
    return None


def _rows(text: str) -> tuple[Rows, Roles] | None:
    """A table of durations with more in it than these: what counts them, words, levels, signs."""
    if not TWO_ON_A_LINE.search(text) and NOTHING_ELSE.fullmatch(text):
        return None
    rows = rows_of(numbered_lines(text))
    roles = roles_of(rows) if rows is not None else None
    if rows is None or roles is None or (roles.level.size and not rows.marks):
        return None
    if roles.times and not rows.marks:
        return None
    if len(roles.durations) != 1 and (len(roles.durations) != 2 or roles.level.size):
        return None
    more = not rows.plain or roles.counters or roles.level.size or OF_DURATIONS.search(rows.words)
    return (rows, roles) if more else None


def _in_rows(text: str) -> tuple[list[Burst], list[int]] | None:
    """Rows of a mark and a space, or of one duration each; a burst ends where other lines stand between, where what
    counts the rows begins anew, or with a mark that another follows.
    """
    found = _rows(text)
    if found is None:
        return None
    rows, roles = found
    table = rows.table[:, roles.durations] * [unit_of(rows, at) for at in roles.durations]
    counted = [np.concatenate(([True], np.diff(rows.table[:, at]) != 1)) for at in roles.counters]
    begins = np.logical_or.reduce([rows.begins, *counted])
    if roles.level.size:  # a mark that follows on a mark is the next press's
        begins[1:] |= (roles.level[1:] > 0) & (roles.level[:-1] > 0)
    bursts: list[Burst] = []
    over = True  # a frame's last mark has no space behind it
    for row, numbers in enumerate(table):
        words = [repr(number) for number in numbers.tolist() if number and not np.isnan(number)]
        if begins[row] or over:
            bursts.append(Burst([]))
        over = len(words) < numbers.size
        if roles.level.size and words:
            words.insert(0, "mark" if roles.level[row] else "space")
        if words:
            bursts[-1].lines.append((int(rows.lines[row]), words))
    return bursts, []


def _in_columns(text: str) -> tuple[list[Burst], list[int]] | None:
    columns = columns_in(text)
    return ([Burst(lines, name) for name, lines in columns], []) if columns else None


def _in_brackets(text: str) -> tuple[list[Burst], list[int]] | None:
    """Arrays and lists: a burst each."""
    text = _without_remarks(text)
    arrays = list(ARRAY.finditer(text))  # a header has other braces, too
    numeric = [found for found in arrays if NUMBERS_ONLY.fullmatch(COMMENT.sub("", found[1]))]
    if len(numeric) >= FEWEST_ROWS and all(len(found[1].split(",")) < FEWEST for found in numeric):
        return None  # each is a row of a table
    if arrays and not numeric:
        listed = [(found, lines) for found in arrays if (lines := _listed_lines(text, found))]
        if listed:
            return [Burst(lines, _array_name(text, found)) for found, lines in listed], []
        if _rows(text) is not None:
            return None  # each names what it holds
        numeric = arrays  # whose first wrong word is to be named
    lists = [(_array_lines(text, found), _array_name(text, found)) for found in numeric or _bracketed(text)]
    bursts = [Burst(bare_lists(lines), name) for lines, name in lists if lines]
    return (bursts, []) if bursts else None


def _bracketed(text: str) -> Iterator[re.Match[str]]:
    """Lists of durations in brackets, which hold more than an index."""
    return (found for found in LIST.finditer(text) if len(found[1].translate(SEPARATORS).split()) >= FEWEST)


def _listed_lines(text: str, array: re.Match[str]) -> list[tuple[int, list[str]]]:
    """The lines of an array in which more than its numbers stands; none where they are no durations."""
    first = text.count("\n", 0, array.start(1)) + 1
    found = lists_in(list(enumerate(array[1].split("\n"), first)))
    return [line for burst in found.bursts for line in burst] if found is not None else []


def _in_lists(text: str) -> tuple[list[Burst], list[int]] | None:
    """Lists on lines with something else on them."""
    if NOTHING_ELSE.fullmatch(text):
        return None
    text = _without_remarks(text)
    found = lists_in(list(enumerate(text.splitlines(), 1)))
    if found is None or not _evenly_set(found.bursts):
        joined = unwrapped(text)
        found = lists_in(joined) if len(joined) <= text.count("\n") else found  # where a terminal broke some lines
    if found is None:
        return None
    named = zip(found.bursts, found.names, strict=True)
    return [press for lines, name in named for press in _presses_of(Burst(lines, name))], found.others


def _evenly_set(bursts: Sequence[Sequence[tuple[int, list[str]]]]) -> bool:
    """Whether whoever wrote lists wrapped them, after so many durations each: no terminal did."""
    filled = [len(words) for burst in bursts for _, words in burst[:-1]]
    return len(filled) >= FEWEST_WRAPPED and len(set(filled)) == 1


def _on_lines(text: str, source: object) -> tuple[list[Burst], list[int]]:
    """Bursts between blank lines, and the numbers of the lines that are prose."""
    text = _without_remarks(text)
    if (counted := _counted(text)) is not None:
        return counted, []
    if COLUMN.fullmatch(text):
        return [Burst([(1, text.translate(SEPARATORS).split())], column=True)], []
    bursts, passed_over = _bursts_of_lines(unwrapped(text), source)
    return [press for burst in bursts for press in _presses_of(burst)], passed_over


def _counted(text: str) -> list[Burst] | None:
    """Bursts of numbers alone, before each of which stands how many they are; None where nothing is counted so."""
    words = text.translate(SEPARATORS).split() if NOTHING_ELSE.fullmatch(text) else []
    bursts: list[Burst] = []
    at = 0
    while at < len(words):
        count = int(words[at]) if words[at].isdecimal() and len(words[at]) < LONG_NUMBER else 0
        if count < FEWEST or at + count >= len(words):
            return None
        bursts.append(Burst([(1, words[at + 1 : at + 1 + count])]))
        at += 1 + count
    return bursts or None


def _without_remarks(text: str) -> str:
    """Without block comments, each line where it was."""
    return BLOCK_COMMENT.sub(lambda found: "\n" * found[0].count("\n"), text) if "/*" in text else text


def _array_name(text: str, array: re.Match[str]) -> str:
    named = NAMED.search(text[max(array.start() - BEFORE_ARRAY, 0) : array.start()])
    return named[1] if named else ""


def _array_lines(text: str, array: re.Match[str]) -> list[tuple[int, list[str]]]:
    first = text.count("\n", 0, array.start(1)) + 1
    words = (UNIT.sub("", COMMENT.sub("", line)).translate(SEPARATORS).split() for line in array[1].splitlines())
    return [(number, line) for number, line in enumerate(words, first) if line]


def _bursts_of_lines(lines: list[tuple[int, str]], source: object) -> tuple[list[Burst], list[int]]:
    """Lines to bursts. Prompts and times of day are taken off, prose is passed over if there are durations as well."""
    bursts = [Burst([])]
    prose: list[tuple[int, str]] = []
    before: re.Match[str] | None = None
    for number, line in lines:
        if ":" in line and (stamp := STAMP.match(line)) is not None:
            passed_s = seconds_of(stamp) - (seconds_of(before) if before is not None else np.inf)
            # Without decimals, seconds are one apart at any time.
            if passed_s > (1.0 if stamp[3].isdigit() else PRESSES_APART_S) and bursts[-1].lines:
                bursts.append(Burst([]))
            before = stamp
        words = _words_of(line)
        if not words:
            if not COMMENT.search(line) and bursts[-1].lines:
                bursts.append(Burst([]))
            continue
        if is_number(words[0]) or words[0].lower() in WORDS:
            bursts[-1].lines.append((number, words))
            continue
        if bursts[-1].lines and names_levels(bursts[-1].lines) and len(words) == 2 and is_number(words[1]):
            raise InputError(source, f'"{words[0][:40]}" is neither a mark nor a space', f"line {number}")
        prose.append((number, words[0]))
        if bursts[-1].lines:
            bursts.append(Burst([]))
    if prose and not any(burst.lines for burst in bursts):
        wrong = f'"{prose[0][1][:40]}" is no duration: marks and spaces in turn are wanted, in µs'
        raise InputError(source, wrong, f"line {prose[0][0]}")
    return bursts, [number for number, _ in prose]


def _words_of(line: str) -> list[str]:
    """A line's words, without prompts, times of day, units and comments."""
    if not NOTHING_ELSE.fullmatch(line):
        line = UNIT.sub("", PROMPT.sub("", NICKNAME.sub("", TIME_OF_DAY.sub("", COMMENT.sub("", line)))))
    return line.translate(SEPARATORS).split()


def _presses_of(burst: Burst) -> list[Burst]:
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
