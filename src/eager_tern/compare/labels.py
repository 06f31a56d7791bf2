"""Labels as a table: a row a capture or a press of one, a column for each thing that was varied."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from itertools import pairwise
from statistics import median
from typing import Literal, NamedTuple

from eager_tern.compare.quantities import numbers_in
from eager_tern.compare.stack import Label
from eager_tern.errors import InputError
from eager_tern.tables import table_rows

FILE_COLUMN, PRESS_COLUMN, TIME_COLUMN = "file", "press", "time"
MOST_NAMED = 4  # lines in one sentence

Row = dict[str, Label]
Counted = Literal["files", "presses", "rows", "times"]
Capture = tuple[str, int]  # a file's name, and which of its presses, from 0


class Labels(NamedTuple):
    """A table of labels: what was varied, each press's labels in the order of the rows (an empty cell is None), what is
    odd, in words, and what a row stands for: a file, a press that is numbered, one press of a file after the other, or
    the press nearest to a time. Then the presses are not known yet: rows are counted, and ``times_s`` says when."""

    names: list[str]
    rows: dict[Capture, Row]
    words: list[str]
    counted: Counted
    times_s: dict[Capture, float]


def parse_labels(text: str, source: object, only: str | None = None) -> Labels:
    """The table that a text is.

    ``only`` is the capture that a table speaks of which names none: its rows are numbered by a column ``press``, told
    by a column ``time`` (seconds from the start of the take), or in order. Where two rows say different things of a
    press, neither is believed. Raises InputError that names the line: for a table without a column ``file`` where there
    are several captures, without rows, or with a row longer than the header.
    """
    lines = table_rows(text, source)
    if not lines or (FILE_COLUMN not in lines[0][1] and only is None):
        raise InputError(source, f'has no column "{FILE_COLUMN}" that names the captures', "line 1")
    header = lines[0][1]
    counted = _counted(header)
    names = [name for name in header if name and name not in (FILE_COLUMN, PRESS_COLUMN)]
    if counted == "times":
        names.remove(TIME_COLUMN)
    if len(set(names)) != len(names):
        raise InputError(source, "two columns have one name", "line 1")
    rows: dict[Capture, Row] = {}
    times_s: dict[Capture, float] = {}
    twice: list[str] = []
    for number, cells in lines[1:]:
        if len(cells) > len(header):
            raise InputError(source, f"{len(cells)} columns under a header of {len(header)}", f"line {number}")
        cells += [""] * (len(header) - len(cells))
        said = dict(zip(header, cells, strict=True))
        capture = _capture(said, only, len(rows) if counted in ("rows", "times") else 0, source, number)
        if counted == "times":
            times_s[capture] = _seconds(said[TIME_COLUMN], source, number)
        row: Row = {name: said[name] or None for name in names}
        before = rows.setdefault(capture, row)
        if before is not row:
            differing = [name for name in names if before[name] != row[name]]
            left_out = f" (what differs is left out: {', '.join(differing)})" if differing else ""
            twice.append(f"{named(capture)} in line {number}{left_out}")
            before.update(dict.fromkeys(differing))
    if not rows:
        raise InputError(source, "has no rows under its header")
    for name in names:
        _as_numbers(rows, name)
    return Labels(names, rows, [f"{source}: labelled twice: {listed(twice)}"] if twice else [], counted, times_s)


def listed(things: Sequence[str]) -> str:
    """Some things in a sentence: the first few, and how many more there are."""
    more = f" and {len(things) - MOST_NAMED} more" if len(things) > MOST_NAMED else ""
    return ", ".join(things[:MOST_NAMED]) + more


def at_times(found: Labels, starts_s: Mapping[str, Sequence[float | None]], source: object) -> Labels:
    """The table with each row given to the press nearest to its time, if that is no farther off than presses are apart.

    ``starts_s`` says of each file's presses when they began; None for one that holds nothing to compare.
    """
    rows: dict[Capture, Row] = {}
    nearest: dict[Capture, float] = {}
    far: list[str] = []
    for capture, row in found.rows.items():
        known = [(at, n) for n, at in enumerate(starts_s.get(capture[0], ())) if at is not None]
        apart = median(b - a for (a, _), (b, _) in pairwise(known)) if len(known) > 1 else math.inf
        off, press = min(((abs(at - found.times_s[capture]), n) for at, n in known), default=(math.inf, 0))
        there = (capture[0], press)
        if off > apart or off == math.inf:
            far.append(f"{found.times_s[capture]:g} s")
        elif off < nearest.get(there, math.inf):  # of two readings of a display, the one at the time of the press
            rows[there], nearest[there] = row, off
    words = [f"{source}: no press near {listed(far)}"] if far else []
    return Labels(found.names, rows, [*found.words, *words], "presses", {})


def _counted(header: Sequence[str]) -> Counted:
    if PRESS_COLUMN in header:
        return "presses"
    if TIME_COLUMN in header:
        return "times"
    return "files" if FILE_COLUMN in header else "rows"


def _seconds(text: str, source: object, line: int) -> float:
    try:
        seconds = float(text)
    except ValueError:
        seconds = math.nan
    if not math.isfinite(seconds):
        why = f'"{text}" is no time; times are seconds from the start of the take'
        raise InputError(source, why, f"line {line}")
    return seconds


def named(capture: Capture) -> str:
    """A capture as it is called in words."""
    file, press = capture
    return f'"{file}", press {press}' if press else f'"{file}"'


def _capture(said: dict[str, str], only: str | None, in_order: int, source: object, line: int) -> Capture:
    """Which press of which file a row speaks of."""
    file = said.get(FILE_COLUMN, only or "")
    if not file:
        raise InputError(source, "names no capture", f"line {line}")
    press = said.get(PRESS_COLUMN, "") or str(in_order)
    if not press.isdecimal():
        raise InputError(source, f'"{press}" is no number of a press; they are counted from 0', f"line {line}")
    return file, int(press)


def _as_numbers(rows: dict[Capture, Row], name: str) -> None:
    """Turn a column into numbers, if it holds nothing else."""
    said = {capture: str(row[name]) for capture, row in rows.items() if row[name] is not None}
    for capture, number in zip(said, numbers_in(list(said.values())) or (), strict=False):
        rows[capture][name] = number
