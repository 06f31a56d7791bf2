"""Lists of durations on lines: runs of numbers that are parted alike, whatever stands before and behind them.

What stands between the first two numbers stands between all of a list. So a counter before it ("3: 9000, 4500"), a tag,
a time of day or a remark behind it is told from its durations without knowing who prints such lines.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cache
from itertools import chain, pairwise

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.formats.numbers import is_number
from eager_tern.formats.rows import NUMBER, SHORTEST_US, TERMINAL_CODES, TIME_OF_DAY, WORD

FEWEST = 6  # numbers that are a list rather than a few facts
SHORTEST_FRAME = 3  # a repeat is a mark, a space and a mark
MOST_ELSEWHERE = 1.0  # digits that stand elsewhere for each in a list: with more, something else is logged
RISING = 0.9  # of the steps in a list: times or a counter, and no durations

US = r"(?:[ ]?(?:usec|us|µs|μs)(?!\w))?"
ITEM = rf"(?:[mMsS]:?)?{NUMBER}(?![\d.]){US}"
GAPS = {sign: rf"[ \t]*{re.escape(sign)}[ \t]*" for sign in ",;|/"} | dict.fromkeys(" \t", r"[ \t]+")
LONGEST_NAME = 24  # letters; more is prose
NO_NAME = re.compile(r"\([^)]*\)|\[[^\]]*\]|\{|\}|\b0x\w+")  # a size, a place, a bracket of the list itself, a code
COUNTED = {
    "press", "presses", "frame", "signal", "capture", "recording", "code", "raw", "data", "sample", "reading", "button",
    "key", "line", "record", "no", "nr", "ir", "rx", "message", "packet", "burst", "len", "length", "edges", "timings",
    "pulses", "count", "decoded", "value", "gap", "index", "n", "run", "try", "take", "block", "part", "us", "ms",
}  # fmt: skip
DIGITS = re.compile(r"\d+")
LEADER = re.compile(r"\b(?:leader|header|hdr|preamble|start|sync|agc)\b", re.IGNORECASE)
SAID = re.compile(rf"^\s*(?:#|//)|{LEADER.pattern}", re.IGNORECASE)  # lines that are not merely passed over
QUOTED = re.compile(r"^(?:\s*>)+|^\+(?=\s{2,}\d)")  # as mails and listings of changes do
COUNTER = re.compile(
    r"\s*[\[(#]?\s*(\d[\da-f]*|[a-f]+\d[\da-f]*)\s*[\])]?\s*(?:[:)>=]|->|\.(?!\d)|\|(?!.*\|))\s*", re.IGNORECASE
)
SHORT_RUN = re.compile(rf"\s*({ITEM}(?:[ \t,;|/]+{ITEM})*)[\s\])}},;.|]*(?:(?://|#|\().*)?")
DURATION = re.compile(r"([mMsS]?):?([-+]?)(\d+(?:\.\d+)?)")
SIGN_OF = {"m": "+", "s": "-"}

LONG_LINE = 15  # durations: a list that was only wrapped has fewer on a line, or an even number
LONGEST_WRAPPED = 20  # durations: no list is wrapped after more of them, and an odd number
OF_ONE_CODE = 5.0  # between the marks that a code's symbols begin with
ALIKE = 2.2  # between the first marks of one gadget's presses: bi-phase begins with one half bit or with two


class Listed(Struct, frozen=True):
    """A line's durations as words; marks and spaces that are named by letters have a sign. ``counter`` is what stands
    before them if nothing else does, ``tag`` what stands there if words do.
    """

    line: int
    words: list[str]
    counter: str | None
    tag: str = ""


Lines = list[tuple[int, list[str]]]  # each with its number


class Lists(Struct, frozen=True):
    """Bursts of lines of durations, what each of them is called ("" where they are only counted), and the numbers of
    the lines that say something else.
    """

    bursts: list[Lines]
    names: list[str]
    others: list[int]


def lists_in(lines: Sequence[tuple[int, str]]) -> Lists | None:
    """The lists on some lines; None where lists are not what the text is about."""
    plain = [(number, _plain(line)) for number, line in lines]
    bursts, before = _gathered(plain)
    inside = {each.line for burst in bursts for each in burst}
    others = [(number, line) for number, line in plain if number not in inside]
    elsewhere = sum(sum(map(str.isdigit, line)) for _, line in others)
    words = [[word for each in burst for word in each.words] for burst in bursts]
    if not bursts or elsewhere > MOST_ELSEWHERE * sum(map(len, chain.from_iterable(words))):
        return None
    if not all(map(are_durations, words)):
        return None
    if len(bursts) == 1 and _tell_apart([_name(each.tag) for each in bursts[0]]):
        bursts = [[each] for each in bursts[0]]  # each line says what it is
        before = [""] * len(bursts)
    names = [_name(burst[0].tag) for burst in bursts]
    names = names if _tell_apart(names) else list(map(_name, before))
    prose = [n for n, line in others if any(map(str.isalpha, line)) and not SAID.search(line)]
    lists = [[(each.line, each.words) for each in burst] for burst in bursts]
    return Lists(lists, names if _tell_apart(names) else [""] * len(lists), prose)


def _gathered(lines: Sequence[tuple[int, str]]) -> tuple[list[list[Listed]], list[str]]:
    """Lists that belong together, and what stands on the line before each burst of them."""
    found = [_list_on(number, line) for number, line in lines]
    all_tagged = all(each.tag for each in found if each is not None)
    bursts: list[list[Listed]] = []
    before: list[str] = []
    leader: list[str] = []  # that stands on lines of its own before a list
    said, ended = "", True  # on the line before; whether the next list begins a burst
    for (number, line), listed in zip(lines, found, strict=True):
        one = listed
        if listed is not None:
            goes_on = not ended and not _is_whole(bursts[-1]) and _goes_on(listed, bursts[-1][-1], all_tagged)
            one = replace(listed, words=[*_whole(leader, listed.words), *listed.words])
        elif bursts and (one := _rest_on(number, line, bursts[-1], ended)) is not None:
            goes_on = not ended and _ends(one, bursts[-1])
        if one is None:
            leader = [*leader, *_words(line)] if LEADER.search(line) else []
            said, ended = line, True
            continue
        if not goes_on:
            bursts.append([])
            before.append(said)
        bursts[-1].append(one)
        leader, said, ended = [], "", False
    return bursts, before


def _plain(line: str) -> str:
    """A line without what terminals, mails and loggers put before it."""
    if not line.isprintable():
        line = TERMINAL_CODES.sub("", line)
    if ">" in line or line[:1] == "+":
        line = QUOTED.sub("", line)
    return TIME_OF_DAY.sub("", line) if ":" in line else line


@cache  # a text that is nothing but numbers needs none of them
def _run_with(sign: str) -> re.Pattern[str]:
    """A run of numbers with a sign between each two."""
    return re.compile(rf"(?<![\w.#+-]){ITEM}(?:{GAPS[sign]}{ITEM}){{{FEWEST - 1},}}(?!\w)")


def _list_on(number: int, line: str) -> Listed | None:
    """The longest list on a line."""
    runs = [run for sign in GAPS if line.count(sign) >= FEWEST - 1 and (run := _run_with(sign).search(line))]
    if not runs:
        return None
    run = max(runs, key=lambda run: len(run[0]))
    before = line[: run.start()]
    counter = COUNTER.fullmatch(before)
    words = _words(run[0])
    leader = _whole(_words(before), words) if LEADER.search(before) else []
    tag = before if counter is None and any(map(str.isalpha, before)) else ""
    return Listed(number, [*leader, *words], counter[1] if counter else None, tag)


def _rest_on(number: int, line: str, burst: Sequence[Listed], ended: bool) -> Listed | None:
    """Fewer durations than a list by itself has: the last of a list that was wrapped, or a short frame. Nothing stands
    before them but a counter, or what stood before the list.
    """
    tag, counter = _same_tag(line, burst[-1].tag), COUNTER.match(line)
    run = SHORT_RUN.fullmatch(line, len(tag) or (counter.end() if counter is not None else 0))
    if run is None:
        return None
    rest = Listed(number, _words(run[1]), counter[1] if counter is not None and not tag else None, tag)
    is_frame = len(rest.words) >= SHORTEST_FRAME and len(rest.words) % 2 == 1
    return rest if is_frame or (not ended and _ends(rest, burst)) else None


def _same_tag(line: str, tag: str) -> str:
    """What a line begins with, if a tag is that, but for the digits in it."""
    begins = re.match(r"\d+".join(map(re.escape, DIGITS.split(tag))), line) if tag else None
    return begins[0] if begins is not None else ""


def _is_whole(burst: Sequence[Listed]) -> bool:
    """Whether a list that was wrapped after so many durations has come to its end: a shorter line, and a mark."""
    *full, last = [len(each.words) for each in burst]
    return len(set(full)) == 1 and last < full[0] and (sum(full) + last) % 2 == 1


def _ends(rest: Listed, burst: Sequence[Listed]) -> bool:
    """Whether these are the last durations of a burst: it was wrapped after so many, and they are counted on."""
    before = burst[-1]
    wrapped = len(before.words) % 2 == 0 or (len(burst) > 1 and len(burst[-2].words) == len(before.words))
    return wrapped and len(rest.words) < len(before.words) and _follows(rest, before)


def _goes_on(listed: Listed, before: Listed, all_tagged: bool) -> bool:
    """Whether a list may be the rest of the one on the line before: what stands before it says nothing else."""
    if listed.tag and not (all_tagged and DIGITS.sub("", listed.tag) == DIGITS.sub("", before.tag)):
        return False
    return _follows(listed, before)


def _name(text: str) -> str:
    """What a tag or a line calls the list behind it."""
    name = " ".join(NO_NAME.sub(" ", text).split()).strip("#/:=>-*.,| \"'`")
    return name if 1 < len(name) <= LONGEST_NAME and any(map(str.isalpha, name)) else ""


def _tell_apart(names: Sequence[str]) -> bool:
    """Whether names say what the lists are: several, and not only how many there are ("press 1", "press 2")."""
    words = {DIGITS.sub("", name).strip().lower() for name in names}
    if "" in words or len(set(names)) < 2:
        return False
    return len(words) > 1 or not COUNTED & set(WORD.findall(next(iter(words))))


def _follows(listed: Listed, before: Listed) -> bool:
    """Whether what counts the lines, or the durations on them, goes on."""
    if listed.counter is None or before.counter is None:
        return listed.counter is before.counter or bool(listed.tag or before.tag)
    bases = (10, 16) if (listed.counter + before.counter).isdecimal() else (16,)
    return any(int(listed.counter, b) - int(before.counter, b) in (1, len(before.words)) for b in bases)


def _whole(leader: list[str], words: list[str]) -> list[str]:
    """The durations of a leader, if they are marks and spaces in turn; with signs, if what follows has them."""
    shortest = min(abs(float(word)) for word in words) / 2
    if len(leader) % 2 or any(abs(float(word)) < shortest for word in leader):  # "header 2 of 2"
        return []
    signs = "+-" if words[0][0] in "+-" and leader and leader[0][0] not in "+-" else ("", "")
    return [signs[at % 2] + word for at, word in enumerate(leader)]


def _words(run: str) -> list[str]:
    return [SIGN_OF.get(letter.lower(), sign) + number for letter, sign, number in DURATION.findall(run)]


def bare_lists(lines: Lines) -> Lines:
    """Lines of lists without what is none of their durations: a counter or their count in front that only a blank
    parts from them, levels that take turns with them, a nought for a silence that was not measured.
    """
    firsts = [words[0] for _, words in lines]
    if all(map(str.isdigit, firsts)):
        steps = [int(b) - int(a) for a, b in pairwise(firsts)]
        widths = [len(words) - 1 for _, words in lines]
        counted = len(lines) > 2 and int(firsts[0]) < SHORTEST_US and (set(steps) == {1} or steps == widths[:-1])
        if counted or all(int(first) == width for first, width in zip(firsts, widths, strict=True)):
            lines = [(number, words[1:]) for number, words in lines]
    return [(number, _measured(_without_levels(words))) for number, words in lines]


def _without_levels(words: list[str]) -> list[str]:
    for first in (0, 1):
        levels, durations = words[first::2], words[1 - first :: 2]
        if {*levels[:2]} == {"0", "1"} and len(levels) == len(durations) >= FEWEST:
            takes_turns = {*levels[0::2]} == {levels[0]} and {*levels[1::2]} == {levels[1]}
            return durations if takes_turns else words
    return words


def _measured(words: list[str]) -> list[str]:
    if len(words) <= FEWEST:
        return words
    first, last = (is_number(words[at]) and float(words[at]) == 0 for at in (0, -1))
    return words[first : len(words) - last]


def are_durations(words: Sequence[str]) -> bool:
    """Neither levels, one a poll, nor the times of edges."""
    values = np.array([float(word) for word in words])
    return not np.isin(np.abs(values), (0, 1)).all() and float(np.mean(np.diff(values) > 0)) < RISING


def each_a_press(rows: Sequence[Sequence[str]]) -> bool:
    """Whether rows of unsigned durations all begin with a mark and end with one, and begin alike: if all are equally
    long, and longer than a line that is wrapped, as alike as a code's symbols.
    """
    if not rows or not all(len(row) % 2 and len(row) >= LONG_LINE for row in rows):
        return False
    firsts = [float(row[0]) for row in rows]
    as_long = len({*map(len, rows)}) == 1 and len(rows[0]) > LONGEST_WRAPPED
    return 0 < max(firsts) < (OF_ONE_CODE if as_long else ALIKE) * min(firsts)
