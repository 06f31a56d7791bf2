"""The casebook: one SQLite database, every change on disk at once."""

from __future__ import annotations

import json
import math
import shutil
import sqlite3
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import DecodeError
from msgspec.json import Decoder, encode

from eager_tern.casebook.file import (
    FAULTS,
    Hold,
    check_and_bring_up,
    complaint,
    connect,
    copy_in_place,
    create_file,
    disconnect,
    open_to_read,
)
from eager_tern.casebook.shots import Shot, Shots
from eager_tern.casebook.sweep import Sweep
from eager_tern.casebook.values import (
    NOT_MEASURED,
    Caught,
    Gadget,
    KeyPlace,
    Measured,
    PassageRead,
    PressReading,
    Take,
)
from eager_tern.errors import InputError
from eager_tern.signal.by_hand import FOUND_OUT, ByHand, without_short
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed

BATCH = 200  # presses: some five milliseconds
READING = Decoder(PressReading)
READINGS = Decoder(list[PressReading])
HAND = Decoder(ByHand)
MEASURED = Decoder(Measured)
LABELS = Decoder(tuple[tuple[str, str], ...])
SWEEP = Decoder(Sweep)
MOST_US = 1 << 60  # a time that no take lasts
VANISHED = 2  # in press.deleted: it is no press any more, as the take is now read
TAKE = (
    "id, gadget_id, source, format, started_at, sample_rate_hz, polarity, carrier_hz, path, channel, by_hand,"
    " measured, cut, read_whole, hidden"
)
PRESS = (
    "SELECT press.id, take_id, gadget_id, caught_at, label, stray, deleted OR take.hidden, reading FROM press"
    " CROSS JOIN take ON take.id = take_id"  # in this order, so that presses come in that of their index
)


class Casebook:
    """A connection to a casebook. Only one process at a time holds one for writing; within it there may be several
    connections, one a thread.

    Every method that changes something has it on disk when it returns, or raises InputError and changes nothing. What
    of a damaged casebook cannot be understood is left out, and said in ``lost``.
    """

    def __init__(
        self, path: Path, database: sqlite3.Connection, copy: Path | None = None, hold: Hold | None = None
    ) -> None:
        self.path = path
        self.lost: list[str] = []
        self._db = database
        self._hold = hold
        self._copy = copy

    @classmethod
    def create(cls, path: Path) -> Casebook:
        """A new, empty casebook. Raises InputError, also where the file exists."""
        create_file(path)
        return cls.open(path)

    @classmethod
    def open(cls, path: Path, read_only: bool = False) -> Casebook:
        """A casebook that exists. Raises InputError where it is none, is held by another process or is too new, and
        DamagedError where it is damaged and was to be written to.
        """
        if not path.is_file():
            raise InputError(path, "does not exist" if not path.exists() else "is no file")
        if read_only:
            return cls(path, *open_to_read(path))
        hold = Hold(path)
        try:
            db = connect(path)
        except FAULTS as error:
            hold.release()
            raise complaint(path, error) from None
        try:
            check_and_bring_up(db, path)
        except InputError:
            disconnect(db, last=False)
            hold.release()
            raise
        return cls(path, db, hold=hold)

    def join(self) -> Casebook:
        """Another connection to this casebook, for another thread; it is to be closed before this one."""
        try:
            return Casebook(self.path, connect(self.path))
        except sqlite3.Error as error:
            raise complaint(self.path, error) from None

    def close(self) -> None:
        disconnect(self._db, last=self._hold is not None)
        if self._hold is not None:
            self._hold.release()
        if self._copy is not None:
            shutil.rmtree(self._copy, ignore_errors=True)

    @property
    def still_there(self) -> bool:
        """Whether its file is where it was; somebody may have deleted it."""
        return self._hold is None or self._hold.still_there

    def copy_to(self, path: Path) -> None:
        """A copy under another name. Raises InputError, also where another process holds what stands there."""
        copy_in_place(self._db, path)

    def tidy(self) -> None:
        """Bring what was written into the file itself; nobody waits for it."""
        self._rows("PRAGMA wal_checkpoint(PASSIVE)")

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
        except BaseException as error:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            if isinstance(error, FAULTS):
                raise complaint(self.path, error) from None
            raise

    def _rows(self, query: str, *values: Any) -> list[tuple[Any, ...]]:
        try:
            return self._db.execute(query, values).fetchall()
        except FAULTS as error:
            raise complaint(self.path, error) from None

    def _lose(self, words: str) -> None:
        if words not in self.lost:
            self.lost.append(words)

    # Gadgets

    def gadgets(self) -> list[Gadget]:
        return [Gadget(i, str(name), str(about)) for i, name, about in self._rows("SELECT * FROM gadget ORDER BY id")]

    def add_gadget(self, name: str, about: str = "") -> int:
        return self._insert("INSERT INTO gadget (name, about) VALUES (?, ?)", name, about)

    def rename_gadget(self, gadget_id: int, name: str) -> None:
        with self.changing() as db:
            db.execute("UPDATE gadget SET name = ? WHERE id = ?", (name, gadget_id))

    # Takes and their raw pulses

    def takes(self, gadget_id: int | None = None) -> list[Take]:
        return self._takes("WHERE ?1 IS NULL OR gadget_id = ?1 ORDER BY id", gadget_id)

    def take(self, take_id: int) -> Take:
        found = self._takes("WHERE id = ?", take_id)
        if not found:
            raise InputError(self.path, f"has no take {take_id} any more")
        return found[0]

    def _takes(self, which: str, *values: object) -> list[Take]:
        found = []
        for row in self._rows(f"SELECT {TAKE} FROM take {which}", *values):
            try:
                found.append(_take(row, _by_hand(row[10]), _measured(row[11])))
            except (DecodeError, TypeError, ValueError):
                self._lose(f"what was set by hand for take {row[0]} cannot be understood and is left out")
                found.append(_take(row, FOUND_OUT, NOT_MEASURED))
        return found

    def set_by_hand(self, take_id: int, by_hand: ByHand) -> None:
        """Overrule how a take is read; its raw durations stay."""
        with self.changing() as db:
            db.execute("UPDATE take SET by_hand = ? WHERE id = ?", (encode(by_hand).decode(), take_id))

    def set_read_whole(self, take_id: int, whole: bool) -> None:
        """Whether everything in a take was read."""
        with self.changing() as db:
            db.execute("UPDATE take SET read_whole = ? WHERE id = ?", (whole, take_id))

    def set_hidden(self, take_id: int, hidden: bool) -> None:
        """Take a take and its presses out of sight, because another stands in its place; or show it again."""
        with self.changing() as db:
            db.execute("UPDATE take SET hidden = ? WHERE id = ?", (hidden, take_id))

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
        cut: bool = False,
        read_whole: bool = True,
    ) -> int:
        return self._insert(
            "INSERT INTO take (gadget_id, source, format, started_at, sample_rate_hz, polarity, carrier_hz, path,"
            " channel, by_hand, measured, cut, read_whole) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            gadget_id, source, form, time.time() if started_at is None else started_at, sample_rate_hz, polarity,
            carrier_hz, path, channel, encode(by_hand).decode() if by_hand != FOUND_OUT else "",
            encode(measured).decode() if measured != NOT_MEASURED else "",
            cut, read_whole,
        )  # fmt: skip

    def append_durations(self, take_id: int, signed_us: Floats) -> None:
        """Add raw durations (marks positive, spaces negative) to a take."""
        with self.changing() as db:
            db.execute(
                "INSERT INTO chunk SELECT ?, coalesce(max(number) + 1, 0), ? FROM chunk WHERE take_id = ?",
                (take_id, np.ascontiguousarray(signed_us, dtype="<f8").tobytes(), take_id),
            )

    def take_durations(self, take_id: int) -> Floats:
        """The signed durations of a take as they came, shape (n,), µs."""
        chunks = []
        for (raw,) in self._rows("SELECT durations FROM chunk WHERE take_id = ? ORDER BY number", take_id):
            usable = isinstance(raw, bytes) and len(raw) % 8 == 0
            chunk = np.frombuffer(raw, dtype="<f8") if usable else np.empty(0)
            if not usable or not np.isfinite(chunk).all():
                self._lose(f"some pulses of take {take_id} cannot be read and are left out")
                chunk = chunk[np.isfinite(chunk)]
            chunks.append(chunk)
        return np.concatenate(chunks) if chunks else np.empty(0)

    def take_pulses(self, take_id: int) -> Pulses:
        """All pulses of a take, as the user wants it read."""
        take, signed = self.take(take_id), self.take_durations(take_id)
        pulses = pulses_from_signed(-signed if take.turned else signed, 0.0, take.carrier_hz)
        return without_short(pulses, take.by_hand.shortest_us) if take.by_hand.shortest_us else pulses

    # Presses

    def presses(self, gadget_id: int | None = None, take_id: int | None = None) -> list[Caught]:
        """All that was caught of a gadget or in a take, strays and deleted ones too, in the order it was sent."""
        return [press for batch in self.press_batches(gadget_id, take_id) for press in batch]

    def press_batches(self, gadget_id: int | None = None, take_id: int | None = None) -> Iterator[list[Caught]]:
        """The same a few at a time, for whoever has other things to do between."""
        at = (-1, -1)
        query = (
            f"{PRESS.replace('SELECT', 'SELECT first,', 1)} WHERE (take_id, first) > (?1, ?2)"
            " AND (?3 IS NULL OR gadget_id = ?3) AND (?4 IS NULL OR take_id = ?4) ORDER BY take_id, first LIMIT ?5"
        )
        while rows := self._rows(query, *at, gadget_id, take_id, BATCH):
            at = rows[-1][2], rows[-1][0]
            yield self._caught([row[1:] for row in rows])

    def press(self, press_id: int) -> Caught | None:
        """A press by its id; None where there is none, or what is there cannot be understood."""
        return next(iter(self._caught(self._rows(f"{PRESS} WHERE press.id = ?", press_id))), None)

    def presses_of(self, press_ids: Sequence[int]) -> list[Caught]:
        """Presses by their ids, in the order sent."""
        found = []
        for at in range(0, len(press_ids), BATCH):
            some = press_ids[at : at + BATCH]
            marks = ", ".join("?" * len(some))
            found += self._rows(f"{PRESS} WHERE press.id IN ({marks}) ORDER BY take_id, first", *some)
        return self._caught(found)

    def _caught(self, rows: Sequence[tuple[Any, ...]]) -> list[Caught]:
        try:
            readings = READINGS.decode(f"[{','.join(row[-1] for row in rows)}]")  # quicker than one by one
        except (DecodeError, TypeError):
            understood = [(row, reading) for row in rows if (reading := _reading(row[-1])) is not None]
            self._lose("presses that cannot be understood are left out")
            return [_press(row, reading) for row, reading in understood]
        if len(readings) != len(rows) or not all(r.frames for r in readings):
            self._lose("presses that cannot be understood are left out")
            return [_press(row, r) for row in rows if (r := _reading(row[-1])) is not None and r.frames]
        return [_press(row, reading) for row, reading in zip(rows, readings, strict=True)]

    def put_press(
        self, take_id: int, reading: PressReading, *, stray: bool = False, caught_at: float = 0.0, label: str = ""
    ) -> int:
        """Keep a press, or what is now known of one that began at the same time."""
        with self.changing() as db:
            row = db.execute(
                "INSERT INTO press (take_id, first, stray, caught_at, label, reading) VALUES (?, ?, ?, ?, ?, ?)"
                " ON CONFLICT (take_id, first) DO UPDATE SET reading = excluded.reading, stray = excluded.stray,"
                f" deleted = CASE WHEN deleted = {VANISHED} THEN 0 ELSE deleted END RETURNING id",
                (take_id, reading.place, stray, caught_at, label, _dumped(reading)),
            ).fetchone()
        return int(row[0])

    def put_passage(self, take_id: int, passage: PassageRead) -> list[int]:
        """Keep what was read of a passage. Labels and deletions stay with the press that begins at the same time; what
        is no press any more is hidden until it is one again, and a label it had goes to the press that overlaps it.

        Gives the ids of what is new, is read otherwise or has vanished.
        """
        query = (
            "SELECT id, first, stray, deleted, label, reading FROM press WHERE take_id = ? AND first >= ? AND first < ?"
        )
        before = {row[1]: row for row in self._rows(query, take_id, round(passage.from_us), _until(passage.to_us))}
        started_at = self.take(take_id).started_at
        found = [(reading, False) for reading in passage.presses] + [(reading, True) for reading in passage.strays]
        changed: list[int] = []
        with self.changing() as db:
            for reading, stray in found:
                known = before.pop(reading.place, None)
                same = known is not None and (bool(known[2]), known[5]) == (stray, _dumped(reading))
                if known is not None and same and known[3] != VANISHED:
                    continue
                at = started_at + reading.start_us / 1e6
                label = "" if stray else passage.labels.get(reading.frames[0][0], "")
                changed.append(self.put_press(take_id, reading, stray=stray, caught_at=at, label=label))
            gone = [row for row in before.values() if row[3] == 0]
            hide = "UPDATE press SET deleted = ?1, label = iif(handed_on, '', label), handed_on = 0 WHERE id = ?2"
            db.executemany(hide, [(VANISHED, row[0]) for row in gone])
            for row in gone:
                if row[4]:
                    _hand_on_label(db, take_id, row[4], _reading(row[5]), passage.presses)
        return changed + [row[0] for row in gone]

    def set_label(self, press_id: int, label: str) -> None:
        with self.changing() as db:
            db.execute("UPDATE press SET label = ?, handed_on = 0 WHERE id = ?", (label, press_id))

    def set_deleted(self, press_ids: tuple[int, ...], deleted: bool) -> None:
        """Deleted presses are hidden; their pulses stay in the take."""
        with self.changing() as db:
            db.executemany("UPDATE press SET deleted = ? WHERE id = ?", [(deleted, i) for i in press_ids])

    # Keys and sheets

    def key_places(self, gadget_id: int) -> list[KeyPlace]:
        query = "SELECT name, place_row, place_col FROM key WHERE gadget_id = ? ORDER BY place_row, place_col"
        return [KeyPlace(*row) for row in self._rows(query, gadget_id)]

    def place_key(self, gadget_id: int, place: KeyPlace) -> None:
        with self.changing() as db:
            db.execute("REPLACE INTO key VALUES (?, ?, ?, ?)", (gadget_id, place.name, place.row, place.col))

    def remove_key(self, gadget_id: int, name: str) -> None:
        with self.changing() as db:
            db.execute("DELETE FROM key WHERE gadget_id = ? AND name = ?", (gadget_id, name))

    def sheets(self, gadget_id: int) -> dict[str, str]:
        """TOML texts by sheet id."""
        return {
            str(i): str(text) for i, text in self._rows("SELECT id, text FROM sheet WHERE gadget_id = ?", gadget_id)
        }

    def put_sheet(self, gadget_id: int, sheet_id: str, text: str) -> None:
        with self.changing() as db:
            db.execute("REPLACE INTO sheet VALUES (?, ?, ?)", (gadget_id, sheet_id, text))

    def remove_sheet(self, gadget_id: int, sheet_id: str) -> None:
        with self.changing() as db:
            db.execute("DELETE FROM sheet WHERE gadget_id = ? AND id = ?", (gadget_id, sheet_id))

    def dismissed(self, gadget_id: int) -> frozenset[str]:
        """The findings that the user does not believe."""
        return frozenset(
            str(row[0]) for row in self._rows("SELECT finding FROM dismissed WHERE gadget_id = ?", gadget_id)
        )

    def set_dismissed(self, gadget_id: int, findings: frozenset[str]) -> None:
        with self.changing() as db:
            db.execute("DELETE FROM dismissed WHERE gadget_id = ?", (gadget_id,))
            db.executemany("INSERT INTO dismissed VALUES (?, ?)", [(gadget_id, each) for each in sorted(findings)])

    # The shot list

    def shots(self, gadget_id: int) -> Shots:
        query = "SELECT labels, press_id, skipped FROM shot WHERE gadget_id = ? ORDER BY number"
        found = []
        for labels, press_id, skipped in self._rows(query, gadget_id):
            try:
                found.append(Shot(LABELS.decode(labels), press_id, bool(skipped)))
            except DecodeError:
                self._lose("shots that cannot be understood are left out")
        return tuple(found)

    def put_shots(self, gadget_id: int, shots: Shots) -> None:
        """Put this list in place of the one there is."""
        rows = [
            (gadget_id, n, json.dumps(shot.labels, ensure_ascii=False), shot.press_id, shot.skipped)
            for n, shot in enumerate(shots)
        ]
        with self.changing() as db:
            db.execute("DELETE FROM shot WHERE gadget_id = ?", (gadget_id,))
            db.executemany("INSERT INTO shot VALUES (?, ?, ?, ?, ?)", rows)

    # The routine

    def routine(self, gadget_id: int) -> str:
        """The text of what is said to a gadget; empty where nobody wrote one."""
        rows = self._rows("SELECT text FROM routine WHERE gadget_id = ?", gadget_id)
        return str(rows[0][0]) if rows else ""

    def put_routine(self, gadget_id: int, text: str) -> None:
        """Put this text in place of the one there is; a sweep through the old one is over."""
        with self.changing() as db:
            db.execute("INSERT OR REPLACE INTO routine (gadget_id, text) VALUES (?, ?)", (gadget_id, text))

    def sweep(self, gadget_id: int) -> Sweep | None:
        """How far the sweep through a gadget's routine has come."""
        rows = self._rows("SELECT sweep FROM routine WHERE gadget_id = ?", gadget_id)
        try:
            return SWEEP.decode(rows[0][0]) if rows and rows[0][0] else None
        except DecodeError:
            self._lose("a sweep that cannot be understood is left out")
            return None

    def put_sweep(self, gadget_id: int, sweep: Sweep | None) -> None:
        text = encode(sweep).decode() if sweep is not None else ""
        with self.changing() as db:
            db.execute("UPDATE routine SET sweep = ? WHERE gadget_id = ?", (text, gadget_id))

    def _insert(self, statement: str, *values: Any) -> int:
        with self.changing() as db:
            return int(db.execute(statement, values).lastrowid or 0)


def _until(to_us: float) -> int:
    return round(to_us) if math.isfinite(to_us) else MOST_US


def _take(row: tuple[Any, ...], by_hand: ByHand, measured: Measured) -> Take:
    cut, read_whole, hidden = map(bool, row[12:])
    number, gadget_id, source, form, started_at, rate_hz, polarity, carrier_hz, path, channel = row[:10]
    return Take(
        number, gadget_id, source, form, started_at, rate_hz, polarity, carrier_hz, path, channel, by_hand, measured,
        cut, read_whole, hidden,
    )  # fmt: skip


def _by_hand(text: str) -> ByHand:
    return HAND.decode(text) if text else FOUND_OUT


def _measured(text: str) -> Measured:
    return MEASURED.decode(text) if text else NOT_MEASURED


def _dumped(reading: PressReading) -> str:
    return encode(reading).decode()


def _hand_on_label(
    db: sqlite3.Connection, take_id: int, label: str, lost: PressReading | None, presses: Sequence[PressReading]
) -> None:
    """Give the label of a press that is none any more to the one sent at the same time, for as long as that is one."""
    for press in presses if lost is not None else ():
        if lost is not None and press.overlaps(lost):
            query = "UPDATE press SET label = ?, handed_on = 1 WHERE take_id = ? AND first = ? AND label = ''"
            db.execute(query, (label, take_id, press.place))
            return


def _reading(text: object) -> PressReading | None:
    try:
        return READING.decode(text) if isinstance(text, str) else None
    except DecodeError:
        return None


def _press(row: tuple[Any, ...], reading: PressReading) -> Caught:
    press_id, take_id, gadget_id, caught_at, label, stray, deleted, _ = row
    return Caught(press_id, take_id, gadget_id, caught_at, str(label), bool(stray), bool(deleted), reading)
