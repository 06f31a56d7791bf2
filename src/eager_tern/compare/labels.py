"""Labels as a table: a row a capture, a column for each thing that was varied."""

from __future__ import annotations

import math

from eager_tern.compare.stack import Label
from eager_tern.errors import InputError
from eager_tern.tables import table_rows

FILE_COLUMN = "file"

Row = dict[str, Label]


def parse_labels(text: str, source: object) -> tuple[list[str], dict[str, Row], list[str]]:
    """What was varied, each file's labels in the order of the rows (an empty cell is None), and what is odd, in words.

    Where two rows say different things of a file, neither is believed. Raises InputError that names the line: for a
    table without a column ``file``, without rows, or with a row longer than the header.
    """
    lines = table_rows(text, source)
    if not lines or FILE_COLUMN not in lines[0][1]:
        raise InputError(source, f'has no column "{FILE_COLUMN}" that names the captures', "line 1")
    header = lines[0][1]
    at = header.index(FILE_COLUMN)
    names = [name for name in header if name and name != FILE_COLUMN]
    if len(set(names)) != len(names):
        raise InputError(source, "two columns have one name", "line 1")
    rows: dict[str, Row] = {}
    words = []
    for number, cells in lines[1:]:
        if len(cells) > len(header):
            raise InputError(source, f"{len(cells)} columns under a header of {len(header)}", f"line {number}")
        cells += [""] * (len(header) - len(cells))
        if not cells[at]:
            raise InputError(source, "names no capture", f"line {number}")
        row: Row = {name: cell or None for name, cell in zip(header, cells, strict=True) if name in names}
        before = rows.setdefault(cells[at], row)
        if before is not row:
            differing = [name for name in names if before[name] != row[name]]
            left_out = f"; what differs is left out: {', '.join(differing)}" if differing else ""
            words.append(f'{source}: line {number}: "{cells[at]}" has labels twice{left_out}')
            before.update(dict.fromkeys(differing))
    if not rows:
        raise InputError(source, "has no rows under its header")
    for name in names:
        _as_numbers(rows, name)
    return names, rows, words


def _as_numbers(rows: dict[str, Row], name: str) -> None:
    """Turn a column into numbers, if it holds nothing else."""
    try:
        found = {file: float(str(row[name])) for file, row in rows.items() if row[name] is not None}
    except ValueError:
        return
    if not all(map(math.isfinite, found.values())):  # "nan" and "inf" are words like others
        return
    for file, number in found.items():
        rows[file][name] = number
