"""Lines that a terminal of fixed width broke, put together again."""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from eager_tern.formats.lists import COUNTER, each_a_press
from eager_tern.formats.numbers import is_number
from eager_tern.formats.rows import COMMENT, SEPARATORS, TERMINAL_CODES, TIME_OF_DAY, UNIT
from eager_tern.signal.values import Floats

NARROWEST_TERMINAL, WIDEST_TERMINAL = 60, 250  # columns
CONTINUES = re.compile(r"[\d\s,;+-]+(?:$|[^:])")
SAME_LENGTH = 0.15  # of a duration, to another of its kind
INNER = re.compile(r"(?<=[\s,;])\d+(?:\.\d+)?(?=[\s,;])")  # numbers that no line's end can have cut
FIRST = re.compile(r"\d+(?:\.\d+)?(?=[\s,;])")


def unwrapped(text: str) -> list[tuple[int, str]]:
    """Numbered lines, those put together again that a terminal of fixed width broke, even within a number."""
    lines = [line.rstrip("\r") for line in TERMINAL_CODES.sub("", text).split("\n")]
    width = max(map(len, lines), default=0)
    if not NARROWEST_TERMINAL <= width <= WIDEST_TERMINAL or not _are_broken(lines, width):
        return list(enumerate(lines, 1))
    there = _lengths_in(lines)
    full = [(a, b) for a, b in pairwise(lines) if len(a) == width and _may_go_on(a) and CONTINUES.match(b)]
    if all(_are_two(a, b, there) for a, b in full):  # no terminal breaks every line between two durations
        return list(enumerate(lines, 1))
    joined: list[tuple[int, str]] = []
    goes_on = False
    for number, line in enumerate(lines, 1):
        if goes_on and line.strip() and CONTINUES.match(line) and not TIME_OF_DAY.match(line):
            glue = " " if line[0] in "+-" or _are_two(joined[-1][1], line, there) else ""
            if glue and line[0] == (re.findall(r"[+-]", joined[-1][1]) or " ")[-1]:  # a mark follows on a mark
                joined.append((number, line))
                continue
            joined[-1] = (joined[-1][0], joined[-1][1] + glue + line)
        else:
            joined.append((number, line))
        goes_on = len(line) == width and _may_go_on(line)
    return joined


def _may_go_on(line: str) -> bool:
    return line[-1:].isdigit() or line[-1:].isspace() or line[-1:] in ",;+-"


def _are_two(before: str, line: str, there: Floats) -> bool:
    """Whether a line ends with a duration and the next begins with another, rather than with the rest of the same."""
    end, start = re.search(r"[\d.]+$", before), re.match(r"[\d.]+", line)
    if end is None or start is None or not is_number(end[0]) or not is_number(start[0]):
        return False

    def is_there(value: float) -> bool:
        return bool(np.any(np.abs(there - value) < SAME_LENGTH * value))

    last, first = float(end[0]), float(start[0])
    if not is_there(first):
        return False
    if last == 0 or last > there.max(initial=0.0):  # a silence, measured or not
        return True
    joined = end[0] + start[0]
    return is_there(last) and not (is_number(joined) and is_there(float(joined)))


def _lengths_in(lines: Sequence[str]) -> Floats:
    """Durations that no line's end can have cut, and those that several lines begin with: each begins a press."""
    inside = [float(word) for line in lines for word in INNER.findall(line)]
    firsts = np.array([float(word[0]) for line in lines if (word := FIRST.match(line)) is not None])
    alike = np.abs(firsts[:, None] - firsts) < SAME_LENGTH * firsts
    return np.concatenate((inside, firsts[alike.sum(axis=0) > 1]))


def _are_broken(lines: Sequence[str], width: int) -> bool:
    """Whether lines end where a terminal of that width does, and neither whole presses nor a table are on them."""
    filled = [len(line.translate(SEPARATORS).split()) for line in lines if len(line) == width]
    evenly_set = len(set(filled)) == 1 and len(filled) > max(2, len(lines) / 2)
    counted = sum(COUNTER.match(line) is not None for line in lines if len(line) == width)
    if len(filled) < 2 or evenly_set or counted > len(filled) / 2:
        return False
    rows = [COMMENT.sub("", UNIT.sub("", line)).translate(SEPARATORS).split() for line in lines]
    return not each_a_press([row for row in rows if row and all(map(is_number, row))])
