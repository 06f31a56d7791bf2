"""The casebook as a file: old ones, damaged ones, held ones, and disks that refuse."""

from __future__ import annotations

import os
import shutil
import signal
import sqlite3
import subprocess
import sys
import textwrap
from pathlib import Path

import numpy as np
import pytest

from eager_tern.casebook import file as casebook_file
from eager_tern.casebook.file import BESIDE, SCHEMA, DamagedError
from eager_tern.casebook.rescue import free_name, rescue
from eager_tern.casebook.shots import parse_plan
from eager_tern.casebook.store import Casebook
from eager_tern.errors import InputError
from eager_tern.formats.registry import read_captures
from tests.casebook.test_store import child_env, reading

OLDER = Path(__file__).with_name("older")


@pytest.mark.parametrize("schema", range(1, SCHEMA))
def test_a_casebook_of_every_schema_so_far_is_brought_up_and_can_be_read(tmp_path: Path, schema: int) -> None:
    path = tmp_path / "old.tern"
    shutil.copy(OLDER / f"schema-{schema}.tern", path)
    before = path.read_bytes()
    only_read = Casebook.open(path, read_only=True)
    assert [press.label for press in only_read.presses()] == ["Next slide"]
    assert [len(only_read.shots(1)), only_read.dismissed(1)] == [int(schema > 1), frozenset()]
    only_read.close()
    assert path.read_bytes() == before
    book = Casebook.open(path)
    assert book.take_pulses(1).durations_us.tolist() == [9000, 4500, 560, 560, 560, 1690, 560]
    assert (book.take(1).cut, book.take(1).read_whole, book.take(1).hidden) == (False, True, False)
    book.put_shots(1, parse_plan("Menu"))
    book.set_dismissed(1, frozenset({"sum 7"}))
    book.close()
    assert sqlite3.connect(path).execute("PRAGMA user_version").fetchone()[0] == SCHEMA
    assert [p.name for p in tmp_path.iterdir()] == ["old.tern"]


def test_an_old_casebook_on_a_full_disk_stays_as_it_was(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "old.tern"
    shutil.copy(OLDER / "schema-1.tern", path)

    def on_a_full_disk(where: Path) -> sqlite3.Connection:
        db = sqlite3.connect(where, isolation_level=None)
        db.execute(f"PRAGMA max_page_count = {db.execute('PRAGMA page_count').fetchone()[0]}")
        return db

    with monkeypatch.context() as patched:
        patched.setattr("eager_tern.casebook.store.connect", on_a_full_disk)
        with pytest.raises(InputError, match=r"could not be brought up to date: .* disk is full; it is as it was"):
            Casebook.open(path)
    assert sqlite3.connect(path).execute("PRAGMA user_version").fetchone()[0] == 1
    Casebook.open(path).close()


def test_what_another_process_holds_is_not_replaced(tmp_path: Path) -> None:
    held = Casebook.create(tmp_path / "held.tern")
    held.add_gadget("Lamp")
    program = f"""
        from pathlib import Path
        from eager_tern.casebook.store import Casebook
        from eager_tern.errors import InputError
        other = Casebook.create(Path({str(tmp_path / "other.tern")!r}))
        try:
            other.copy_to(Path({str(held.path)!r}))
        except InputError as error:
            print(error.reason)
    """
    command = [sys.executable, "-c", textwrap.dedent(program)]
    out = subprocess.run(command, capture_output=True, text=True, check=True, env=child_env())
    assert "is open in another Eager Tern" in out.stdout
    held.add_gadget("Projector")
    held.close()
    assert [g.name for g in Casebook.open(held.path).gadgets()] == ["Lamp", "Projector"]


def test_a_new_casebook_takes_no_other_files_place(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "a.tern").write_text("something of somebody's")
    with pytest.raises(InputError, match="exists already"):
        Casebook.create(tmp_path / "a.tern")
    assert (tmp_path / "a.tern").read_text() == "something of somebody's"
    monkeypatch.setattr(casebook_file, "_put_in_place", _refuse)
    with pytest.raises(InputError, match="disk is full"):
        Casebook.create(tmp_path / "b.tern")
    assert [p.name for p in tmp_path.iterdir()] == ["a.tern"]  # no stub is left


def _refuse(*_: object) -> None:
    raise OSError(28, "No space left on device")


def test_a_folder_that_cannot_be_written_is_said(tmp_path: Path) -> None:
    with pytest.raises(InputError, match=r"cannot be written|does not exist"):
        Casebook.create(Path("/proc/nowhere.tern"))
    with pytest.raises(InputError, match="does not exist"):
        Casebook.create(tmp_path / "none" / "a.tern")


def test_what_a_crash_has_left_is_read_without_being_touched(tmp_path: Path) -> None:
    path = tmp_path / "crashed.tern"
    program = f"""
        import os, signal
        import numpy as np
        from pathlib import Path
        from eager_tern.casebook.store import Casebook
        book = Casebook.create(Path({str(path)!r}))
        take = book.add_take(book.add_gadget("Lamp"), "x", "recorder")
        book.append_durations(take, np.array([500.0, -600.0, 700.0]))
        with book.changing():
            book.append_durations(take, np.ones(200_000))
            os.kill(os.getpid(), signal.SIGKILL)
    """
    done = subprocess.run([sys.executable, "-c", textwrap.dedent(program)], env=child_env(), check=False)
    assert done.returncode == -signal.SIGKILL
    there = {p.name: p.read_bytes() for p in tmp_path.iterdir() if not p.name.endswith("-shm")}
    assert set(there) > {"crashed.tern"}
    (capture,) = read_captures(path)
    assert capture.pulses.durations_us.tolist() == [500, 600, 700]
    assert {p.name: p.read_bytes() for p in tmp_path.iterdir() if not p.name.endswith("-shm")} == there
    book = Casebook.open(path)
    assert book.take_pulses(1).durations_us.tolist() == [500, 600, 700]
    book.close()
    assert not any(path.with_name(path.name + end).exists() for end in BESIDE)


def test_a_file_that_was_deleted_or_replaced_is_noticed(tmp_path: Path) -> None:
    book = Casebook.create(tmp_path / "a.tern")
    assert book.still_there
    (tmp_path / "a.tern").rename(tmp_path / "b.tern")
    assert not book.still_there
    (tmp_path / "a.tern").write_bytes(b"another file")
    assert not book.still_there
    book.close()


def example(path: Path) -> bytes:
    """A casebook of some thirty pages with everything in it."""
    book = Casebook.create(path)
    rng = np.random.default_rng(2)
    for name in ("Lamp", "Gauge"):
        gadget = book.add_gadget(name, "about it")
        take = book.add_take(gadget, "test", "recorder")
        for n in range(20):
            book.append_durations(take, rng.uniform(400, 1700, 300) * np.tile([1, -1], 150))
            book.put_press(take, reading(n, 300 * n), label=f"key {n}")
        book.put_sheet(gadget, "mine", 'id = "mine"')
        book.put_shots(gadget, parse_plan("level 1..9"))
    book.close()
    return path.read_bytes()


def damaged(whole: bytes, rng: np.random.Generator) -> bytes:
    """Flipped bytes, pages of zeros, a page in another's place, or an end that is missing."""
    data = bytearray(whole)
    kind = rng.integers(4)
    if kind == 0:
        for at in rng.integers(0, len(data), rng.integers(1, 60)):
            data[at] = rng.integers(256)
    elif kind == 1:
        for page in rng.integers(1, len(data) // 4096, rng.integers(1, 4)):
            data[4096 * page : 4096 * (page + 1)] = bytes(4096)
    elif kind == 2:
        one, other = rng.integers(1, len(data) // 4096, 2)
        data[4096 * one : 4096 * (one + 1)] = whole[4096 * other : 4096 * (other + 1)]
    else:
        del data[rng.integers(100, len(data)) :]
    return bytes(data)


def look_at_everything(book: Casebook) -> None:
    for gadget in book.gadgets():
        book.presses(gadget.id)
        book.key_places(gadget.id)
        book.sheets(gadget.id)
        book.shots(gadget.id)
        book.dismissed(gadget.id)
    for take in book.takes():
        book.take_pulses(take.id)


def test_damaged_casebooks_are_refused_or_read_as_far_as_they_go(tmp_path: Path) -> None:
    """50 of them: nothing but our own error leaves the store, and the damaged file stays what it was."""
    whole = example(tmp_path / "whole.tern")
    rng = np.random.default_rng(9)
    rescued = opened = 0
    for _ in range(50):
        path = tmp_path / "damaged.tern"
        path.write_bytes(content := damaged(whole, rng))
        try:
            read_captures(path)
        except InputError as error:
            assert str(path) in str(error)
        assert path.read_bytes() == content
        try:
            book = Casebook.open(path)
        except DamagedError:
            assert path.read_bytes() == content
            try:
                found = rescue(path, free_name(path))
            except InputError:
                pass
            else:
                rescued += 1
                again = Casebook.open(found.path)
                look_at_everything(again)
                again.close()
                found.path.unlink()
        except InputError:
            pass
        else:
            opened += 1
            try:
                look_at_everything(book)
            except InputError as error:
                assert "damaged" in str(error)
            book.close()
        for end in ("", *BESIDE):
            path.with_name(path.name + end).unlink(missing_ok=True)
    assert rescued > 16
    assert opened > 2


def test_a_read_only_place_is_said(tmp_path: Path) -> None:
    if os.geteuid() == 0:
        pytest.skip("root may write everywhere")
    book = Casebook.create(tmp_path / "a.tern")
    book.close()
    tmp_path.chmod(0o500)
    with pytest.raises(InputError, match=r"read-only|cannot be"):
        Casebook.open(tmp_path / "a.tern")
    tmp_path.chmod(0o700)
