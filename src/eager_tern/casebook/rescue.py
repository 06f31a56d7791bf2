"""What can be read of a damaged casebook, put into a new one. The damaged file is not touched."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, suppress
from itertools import islice
from pathlib import Path

from msgspec import Struct

from eager_tern.casebook.file import APPLICATION_ID, FAULTS, SCHEMA, create_file, open_damaged, reason_of
from eager_tern.errors import InputError

# Each after those that its rows point to.
TABLES = ("gadget", "take", "chunk", "press", "key", "sheet", "shot", "dismissed")
ROWS_A_PAGE = 500  # of the smallest rows there are
MOST_MISSES = 200  # rows in a row that cannot be had: then the rest of a table is given up
BY_NUMBER = ("gadget", "take", "press")  # tables whose rows have an id


class Rescued(Struct, frozen=True):
    """How many rows of each table were had, and the tables in which some were not."""

    path: Path
    rows: dict[str, int]
    incomplete: tuple[str, ...]

    @property
    def words(self) -> str:
        """What was rescued, in a sentence."""
        return f"what could be read of it is in {self.path}: {self.had}"

    @property
    def had(self) -> str:
        """How much of it could be read."""
        lost = f"; some of its {' and '.join(self.incomplete)} rows are lost" if self.incomplete else ""
        return f"{self.rows['press']} presses and strays of {self.rows['take']} takes{lost}"


def rescue(damaged: Path, path: Path) -> Rescued:
    """Put what can be read of a damaged casebook into a new one. Raises InputError where nothing can."""
    with closing(open_damaged(damaged)) as db:
        create_file(path)
        rows: dict[str, int] = {}
        incomplete = []
        try:
            with closing(sqlite3.connect(path, isolation_level=None)) as new:
                new.execute("PRAGMA foreign_keys = OFF")
                for table in TABLES:
                    rows[table], whole = _copy(db, new, table)
                    if not whole:
                        incomplete.append(table)
                _drop_orphans(new)
                new.execute(f"PRAGMA application_id = {APPLICATION_ID}")
                new.execute(f"PRAGMA user_version = {SCHEMA}")
        except FAULTS as error:
            path.unlink(missing_ok=True)
            raise InputError(path, reason_of(error)) from None
    if not rows["take"] and not rows["press"]:
        path.unlink(missing_ok=True)
        raise InputError(damaged, "is damaged, and nothing can be read of it any more")
    return Rescued(path, rows, tuple(incomplete))


def free_name(damaged: Path, folder: Path | None = None) -> Path:
    """Where to put what is rescued: beside the damaged casebook, or in a folder."""
    place = folder or damaged.absolute().parent
    names = (f"{damaged.stem}-rescued{number or ''}{damaged.suffix}" for number in range(10_000))
    return next(place / name for name in names if not (place / name).exists())


def _copy(db: sqlite3.Connection, new: sqlite3.Connection, table: str) -> tuple[int, bool]:
    """How many rows of a table were had, and whether that was all."""
    wanted = [row[1] for row in new.execute(f"PRAGMA table_info({table})")]
    try:
        there = {row[1] for row in db.execute(f"PRAGMA table_info({table})")}
    except FAULTS:
        return 0, False
    columns = [name for name in wanted if name in there]
    if not columns:
        return 0, False
    insert = f"INSERT OR IGNORE INTO {table} ({', '.join(columns)}) VALUES ({', '.join('?' * len(columns))})"
    count, whole = 0, True
    new.execute("BEGIN")
    for row in _rows(db, table, columns):
        if row is None:
            whole = False
            continue
        try:
            count += max(new.execute(insert, row).rowcount, 0)
        except sqlite3.IntegrityError:  # a row that lost what it must have
            whole = False
    new.execute("COMMIT")
    return count, whole


def _rows(db: sqlite3.Connection, table: str, columns: list[str]) -> Iterator[tuple[object, ...] | None]:
    """The rows of a table; None for what cannot be had. Pages that point to each other have no end of their own."""
    names = ", ".join(columns)
    most = db.execute("PRAGMA page_count").fetchone()[0] * ROWS_A_PAGE
    if table not in BY_NUMBER:
        try:
            yield from islice(db.execute(f"SELECT {names} FROM {table}"), most)
        except FAULTS:
            yield None
        return
    at = misses = count = 0
    while misses < MOST_MISSES and count < most:
        try:
            row = db.execute(f"SELECT id, {names} FROM {table} WHERE id > ? ORDER BY id LIMIT 1", (at,)).fetchone()
        except FAULTS:
            row = (at + 1,)
        if row is None:
            return
        if len(row) == 1 or not isinstance(row[0], int) or row[0] <= at:
            at, misses = at + 1, misses + 1
            yield None
            continue
        at, misses, count = row[0], 0, count + 1
        yield row[1:]


def _drop_orphans(new: sqlite3.Connection) -> None:
    """Leave out rows that point to what could not be had."""
    with suppress(*FAULTS):
        for table, column, of in (
            ("take", "gadget_id", "gadget"), ("chunk", "take_id", "take"), ("press", "take_id", "take"),
            ("key", "gadget_id", "gadget"), ("sheet", "gadget_id", "gadget"), ("shot", "gadget_id", "gadget"),
            ("dismissed", "gadget_id", "gadget"),
        ):  # fmt: skip
            if of == "gadget" and table == "take":  # pulses are worth more than the name of their gadget
                for (gadget_id,) in new.execute(
                    "SELECT DISTINCT gadget_id FROM take WHERE gadget_id NOT IN (SELECT id FROM gadget)"
                ).fetchall():
                    new.execute("INSERT INTO gadget (id, name) VALUES (?, ?)", (gadget_id, f"Gadget {gadget_id}"))
            new.execute(f"DELETE FROM {table} WHERE {column} NOT IN (SELECT id FROM {of})")
        new.execute("UPDATE shot SET press_id = NULL WHERE press_id NOT IN (SELECT id FROM press)")
