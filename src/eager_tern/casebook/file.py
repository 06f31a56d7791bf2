"""The casebook as a file: created whole, held by one process, brought up to the present schema, opened to be read."""

from __future__ import annotations

import fcntl
import os
import shutil
import sqlite3
import tempfile
from contextlib import closing, suppress
from importlib.resources import files
from pathlib import Path

from eager_tern.casebook.signature import SUFFIX
from eager_tern.errors import InputError
from eager_tern.replacing import not_written

APPLICATION_ID = 0x5465726E  # "Tern", where SQLite and file(1) look for it
SCHEMA = 6
PLACED_BY_TIME = 5  # schema from which a press is told by when it begins, no longer by the index of its first mark
BESIDE = ("-wal", "-shm", "-journal")  # what SQLite keeps beside a database that is being changed
# What reading a database may raise: one whose own words are damaged cannot even say so.
FAULTS = (sqlite3.Error, UnicodeError, OverflowError)
BUSY_S = 5.0  # how long one of our connections waits for the other: its changes take milliseconds


class Hold:
    """A casebook file held by this process: nobody else may write it, or put another in its place.

    The lock is on the file itself, so that it goes with the process however that ends.
    """

    def __init__(self, path: Path) -> None:
        """Take hold. Raises InputError where another process has it."""
        self.path = path
        try:
            self._file = os.open(path, os.O_RDONLY)
        except OSError as error:
            raise InputError(path, reason_of(error)) from None
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            os.close(self._file)
            raise InputError(path, "is open in another Eager Tern; close it there first") from None

    @property
    def still_there(self) -> bool:
        """Whether the file is where it was: somebody may have deleted it, or put another in its place."""
        try:
            there, held = os.stat(self.path), os.fstat(self._file)
        except OSError:
            return False
        return (there.st_dev, there.st_ino) == (held.st_dev, held.st_ino)

    def release(self) -> None:
        """Let go. Only behind the last connection: closing the file lets go of SQLite's own locks, too."""
        if self._file >= 0:
            os.close(self._file)
            self._file = -1


def create_file(path: Path) -> None:
    """A new, empty casebook: whole or not at all. Raises InputError, also where the file exists."""
    if path.exists():
        raise InputError(path, "exists already")
    try:
        file, name = tempfile.mkstemp(prefix=f".{path.stem[:40]}-", suffix=SUFFIX, dir=path.absolute().parent)
        os.close(file)
    except OSError as error:
        raise InputError(path, reason_of(error)) from None
    partial = Path(name)
    try:
        with closing(sqlite3.connect(partial, isolation_level=None)) as db:
            db.executescript((files("eager_tern.casebook") / "schema.sql").read_text("utf-8"))
            db.execute(f"PRAGMA application_id = {APPLICATION_ID}")
            db.execute(f"PRAGMA user_version = {SCHEMA}")
        partial.chmod(0o644)
        _put_in_place(partial, path)
    except (sqlite3.Error, OSError) as error:
        raise InputError(path, reason_of(error)) from None
    finally:
        partial.unlink(missing_ok=True)


def _put_in_place(partial: Path, path: Path) -> None:
    """Give a file its name without ever taking another's place."""
    try:
        os.link(partial, path)
    except FileExistsError:
        raise InputError(path, "exists already") from None
    except OSError:  # a file system without links
        if path.exists():
            raise InputError(path, "exists already") from None
        partial.rename(path)


def copy_in_place(db: sqlite3.Connection, path: Path) -> None:
    """A copy of an open casebook under another name, in place of what stands there unless somebody holds it. Raises
    InputError.
    """
    hold = Hold(path) if path.exists() else None
    partial = path.with_name(f".{path.name}.partial")
    try:
        partial.unlink(missing_ok=True)
        with closing(sqlite3.connect(partial)) as copy:
            db.backup(copy)
            copy.execute("PRAGMA journal_mode = DELETE")
        for end in BESIDE:
            path.with_name(path.name + end).unlink(missing_ok=True)
        partial.replace(path)
    except (sqlite3.Error, OSError) as error:
        raise InputError(path, reason_of(error)) from None
    finally:
        with suppress(OSError):
            partial.unlink(missing_ok=True)
        if hold is not None:
            hold.release()


def connect(path: Path) -> sqlite3.Connection:
    """A connection for reading and writing. Several of one process may be open; a reader never waits for a writer."""
    db = sqlite3.connect(path, timeout=BUSY_S, isolation_level=None, check_same_thread=False)
    try:
        db.text_factory = _text
        db.execute("PRAGMA foreign_keys = ON")
        db.execute("PRAGMA synchronous = FULL")
    except FAULTS:
        db.close()
        raise
    return db


def disconnect(db: sqlite3.Connection, last: bool) -> None:
    """Close a connection; behind the last one the casebook is a single file again."""
    with suppress(*FAULTS):
        if last:
            db.execute("PRAGMA journal_mode = DELETE").fetchall()
    db.close()


def check_and_bring_up(db: sqlite3.Connection, path: Path) -> None:
    """Make sure that a database is a whole casebook, and give an older one what this schema has. Nothing is written
    before that is sure. Raises InputError, DamagedError where it is not whole.
    """
    version = version_of(db, path)
    try:
        missing = version == SCHEMA and bool(_missing(db))
    except FAULTS as error:
        raise DamagedError(path, reason_of(error)) from None
    if not is_whole(db):
        raise DamagedError(path, "is damaged")
    if missing:
        raise DamagedError(path, "is damaged: a table or a column is missing in it")
    try:
        db.execute("PRAGMA journal_mode = WAL").fetchall()
        if version < SCHEMA:
            bring_up(db, version)
    except FAULTS as error:
        what = "could not be brought up to date: " if version < SCHEMA else ""
        as_it_was = "; it is as it was" if version < SCHEMA else ""
        raise InputError(path, f"{what}{reason_of(error)}{as_it_was}") from None


def is_whole(db: sqlite3.Connection) -> bool:
    """Whether all pages of a database are what they should be: one that is not may be read without end."""
    try:
        return bool(db.execute("PRAGMA quick_check(1)").fetchall()[0][0] == "ok")
    except FAULTS:
        return False


def version_of(db: sqlite3.Connection, path: Path) -> int:
    """The schema of a casebook. Raises InputError where it is none, or too new for this version."""
    try:
        application = db.execute("PRAGMA application_id").fetchone()[0]
        version = int(db.execute("PRAGMA user_version").fetchone()[0])
    except FAULTS as error:
        raise InputError(path, reason_of(error)) from None
    if application != APPLICATION_ID:
        raise InputError(path, "is a database, but not a casebook")
    if version > SCHEMA:
        reason = f"was written by a newer Eager Tern (schema {version}, this one knows {SCHEMA}); nothing was changed"
        raise InputError(path, reason)
    return version


def bring_up(db: sqlite3.Connection, version: int) -> None:
    """Give an older casebook what this schema has beside its own, tables and columns: all of it or nothing.

    Every schema but the fifth has only added to the one before it.
    """
    db.execute("BEGIN IMMEDIATE")
    try:
        for statement in _missing(db):
            db.execute(statement)
        if version < PLACED_BY_TIME:
            db.execute("UPDATE press SET first = -1 - id")  # out of each other's way
            db.execute("UPDATE press SET first = round(coalesce(json_extract(reading, '$.start_us'), 0))")
        db.execute(f"PRAGMA user_version = {SCHEMA}")
        db.execute("COMMIT")
    except FAULTS:
        if db.in_transaction:
            db.execute("ROLLBACK")
        raise


def open_damaged(path: Path) -> sqlite3.Connection:
    """A connection that reads a database as it is, whatever is wrong with it. Raises InputError."""
    try:
        db = sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro&immutable=1", uri=True, isolation_level=None)
    except FAULTS as error:
        raise InputError(path, reason_of(error)) from None
    db.text_factory = _text
    return db


def open_to_read(path: Path) -> tuple[sqlite3.Connection, Path | None]:
    """A connection that only reads, and the folder of the copy that it reads, where it has to be one: of an older
    schema, or left by a crash in the midst of a change. The casebook itself is not touched. Raises InputError, and
    DamagedError where it is not whole.
    """
    if not any(path.with_name(path.name + end).exists() for end in BESIDE):
        db = sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro&immutable=1", uri=True, isolation_level=None)
        db.text_factory = _text
        try:
            if version_of(db, path) == SCHEMA:
                if is_whole(db):
                    return db, None
                raise DamagedError(path, "is damaged")
        except InputError:
            db.close()
            raise
        db.close()
    folder = Path(tempfile.mkdtemp(prefix="eager-tern-"))
    try:
        for end in ("", "-wal", "-journal"):
            if path.with_name(path.name + end).exists():
                shutil.copyfile(path.with_name(path.name + end), folder / f"copy{end}")
        db = sqlite3.connect(folder / "copy", isolation_level=None)
        db.text_factory = _text
        version = version_of(db, path)
        if not is_whole(db):
            raise DamagedError(path, "is damaged")
        if version < SCHEMA:
            bring_up(db, version)
    except (*FAULTS, OSError, InputError) as error:
        shutil.rmtree(folder, ignore_errors=True)
        raise error if isinstance(error, InputError) else InputError(path, reason_of(error)) from None
    return db, folder


def _missing(db: sqlite3.Connection) -> list[str]:
    """The statements that would make what a database lacks of this schema."""
    statements = []
    with closing(sqlite3.connect(":memory:")) as model:
        model.executescript((files("eager_tern.casebook") / "schema.sql").read_text("utf-8"))
        for table, create in model.execute("SELECT name, sql FROM sqlite_master WHERE type = 'table'").fetchall():
            there = {row[1] for row in db.execute(f"PRAGMA table_info({table})")}
            if not there:
                statements.append(create)
                continue
            for _, name, kind, not_null, default, _ in model.execute(f"PRAGMA table_info({table})"):
                if name not in there:
                    rest = f"{' NOT NULL' if not_null else ''}{f' DEFAULT {default}' if default is not None else ''}"
                    statements.append(f"ALTER TABLE {table} ADD COLUMN {name} {kind}{rest}")
    return statements


def _text(raw: bytes) -> str:
    return raw.decode("utf-8", "replace")


class DamagedError(InputError):
    """A casebook that is damaged: what can be read of it can be rescued."""


def is_damage(error: Exception) -> bool:
    """Whether a database complains of its file rather than of the disk or of another process."""
    if not isinstance(error, sqlite3.Error):
        return True
    code = getattr(error, "sqlite_errorcode", None)
    return code is not None and code & 0xFF in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_SCHEMA)


def complaint(path: Path, error: Exception) -> InputError:
    """What to raise of a casebook when its database complains."""
    return (DamagedError if is_damage(error) else InputError)(path, reason_of(error))


def reason_of(error: Exception) -> str:
    """A database's or the system's complaint in words for the user."""
    if isinstance(error, OSError):
        return "does not exist" if error.errno == 2 and error.filename else not_written(error)
    if isinstance(error, UnicodeError | OverflowError):
        return "is damaged"
    text = str(error)
    if "locked" in text:
        return "is being written by another program; try again when that is done"
    if "full" in text:
        return "cannot be written because the disk is full"
    if "not a database" in text:
        return "is not a casebook"
    if "readonly" in text:
        return "cannot be written: it is read-only"
    if "unable to open" in text:
        return "cannot be opened or created there"
    if "malformed" in text or "no such" in text:
        return "is damaged"
    if "I/O" in text:
        return "cannot be read or written: the disk reports an error"
    return text
