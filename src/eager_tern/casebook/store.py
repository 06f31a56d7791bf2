"""The casebook file: one SQLite database, every change on disk at once."""

from __future__ import annotations

import json
import re
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import TypeAdapter

from eager_tern.casebook.shots import Shot, Shots
from eager_tern.casebook.values import NOT_MEASURED, Caught, Gadget, KeyPlace, Measured, PressReading, Take
from eager_tern.errors import InputError
from eager_tern.signal.by_hand import FOUND_OUT, ByHand, without_short
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed

APPLICATION_ID = 0x5465726E  # "Tern", where SQLite and file(1) look for it
SCHEMA = 4
ADDED_TABLES = re.compile(r"CREATE TABLE IF NOT EXISTS .*?;", re.DOTALL)  # by schemas 2 and 4
SUFFIX = ".tern"
MAGIC = b"SQLite format 3\0"
BATCH = 500
READINGS = TypeAdapter(list[PressReading])
HAND = TypeAdapter(ByHand)
MEASURED = TypeAdapter(Measured)
ADDED_TO_TAKES = (  # by schema 2, and by 3
    (2, "path TEXT NOT NULL DEFAULT ''"),
    (2, "channel INTEGER"),
    (2, "by_hand TEXT NOT NULL DEFAULT ''"),
    (3, "measured TEXT NOT NULL DEFAULT ''"),
)
VANISHED = 2


class Casebook:
    """An open casebook. Only one process at a time may hold one for writing.

    Every method that changes something has it on disk when it returns, or raises InputError and changes nothing.
    """

    def __init__(self, path: Path, database: sqlite3.Connection) -> None:
        self.path = path
        self._db = database

    @classmethod
    def create(cls, path: Path) -> Casebook:
        """A new, empty casebook. Raises InputError, also where the file exists."""
        if path.exists():
            raise InputError(path, "exists already")
        try:
            db = _connect(path)
        except sqlite3.Error as error:
            raise InputError(path, _reason(error)) from None
        try:
            db.executescript((files("eager_tern.casebook") / "schema.sql").read_text("utf-8"))
            db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            db.execute(f"PRAGMA user_version = {SCHEMA}")
        except sqlite3.Error as error:
            db.close()
            raise InputError(path, _reason(error)) from None
        return cls(path, db)

    @classmethod
    def open(cls, path: Path, read_only: bool = False) -> Casebook:
        """A casebook that exists. Raises InputError where it is none, is held by another process or is too new."""
        if not path.is_file():
            raise InputError(path, "does not exist")
        try:
            db = _connect(path, read_only)
        except sqlite3.Error as error:
            raise InputError(path, _reason(error)) from None
        application = db.execute("PRAGMA application_id").fetchone()[0]
        version = db.execute("PRAGMA user_version").fetchone()[0]
        if application != APPLICATION_ID:
            db.close()
            raise InputError(path, "is a database, but not a casebook")
        if version > SCHEMA:
            db.close()
            reason = (
                f"was written by a newer Eager Tern (schema {version}, this one knows {SCHEMA}); nothing was changed"
            )
            raise InputError(path, reason)
        if version < SCHEMA and not read_only:
            _bring_up(db)
        return cls(path, db)

    def close(self) -> None:
        self._db.close()

    def save_as(self, path: Path) -> Casebook:
        """A copy under another name, which takes this one's place. Raises InputError."""
        partial = path.with_name(path.name + ".partial")
        try:
            partial.unlink(missing_ok=True)
            with closing(sqlite3.connect(partial)) as copy:
                self._db.backup(copy)
            partial.replace(path)
        except (sqlite3.Error, OSError) as error:
            partial.unlink(missing_ok=True)
            raise InputError(path, _reason(error)) from None
        self.close()
        return Casebook.open(path)

    @contextmanager
    def changing(self) -> Iterator[sqlite3.Connection]:
        """One change, whole or not at all. Changes within a change are part of it."""
        if self._db.in_transaction:
            yield self._db
            return
        try:
            self._db.execute("BEGIN IMMEDIATE")
            yield self._db
            self._db.execute("COMMIT")
        except sqlite3.Error as error:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise InputError(self.path, _reason(error)) from None
        except BaseException:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise

    # Gadgets

    def gadgets(self) -> list[Gadget]:
        return [Gadget(*row) for row in self._db.execute("SELECT id, name, about FROM gadget ORDER BY id")]

    def add_gadget(self, name: str, about: str = "") -> int:
        return self._insert("INSERT INTO gadget (name, about) VALUES (?, ?)", name, about)

    def rename_gadget(self, gadget_id: int, name: str) -> None:
        with self.changing() as db:
            db.execute("UPDATE gadget SET name = ? WHERE id = ?", (name, gadget_id))

    # Takes and their raw pulses

    def takes(self) -> list[Take]:
        return self._takes("ORDER BY id")

    def take(self, take_id: int) -> Take:
        return self._takes("WHERE id = ?", take_id)[0]

    def _takes(self, which: str, *values: int) -> list[Take]:
        columns = "id, gadget_id, source, format, started_at, sample_rate_hz, polarity, carrier_hz"
        version = self._db.execute("PRAGMA user_version").fetchone()[0]  # an older one is only read
        for since, added in ADDED_TO_TAKES:
            columns += f", {added.split()[0]}" if version >= since else ""
        rows = self._db.execute(f"SELECT {columns} FROM take {which}", values).fetchall()
        return [Take(*row[:10], *map(_by_hand, row[10:11]), *map(_measured, row[11:])) for row in rows]

    def set_by_hand(self, take_id: int, by_hand: ByHand) -> None:
        """Overrule how a take is read; its raw durations stay."""
        with self.changing() as db:
            db.execute("UPDATE take SET by_hand = ? WHERE id = ?", (HAND.dump_json(by_hand).decode(), take_id))

    def add_take(
        self,
        gadget_id: int,
        source: str,
        form: str,
        *,
        started_at: float | None = None,
        sample_rate_hz: float | None = None,
        polarity: str | None = None,
        carrier_hz: float | None = None,
        path: str = "",
        channel: int | None = None,
        by_hand: ByHand = FOUND_OUT,
        measured: Measured = NOT_MEASURED,
    ) -> int:
        return self._insert(
            "INSERT INTO take (gadget_id, source, format, started_at, sample_rate_hz, polarity, carrier_hz, path,"
            " channel, by_hand, measured) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            gadget_id, source, form, time.time() if started_at is None else started_at, sample_rate_hz, polarity,
            carrier_hz, path, channel, HAND.dump_json(by_hand).decode() if by_hand != FOUND_OUT else "",
            MEASURED.dump_json(measured, exclude_defaults=True).decode() if measured != NOT_MEASURED else "",
        )  # fmt: skip

    def append_durations(self, take_id: int, signed_us: Floats) -> None:
        """Add raw durations (marks positive, spaces negative) to a take."""
        with self.changing() as db:
            db.execute(
                "INSERT INTO chunk SELECT ?, coalesce(max(number) + 1, 0), ? FROM chunk WHERE take_id = ?",
                (take_id, np.ascontiguousarray(signed_us, dtype="<f8").tobytes(), take_id),
            )

    def take_pulses(self, take_id: int) -> Pulses:
        """All pulses of a take, as the user wants it read."""
        query = "SELECT durations FROM chunk WHERE take_id = ? ORDER BY number"
        chunks = [np.frombuffer(row[0], dtype="<f8") for row in self._db.execute(query, (take_id,))]
        take = self.take(take_id)
        signed = np.concatenate(chunks) if chunks else np.empty(0)
        if take.turned:
            signed = -signed
        pulses = pulses_from_signed(signed, 0.0, take.carrier_hz)
        return without_short(pulses, take.by_hand.shortest_us) if take.by_hand.shortest_us else pulses

    # Presses

    def presses(self, gadget_id: int | None = None, take_id: int | None = None) -> list[Caught]:
        """All that was caught of a gadget or in a take, strays and deleted ones too, in the order it was sent."""
        return [press for batch in self.press_batches(gadget_id, take_id) for press in batch]

    def press_batches(self, gadget_id: int | None = None, take_id: int | None = None) -> Iterator[list[Caught]]:
        """The same a few at a time, for whoever has other things to do between."""
        query = (
            "SELECT press.id, take_id, gadget_id, caught_at, label, stray, deleted, reading FROM press"
            " JOIN take ON take.id = take_id WHERE (?1 IS NULL OR gadget_id = ?1) AND (?2 IS NULL OR take_id = ?2)"
            " ORDER BY take_id, first"
        )
        cursor = self._db.execute(query, (gadget_id, take_id))
        while rows := cursor.fetchmany(BATCH):
            readings = READINGS.validate_json(f"[{','.join(row[-1] for row in rows)}]")  # quicker than one by one
            yield [_caught(row, reading) for row, reading in zip(rows, readings, strict=True)]

    def press(self, press_id: int) -> Caught:
        query = (
            "SELECT press.id, take_id, gadget_id, caught_at, label, stray, deleted, reading FROM press"
            " JOIN take ON take.id = take_id WHERE press.id = ?"
        )
        row = self._db.execute(query, (press_id,)).fetchone()
        return _caught(row, PressReading.model_validate_json(row[-1]))

    def put_press(
        self,
        take_id: int,
        reading: PressReading,
        *,
        stray: bool = False,
        caught_at: float = 0.0,
        label: str = "",
    ) -> int:
        """Keep a press, or what is now known of one that began at the same mark."""
        with self.changing() as db:
            row = db.execute(
                "INSERT INTO press (take_id, first, stray, caught_at, label, reading) VALUES (?, ?, ?, ?, ?, ?)"
                " ON CONFLICT (take_id, first) DO UPDATE SET reading = excluded.reading, stray = excluded.stray"
                " RETURNING id",
                (
                    take_id,
                    reading.frames[0][0],
                    stray,
                    caught_at,
                    label,
                    reading.model_dump_json(exclude_defaults=True),
                ),
            ).fetchone()
        return int(row[0])

    def set_label(self, press_id: int, label: str) -> None:
        with self.changing() as db:
            db.execute("UPDATE press SET label = ? WHERE id = ?", (label, press_id))

    def set_deleted(self, press_ids: tuple[int, ...], deleted: bool) -> None:
        """Deleted presses are hidden; their pulses stay in the take."""
        with self.changing() as db:
            db.executemany("UPDATE press SET deleted = ? WHERE id = ?", [(deleted, i) for i in press_ids])

    def set_vanished(self, take_id: int, still: set[int], since: int = 0) -> None:
        """Hide the presses of a take that do not begin at any of these marks, and show those hidden so that do.

        What begins before the mark ``since`` is left as it is.
        """
        query = "SELECT id, first, deleted FROM press WHERE take_id = ? AND first >= ?"
        rows = self._db.execute(query, (take_id, since)).fetchall()
        gone = [(VANISHED, i) for i, first, deleted in rows if first not in still and deleted == 0]
        back = [(0, i) for i, first, deleted in rows if first in still and deleted == VANISHED]
        with self.changing() as db:
            db.executemany("UPDATE press SET deleted = ? WHERE id = ?", gone + back)

    # Keys and sheets

    def key_places(self, gadget_id: int) -> list[KeyPlace]:
        query = "SELECT name, place_row, place_col FROM key WHERE gadget_id = ? ORDER BY place_row, place_col"
        return [KeyPlace(*row) for row in self._db.execute(query, (gadget_id,))]

    def place_key(self, gadget_id: int, place: KeyPlace) -> None:
        with self.changing() as db:
            db.execute("REPLACE INTO key VALUES (?, ?, ?, ?)", (gadget_id, place.name, place.row, place.col))

    def remove_key(self, gadget_id: int, name: str) -> None:
        with self.changing() as db:
            db.execute("DELETE FROM key WHERE gadget_id = ? AND name = ?", (gadget_id, name))

    def sheets(self, gadget_id: int) -> dict[str, str]:
        """TOML texts by sheet id."""
        return dict(self._db.execute("SELECT id, text FROM sheet WHERE gadget_id = ?", (gadget_id,)).fetchall())

    def put_sheet(self, gadget_id: int, sheet_id: str, text: str) -> None:
        with self.changing() as db:
            db.execute("REPLACE INTO sheet VALUES (?, ?, ?)", (gadget_id, sheet_id, text))

    def remove_sheet(self, gadget_id: int, sheet_id: str) -> None:
        with self.changing() as db:
            db.execute("DELETE FROM sheet WHERE gadget_id = ? AND id = ?", (gadget_id, sheet_id))

    def dismissed(self, gadget_id: int) -> frozenset[str]:
        """The findings that the user does not believe."""
        rows = self._db.execute("SELECT finding FROM dismissed WHERE gadget_id = ?", (gadget_id,))
        return frozenset(row[0] for row in rows)

    def set_dismissed(self, gadget_id: int, findings: frozenset[str]) -> None:
        with self.changing() as db:
            db.execute("DELETE FROM dismissed WHERE gadget_id = ?", (gadget_id,))
            db.executemany("INSERT INTO dismissed VALUES (?, ?)", [(gadget_id, each) for each in sorted(findings)])

    # The shot list

    def shots(self, gadget_id: int) -> Shots:
        query = "SELECT labels, press_id, skipped FROM shot WHERE gadget_id = ? ORDER BY number"
        try:
            rows = self._db.execute(query, (gadget_id,)).fetchall()
        except sqlite3.OperationalError:  # an older casebook that is only read
            return ()
        return tuple(
            Shot(tuple((str(name), str(value)) for name, value in json.loads(labels)), press_id, bool(skipped))
            for labels, press_id, skipped in rows
        )

    def put_shots(self, gadget_id: int, shots: Shots) -> None:
        """Put this list in place of the one there is."""
        rows = [
            (gadget_id, n, json.dumps(shot.labels, ensure_ascii=False), shot.press_id, shot.skipped)
            for n, shot in enumerate(shots)
        ]
        with self.changing() as db:
            db.execute("DELETE FROM shot WHERE gadget_id = ?", (gadget_id,))
            db.executemany("INSERT INTO shot VALUES (?, ?, ?, ?, ?)", rows)

    def _insert(self, statement: str, *values: Any) -> int:
        with self.changing() as db:
            return int(db.execute(statement, values).lastrowid or 0)


def _by_hand(text: str) -> ByHand:
    return HAND.validate_json(text) if text else FOUND_OUT


def _measured(text: str) -> Measured:
    return MEASURED.validate_json(text) if text else NOT_MEASURED


def _bring_up(db: sqlite3.Connection) -> None:
    """Give an older casebook what this schema has beside its own."""
    schema = (files("eager_tern.casebook") / "schema.sql").read_text("utf-8")
    version = db.execute("PRAGMA user_version").fetchone()[0]
    db.execute("BEGIN")
    for table in ADDED_TABLES.findall(schema):
        db.execute(table)
    for since, column in ADDED_TO_TAKES:
        if since > version:
            db.execute(f"ALTER TABLE take ADD COLUMN {column}")
    db.execute(f"PRAGMA user_version = {SCHEMA}")
    db.execute("COMMIT")


def _caught(row: tuple[Any, ...], reading: PressReading) -> Caught:
    press_id, take_id, gadget_id, caught_at, label, stray, deleted, _ = row
    return Caught(press_id, take_id, gadget_id, caught_at, label, bool(stray), bool(deleted), reading)


def _connect(path: Path, read_only: bool = False) -> sqlite3.Connection:
    uri = f"{path.absolute().as_uri()}?mode={'ro' if read_only else 'rwc'}"
    db = sqlite3.connect(uri, uri=True, timeout=0.2, isolation_level=None)
    try:
        db.execute("PRAGMA foreign_keys = ON")
        db.execute("PRAGMA synchronous = FULL")
        if read_only:
            db.execute("SELECT count(*) FROM sqlite_master")
        else:
            # The lock is taken with the first transaction and kept until the casebook is closed.
            db.execute("PRAGMA locking_mode = EXCLUSIVE")
            db.execute("BEGIN EXCLUSIVE")
            db.execute("COMMIT")
    except sqlite3.Error:
        db.close()
        raise
    return db


def _reason(error: Exception) -> str:
    """A database's or the system's complaint in words for the user."""
    text = str(error)
    if "locked" in text:
        return "is open in another Eager Tern; close it there first"
    if "full" in text or getattr(error, "errno", None) == 28:
        return "cannot be written because the disk is full"
    if "not a database" in text:
        return "is not a casebook"
    if "readonly" in text:
        return "cannot be written: it is read-only"
    if "unable to open" in text:
        return "cannot be opened or created there"
    return text
