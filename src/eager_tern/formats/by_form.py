"""Durations told by the form in which people write and paste them: arrays, lists, tables, lines."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import numpy as np

from eager_tern.errors import InputError
from eager_tern.formats.columns import columns_in
from eager_tern.formats.lists import FEWEST, bare_lists, lists_in
from eager_tern.formats.numbers import is_number
from eager_tern.formats.plain_words import in_plain_words
from eager_tern.formats.rows import (
    COMMENT,
    FEWEST_ROWS,
    SEPARATORS,
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
from eager_tern.formats.text_bursts import NUMBERS_ONLY, WORDS, Burst, marks_beside_spaces, names_levels, presses_of
from eager_tern.formats.unwrapped import unwrapped

BLOCK_COMMENT = re.compile(r"/\*.*?\*/", re.DOTALL)
ARRAY = re.compile(r"\{([^{}\"']*)\}")
NAMED = re.compile(r"(\w{1,200})\s*(?:\[[\w\s]{0,40}\])?(?:\s+PROGMEM)?\s*=\s*$")  # what stands before an array
LIST = re.compile(r"[\[(]([\s\d.,;+-]*)[\])]")
FEWEST_WRAPPED = 3  # lines of as many durations that no terminal breaks by chance
NICKNAME = re.compile(r"^\s*<[^<>\s]{1,40}>\s*|^\s*[\w.-]{1,30}@[\w.-]{1,30}[:~\w/.-]*[$#>]\s*|^\s*>+\s*")
STAMP = re.compile(r"^\D{0,3}(?:\d{4}-\d\d-\d\d[ T])?(\d{1,2}):(\d\d):(\d\d(?:[.,]\d+)?)(?![\d.:])")
PRESSES_APART_S = 0.3  # by a logger's clock: printing a line a duration takes a few milliseconds each
BEFORE_ARRAY = 300  # characters in which its name is looked for
TWO_ON_A_LINE = re.compile(r"\d[^\d\n.]+\d")  # numbers
NOTHING_ELSE = re.compile(r"[\s\d.,;+-]*")  # than numbers
COLUMN = re.compile(r"[+-]?\d[\d.]*[,;]?(?>\r?\n[+-]?\d[\d.]*[,;]?)*+\s*")  # a number a line, and no line is blank
PROMPT = re.compile(r"^\s*(?:>+|\$)\s+")
FEWEST_BEHIND_WORDS = 4  # numbers at the end of a line of words that are taken for its durations
LONG_NUMBER = 7  # digits: no text counts so many durations
OF_DURATIONS = re.compile(r"(?<![a-z])(?:marks?|spaces?|pulses?|gaps?|durations?|lengths?)(?![a-z])", re.IGNORECASE)


def by_form(text: str, source: object) -> tuple[list[Burst], list[int]]:
    """The bursts of a text, and the numbers of the lines passed over. Raises InputError with the line where there are
    words and no durations.
    """
    bursts, passed_over = (
        _in_columns(text) or _in_brackets(text) or _in_lists(text) or _in_rows(text) or _on_lines(text, source)
    )
    return marks_beside_spaces(bursts), passed_over


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
    return [press for lines, name in named for press in presses_of(Burst(lines, name))], found.others


def _evenly_set(bursts: Sequence[Sequence[tuple[int, list[str]]]]) -> bool:
    """Whether whoever wrote lists wrapped them, after so many durations each: no terminal did."""
    filled = [len(words) for burst in bursts for _, words in burst[:-1]]
    return len(filled) >= FEWEST_WRAPPED and len(set(filled)) == 1


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


def _on_lines(text: str, source: object) -> tuple[list[Burst], list[int]]:
    """Bursts between blank lines, and the numbers of the lines that are prose."""
    text = _without_remarks(text)
    if (counted := _counted(text)) is not None:
        return counted, []
    if COLUMN.fullmatch(text):
        return [Burst([(1, text.translate(SEPARATORS).split())], column=True)], []
    bursts, passed_over = _bursts_of_lines(unwrapped(text), source)
    return [press for burst in bursts for press in presses_of(burst)], passed_over


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
        behind = _numbers_behind(words)
        if not behind:
            prose.append((number, words[0]))
        if bursts[-1].lines:
            bursts.append(Burst([]))
        if behind:
            bursts[-1].lines.append((number, behind))
    if prose and not any(burst.lines for burst in bursts):
        wrong = f'"{prose[0][1][:40]}" is no duration: marks and spaces in turn are wanted, in µs'
        raise InputError(source, wrong, f"line {prose[0][0]}")
    return bursts, [number for number, _ in prose]


def _words_of(line: str) -> list[str]:
    """A line's words, without prompts, times of day, units and comments."""
    if not NOTHING_ELSE.fullmatch(line):
        line = UNIT.sub("", PROMPT.sub("", NICKNAME.sub("", TIME_OF_DAY.sub("", COMMENT.sub("", line)))))
    return line.translate(SEPARATORS).split()


def holds_a_list(text: str) -> bool:
    """Whether durations stand in brackets somewhere, whatever is written round them."""
    return any(_bracketed(text))


def holds_rows(text: str) -> bool:
    """Whether durations stand in rows of a table, whatever is written round them."""
    return _rows(in_plain_words(text)) is not None


def holds_frames(text: str) -> bool:
    """Whether whole frames stand in columns, or on lines, whatever is written round them."""
    return bool(columns_in(text)) or lists_in(list(enumerate(in_plain_words(text).splitlines(), 1))) is not None


def _numbers_behind(words: list[str]) -> list[str]:
    """The durations at the end of a line that begins with words."""
    count = 0
    for word in reversed(words):
        if not is_number(word):
            break
        count += 1
    return words[len(words) - count :] if count >= FEWEST_BEHIND_WORDS else []
