"""Level CSV: a time column with its unit, then a column of levels or volts for each channel."""

from __future__ import annotations

import csv
import io
import re
import warnings
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np

from eager_tern.errors import InputError
from eager_tern.formats.capture import Capture
from eager_tern.formats.numbers import is_number
from eager_tern.signal.threshold import edges_of_samples
from eager_tern.signal.values import Edges, Floats, Pulses

NAME = "level-csv"
SUFFIXES = (".csv",)

UNITS_US = {"s": 1e6, "sec": 1e6, "seconds": 1e6, "ms": 1e3, "us": 1.0, "µs": 1.0, "μs": 1.0, "ns": 1e-3}
TIME_HEADER = re.compile(r"^\s*(?:time|t|timestamp)\b[\s_\[(/]*([a-zµμ]*)[\])\s]*$", re.IGNORECASE)
TIME_WITH_UNIT = re.compile(r"^\s*(?:time|t)_([a-zµμ]+)\s*$", re.IGNORECASE)
TITLE = re.compile(r"^[\w \[\]()/.%°-]*[^\W\d_][\w \[\]()/.%°-]*$")
DELIMITERS = ",;\t"
REST_US = 100_000.0  # silence written behind the pulses, so that polarity can be told


@dataclass(frozen=True)
class _Header:
    line: int
    delimiter: str
    names: list[str]


def recognises(head: bytes) -> bool:
    """Text that begins with a header of several columns, or a table of numbers that lacks one."""
    try:
        text = head.decode("utf-8-sig", errors="strict" if len(head) < 4096 else "ignore")
    except UnicodeDecodeError:
        return False
    return "\0" not in text and (_header(text) is not None or _is_table(text))


def _is_table(text: str) -> bool:
    """Rows of numbers whose first column rises: a table that has lost its header."""
    rows = [line.split(",") for line in text.splitlines()[:12] if line.strip()][:-1]
    if len(rows) < 4 or len({len(row) for row in rows}) != 1 or len(rows[0]) < 2:
        return False
    if not all(is_number(cell) for row in rows for cell in row):
        return False
    first = [float(row[0]) for row in rows]
    return all(a < b for a, b in pairwise(first))


def _header(text: str) -> _Header | None:
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        delimiter = max(DELIMITERS, key=line.count)
        names = next(csv.reader([line], delimiter=delimiter))
        titles = [bool(TITLE.match(name)) and not is_number(name) for name in names if name.strip()]
        return _Header(number, delimiter, names) if len(names) > 1 and all(titles) else None
    return None


def read(path: Path) -> list[Capture]:
    """One capture a channel. Raises InputError with the row."""
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(path, "is not text", f"byte {error.start}") from None
    header = _header(text)
    if header is None:
        raise InputError(path, "has no header with a time column", "line 1")
    column, scale = _time_column(header, path)
    table = _numbers(text, header, path)
    times = (table[:, column] - table[0, column]) * scale
    if np.any(np.diff(times) < 0):
        row = int(np.argmax(np.diff(times) < 0)) + 2
        raise InputError(path, "time runs backwards", f"line {header.line + row}")
    channels = [i for i in range(table.shape[1]) if i != column]
    if not channels:
        raise InputError(path, "has a time column but no column of levels", f"line {header.line}")
    return [_capture(path, number, times, table[:, i]) for number, i in enumerate(channels)]


def _time_column(header: _Header, path: Path) -> tuple[int, float]:
    for i, name in enumerate(header.names):
        found = TIME_WITH_UNIT.match(name) or TIME_HEADER.match(name)
        if found and (unit := found[1].lower()) in UNITS_US:
            return i, UNITS_US[unit]
        if found:
            reason = f'the time column "{name.strip()}" does not name its unit: time_s, time_ms, time_us or time_ns'
            raise InputError(path, reason, f"line {header.line}")
    raise InputError(path, "has no time column: time_s, time_ms, time_us or time_ns", f"line {header.line}")


def _numbers(text: str, header: _Header, path: Path) -> Floats:
    body = "\n".join(text.splitlines()[header.line :])
    if not body.strip():
        raise InputError(path, "has a header but no rows")
    if header.delimiter == ";":
        body = body.replace(",", ".")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", UserWarning)  # nothing but comments is told below
            table = np.loadtxt(io.StringIO(body), delimiter=header.delimiter, ndmin=2, comments="#", quotechar='"')
    except ValueError as error:
        found = re.search(r"(.*?) at row (\d+)", str(error))
        # NumPy counts rows from 0 where a value is wrong, from 1 where the number of columns is.
        row = int(found[2]) + ("columns" not in found[1]) if found else 0
        place = f"line {header.line + row}" if found else ""
        raise InputError(path, f"{found[1] if found else error}", place) from None
    if table.size == 0:
        raise InputError(path, "has a header but no rows")
    if table.shape[1] != len(header.names):
        raise InputError(path, f"{table.shape[1]} columns under a header of {len(header.names)}", f"line {header.line}")
    bad = ~np.isfinite(table).all(axis=1)
    if bad.any():
        raise InputError(path, "a value is not finite", f"line {header.line + int(np.argmax(bad)) + 1}")
    return np.asarray(table, dtype=np.float64)


def _capture(path: Path, number: int, times: Floats, values: Floats) -> Capture:
    rate = _sample_rate(times)
    digital = bool(np.isin(values, (0.0, 1.0)).all())
    if digital or rate is None:
        high = values > (values.min() + values.max()) / 2
        turns = np.flatnonzero(high[1:] != high[:-1]) + 1
        edges = Edges(times[turns], bool(high[0]), float(times[0]), float(times[-1]))
    else:
        edges = edges_of_samples([values.astype(np.float32)], rate)
    return Capture(str(path), NAME, number, rate, edges)


def _sample_rate(times: Floats) -> float | None:
    """The rate of rows that are samples; None where they are changes only."""
    if times.size < 16:
        return None
    steps = np.diff(times)
    usual = float(np.median(steps))
    if usual <= 0 or np.any(np.abs(steps - usual) > 0.1 * usual):
        return None
    return float((times.size - 1) / (times[-1] - times[0]) * 1e6)


def write(path: Path, pulses: Pulses) -> None:
    """The changes only, the line resting low, a mark high."""
    edges = pulses.edge_times_us
    levels = (np.arange(edges.size) + 1) % 2
    rows = [f"{t!r},{level}" for t, level in zip(edges.tolist(), levels.tolist(), strict=True)]
    first = ["0.0,0"] if pulses.start_us > 0 else []
    last = f"{float(edges[-1]) + REST_US!r},0"
    path.write_text("\n".join(["time_us,level", *first, *rows, last]) + "\n", "utf-8")
