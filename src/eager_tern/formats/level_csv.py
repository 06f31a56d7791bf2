"""Level CSV: a time column with its unit, then a column of levels or volts for each channel."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from itertools import islice, pairwise
from pathlib import Path
from warnings import catch_warnings, simplefilter

import numpy as np
from msgspec import Struct

from eager_tern.errors import InputError
from eager_tern.formats import by_form, written
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.formats.encoded import decoded, text_of
from eager_tern.formats.numbers import is_number
from eager_tern.formats.rates import UNITS_US, rate_named
from eager_tern.formats.rows import LINE
from eager_tern.signal.order import median
from eager_tern.signal.threshold import ThresholdSettings, edges_of_changes, edges_of_samples
from eager_tern.signal.values import Floats, Pulses

SUFFIXES = (".csv", ".tsv")

TIME_WORDS = {"time", "t", "timestamp", "x-axis", "zeit", "temps", "tiempo", "tempo"}
COUNTS = {"sample", "samples", "index", "n", "nr", "no", "count", "#"}
DURATION = re.compile(r"(?<![a-z])(?:dur(?:ation)?s?|deltas?|lengths?|widths?|intervals?)(?![a-z])", re.IGNORECASE)
UNIT_CELL = re.compile(r"^\s*[\[(]?\s*([a-zµμ]+)\s*[\])]?\s*$", re.IGNORECASE)
TITLE = re.compile(r"^(?!\d)[\w \[\]()/.%°:#-]*[^\W\d_][\w \[\]()/.%°:#-]*$")
UNKNOWN_WORDS = {"", "x", "z", "?", "-"}
DELIMITERS = ",;\t|"
PREAMBLE = 64  # lines an instrument may write about itself above the table
# What an instrument writes of itself above the table, in seconds unless it says otherwise.
EVERY = re.compile(
    r"^\W*(?:sampl\w*|horizontal|time)\s+(?:interval|increment)\W+([\d.]+(?:e[+-]?\d+)?)[ ,;(]*([a-zµμ]*)",
    re.IGNORECASE | re.MULTILINE,
)
A_FRAME = 40.0  # nats that speak for durations, where a table might be seen: a short frame has twice as many
REST_US = 100_000.0  # silence written behind the pulses, so that polarity can be told


class _Header(Struct, frozen=True):
    """Where the table's header stands (``line``, from 1) and what it says; ``rows_from`` is the line behind it."""

    line: int
    rows_from: int
    delimiter: str
    names: list[str]
    units: list[str]


def claims(head: bytes, suffix: str) -> bool:
    """Text that begins with a header of several columns, or a table of numbers that lacks one; or whose suffix says
    that it is a table, where it does not begin as timing text does: what is missing is best said by this reader.
    """
    text = decoded(head)
    if text is None or by_form.holds_a_list(text):
        return False
    if names_time(text):
        return True
    if by_form.holds_rows(text) or by_form.holds_frames(text):
        return False
    if _header(text) is not None or _is_table(text):
        return not written.holds_likelier(text, A_FRAME)
    if suffix not in SUFFIXES or written.begins(text):
        return False
    return rate_named(text) is None or any(delimiter in text for delimiter in DELIMITERS)  # or it is a row of samples


def names_time(text: str) -> bool:
    """Whether a text begins with a header that names a time column and its unit."""
    header = _header(text)
    return header is not None and any(_unit_of(name) for name in header.names)


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
    """The first line that names a time column; where none does, a first line of titles, so that it can be told."""
    lines = list(islice(io.StringIO(text), PREAMBLE))
    fallback = None
    for number, line in enumerate(lines, 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        delimiter = max(DELIMITERS, key=line.count)
        if delimiter not in line:
            if fallback is None and is_number(line.split()[0]):
                return None
            continue
        names = [name.strip() for name in next(csv.reader([line.strip("\r\n")], delimiter=delimiter))]
        numbered = bool(_unit_of(names[0])) and all(name.isdecimal() for name in names[1:])  # channels 0, 1, 2
        if len(names) < 2 or (any(is_number(name) for name in names if name) and not numbered):
            if fallback is None and not TITLE.match(names[0]):
                return None
            continue
        below = lines[number] if number < len(lines) else ""
        units = [cell.strip() for cell in next(csv.reader([below.strip("\r\n")], delimiter=delimiter), [])]
        has_units = len(units) == len(names) and bool(units[0]) and all(UNIT_CELL.match(u) or not u for u in units)
        names_time = any(_unit_of(name) is not None for name in names)
        is_table = len(units) == len(names)  # a remark may have a comma, too
        if names_time or (fallback is None and is_table and all(TITLE.match(name) for name in names if name)):
            header = _Header(number, number + 1 + has_units, delimiter, names, units if has_units else [])
            if names_time:
                return header
            fallback = header
    return fallback


def _unit_of(name: str) -> str | None:
    """The unit that the name of a time column carries ("" where it has none); None where it names something else."""
    words = [
        word for word in re.split(r"[\s_\[\](){}/.:]+", name.lower()) if word and word not in ("in", "axis", "rel")
    ]
    if not words:
        return None
    if words[0] in TIME_WORDS and len(words) <= 2:
        return words[1] if len(words) == 2 else ""
    if len(words) == 1 and words[0] in ("second", "seconds"):
        return words[0]
    return None


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """One capture a channel. Raises InputError with the row."""
    try:
        return _read(path, text_of(path, old_until=PREAMBLE * 80), options)  # a µ or a ° in the header
    except csv.Error as error:
        raise InputError(path, f"is no table that can be read ({error})") from None


def _read(path: Path, text: str, options: ReadOptions) -> list[Capture]:
    threshold = ThresholdSettings(options.level) if options.level is not None else None
    header = _header(text[: 1 << 16])
    if header is None:
        raise InputError(path, "has no header with a time column", "line 1")
    column, scale = _counted(header, text, options) or _time_column(header, text, path)
    if len([name for name in header.names if name]) < 2:
        raise InputError(path, "has a time column but no column of levels", f"line {header.line}")
    table, warnings = _numbers(text, header, path)
    times = (table[:, column] - table[0, column]) * scale
    if np.any(np.diff(times) < 0):
        row = int(np.argmax(np.diff(times) < 0)) + 1
        raise InputError(path, "time runs backwards", f"line {header.rows_from + row}")
    channels = [i for i in range(table.shape[1]) if i != column and not DURATION.search(header.names[i])]
    captures = [
        _capture(path, number, header.names[i], times, table[:, i], threshold, warnings)
        for number, i in enumerate(channels)
        if np.isfinite(table[:, i]).any()
    ]
    if not captures:
        raise InputError(path, "has a time column but no column of levels", f"line {header.line}")
    return captures


def _counted(header: _Header, text: str, options: ReadOptions) -> tuple[int, float] | None:
    """The column that counts samples, and how long one lasts (µs), where no column names a time but a rate is known."""
    if any(_unit_of(name) is not None for name in header.names):
        return None
    rate = options.rate_hz or rate_named("\n".join(text.splitlines()[: header.line]))
    at = next((at for at, name in enumerate(header.names) if name.lower() in COUNTS), None)
    return (at, 1e6 / rate) if rate and at is not None else None


def _time_column(header: _Header, text: str, path: Path) -> tuple[int, float]:
    for i, name in enumerate(header.names):
        unit = _unit_of(name)
        if unit is None:
            continue
        if not unit and header.units:
            found = UNIT_CELL.match(header.units[i])
            unit = found[1].lower() if found else ""
        unit = unit or _unit_of_step(header, text, i)
        if unit in UNITS_US:
            return i, UNITS_US[unit]
        reason = f'the time column "{name}" does not name its unit: time_s, time_ms, time_us or time_ns'
        raise InputError(path, reason, f"line {header.line}")
    raise InputError(path, "has no time column: time_s, time_ms, time_us or time_ns", f"line {header.line}")


def _unit_of_step(header: _Header, text: str, column: int) -> str:
    """The unit of times whose step is the interval between samples that stands above the table; "" where none is."""
    lines = text.splitlines()
    named = EVERY.search("\n".join(lines[: header.line]))
    cells = [row.split(header.delimiter) for row in lines[header.rows_from - 1 : header.rows_from + 1]]
    if named is None or len(cells) < 2 or min(map(len, cells)) <= column:
        return ""
    first, second = (float(row[column]) if is_number(row[column]) else 0.0 for row in cells)
    is_step = abs(second - first - float(named[1])) <= 0.01 * float(named[1])
    return (named[2].lower() or "s") if is_step else ""


def _numbers(text: str, header: _Header, path: Path) -> tuple[Floats, tuple[str, ...]]:
    body = "\n".join(text.splitlines()[header.rows_from - 1 :])
    if not body.strip():
        raise InputError(path, "has a header but no rows")
    quick = body.replace(",", ".") if header.delimiter != "," else body
    try:
        with catch_warnings():
            simplefilter("ignore", UserWarning)  # nothing but comments is told below
            table = np.loadtxt(io.StringIO(quick), delimiter=header.delimiter, ndmin=2, comments="#", quotechar='"')
    except ValueError:
        table = np.empty((0, 0))
    if table.size and table.shape[1] == len(header.names) and np.isfinite(table).all():
        return np.asarray(table, dtype=np.float64), ()
    return _numbers_row_by_row(body, header, path)


def _numbers_row_by_row(body: str, header: _Header, path: Path) -> tuple[Floats, tuple[str, ...]]:
    """Rows with words for levels, decimal commas in quotes, empty cells (a level that stays), or a cut-off end."""
    rows: list[list[float]] = []
    width = len(header.names)
    lines = body.splitlines()
    last_line = max((i for i, line in enumerate(lines) if line.strip()), default=0)
    for i, line in enumerate(lines):
        stripped = line.split("#", 1)[0].strip("\r\n ")
        if not stripped.strip(header.delimiter + " "):
            continue
        place = f"line {header.rows_from + i}"
        cells = [cell.strip() for cell in next(csv.reader([stripped], delimiter=header.delimiter))]
        if len(cells) > width and not any(cells[width:]):
            cells = cells[:width]
        try:
            if len(cells) != width:
                raise InputError(path, f"{len(cells)} columns under a header of {width}", place)
            rows.append([_number(cell, rows[-1][at] if rows else np.nan, path, place) for at, cell in enumerate(cells)])
        except InputError as error:
            if i == last_line and len(rows) >= 2 and not body.endswith("\n"):
                return np.array(rows), (f"{place}: the last row is cut short and was left out",)
            raise error from None
    if not rows:
        raise InputError(path, "has a header but no rows")
    return np.array(rows), ()


def _number(cell: str, before: float, path: Path, place: str) -> float:
    word = cell.lower()
    if word in LINE:
        return LINE[word]
    if word in UNKNOWN_WORDS and not (word == "x" and np.isnan(before)):
        return before
    try:
        value = float(cell.replace(",", "."))
    except ValueError:
        raise InputError(path, f"'{cell[:40]}' is no number", place) from None
    if not np.isfinite(value):
        raise InputError(path, "a value is not finite", place)
    return value


def _capture(
    path: Path,
    number: int,
    name: str,
    times: Floats,
    values: Floats,
    threshold: ThresholdSettings | None,
    warnings: tuple[str, ...],
) -> Capture:
    known = np.isfinite(values)
    rate = _sample_rate(times) if known.all() else None
    digital = np.unique(values[known][: 1 << 16]).size <= 2 and np.unique(values[known]).size <= 2
    if digital or rate is None:
        edges = edges_of_changes(times[known], values[known], float(times[0]), float(times[-1]))
    else:
        edges = edges_of_samples([values.astype(np.float32)], rate, threshold)
    return Capture(str(path), FORMAT.name, number, rate, edges, channel_name=name, warnings=warnings)


def _sample_rate(times: Floats) -> float | None:
    """The rate of rows that are samples; None where they are changes only."""
    if times.size < 16:
        return None
    steps = np.diff(times)
    usual = median(steps)
    if usual <= 0 or np.any(np.abs(steps - usual) > 0.1 * usual):
        return None
    return float((times.size - 1) / (times[-1] - times[0]) * 1e6)


def write(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """The changes only, the line resting low, a mark high."""
    edges = pulses.edge_times_us
    levels = (np.arange(edges.size) + 1) % 2
    rows = [f"{t!r},{level}" for t, level in zip(edges.tolist(), levels.tolist(), strict=True)]
    first = ["0.0,0"] if pulses.start_us > 0 else []
    last = f"{float(edges[-1]) + REST_US!r},0"
    lines = ["time_us,level", *first, *rows, last]
    delimiter = "\t" if path.suffix.lower() == ".tsv" else ","
    path.write_text("".join(line.replace(",", delimiter) + "\n" for line in lines), "utf-8")


FORMAT = Format("level-csv", SUFFIXES, claims, read, write, obeys=frozenset({"level", "rate_hz"}))
