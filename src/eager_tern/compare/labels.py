"""Labels as a table: a row a capture or a press of one, a column for each thing that was varied."""

from __future__ import annotations

import math
from typing import Literal

from eager_tern.compare.stack import Label
from eager_tern.errors import InputError
from eager_tern.tables import table_rows

FILE_COLUMN, PRESS_COLUMN = "file", "press"

Row = dict[str, Label]
Counted = Literal["files", "presses", "rows"]
Capture = tuple[str, int]  # a file's name, and which of its presses, from 0


def parse_labels(
    text: str, source: object, only: str | None = None
) -> tuple[list[str], dict[Capture, Row], list[str], Counted]:
    """What was varied, each press's labels in the order of the rows (an empty cell is None), what is odd, in words, and
    what a row stands for: a file, a press that is numbered, or one press of a file after the other.

    ``only`` is the capture that a table speaks of which names none: its rows are numbered by a column ``press``, or in
    order. Where two rows say different things of a press, neither is believed. Raises InputError that names the line:
    for a table without a column ``file`` where there are several captures, without rows, or with a row longer than the
    header.
    """
    lines = table_rows(text, source)
    if not lines or (FILE_COLUMN not in lines[0][1] and only is None):
        raise InputError(source, f'has no column "{FILE_COLUMN}" that names the captures', "line 1")
    header = lines[0][1]
    counted: Counted = "presses" if PRESS_COLUMN in header else "files" if FILE_COLUMN in header else "rows"
    names = [name for name in header if name and name not in (FILE_COLUMN, PRESS_COLUMN)]
    if len(set(names)) != len(names):
        raise InputError(source, "two columns have one name", "line 1")
    rows: dict[Capture, Row] = {}
    words = []
    for number, cells in lines[1:]:
        if len(cells) > len(header):
            raise InputError(source, f"{len(cells)} columns under a header of {len(header)}", f"line {number}")
        cells += [""] * (len(header) - len(cells))
        said = dict(zip(header, cells, strict=True))
        capture = _capture(said, only, len(rows) if counted == "rows" else 0, source, number)
        row: Row = {name: said[name] or None for name in names}
        before = rows.setdefault(capture, row)
        if before is not row:
            differing = [name for name in names if before[name] != row[name]]
            left_out = f"; what differs is left out: {', '.join(differing)}" if differing else ""
            words.append(f"{source}: line {number}: {named(capture)} has labels twice{left_out}")
            before.update(dict.fromkeys(differing))
    if not rows:
        raise InputError(source, "has no rows under its header")
    for name in names:
        _as_numbers(rows, name)
    return names, rows, words, counted


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
    try:
        found = {file: float(str(row[name])) for file, row in rows.items() if row[name] is not None}
    except ValueError:
        return
    if not all(map(math.isfinite, found.values())):  # "nan" and "inf" are words like others
        return
    for file, number in found.items():
        rows[file][name] = number
