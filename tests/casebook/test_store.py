"""The casebook file: kept at once, held by one, never half changed."""

from __future__ import annotations

import os
import signal
import sqlite3
import subprocess
import sys
import textwrap
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace

from eager_tern.casebook.changes import Delete, History, Label, PlaceKey, Rename
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import KeyPlace, PressReading
from eager_tern.errors import InputError


def reading(command: int = 22, first: int = 0, **more: object) -> PressReading:
    return PressReading(
        frames=((first, first + 66),),
        start_us=1000.0 * first,
        held_us=67_000.0,
        protocol="nec",
        kind="full",
        bits="10" * 16,
        fields={"address": 91, "command": command},
        confidence=0.99,
        check_count=2,
        **more,
    )


@pytest.fixture
def casebook(tmp_path: Path) -> Iterator[Casebook]:
    book = Casebook.create(tmp_path / "book.tern")
    yield book
    book.close()


@pytest.fixture
def press_ids(casebook: Casebook) -> list[int]:
    take = casebook.add_take(casebook.add_gadget("Projector"), "test", "recorder")
    return [casebook.put_press(take, reading(n, 100 * n), caught_at=float(n)) for n in range(3)]


def test_everything_is_there_again(tmp_path: Path, casebook: Casebook, press_ids: list[int]) -> None:
    casebook.append_durations(1, np.array([500.0, -600.25]))
    casebook.append_durations(1, np.array([-100.0, 700.0]))
    casebook.set_label(press_ids[1], "Lamp")
    casebook.place_key(1, KeyPlace("Lamp", 2, 1))
    casebook.put_sheet(1, "mine", 'id = "mine"')
    casebook.close()
    again = Casebook.open(tmp_path / "book.tern")
    assert [gadget.name for gadget in again.gadgets()] == ["Projector"]
    assert again.take_pulses(1).durations_us.tolist() == [500.0, 700.25, 700.0]
    assert [press.label for press in again.presses()] == ["", "Lamp", ""]
    assert again.press(press_ids[2]).reading == reading(2, 200)
    assert again.key_places(1) == [KeyPlace("Lamp", 2, 1)]
    assert again.sheets(1) == {"mine": 'id = "mine"'}
    again.close()


def test_a_press_that_grows_stays_one_and_keeps_its_label(casebook: Casebook, press_ids: list[int]) -> None:
    casebook.set_label(press_ids[0], "Next")
    grown = replace(reading(0, 0), frames=((0, 66), (68, 70)), held_us=120_000.0)
    assert casebook.put_press(1, grown) == press_ids[0]
    kept = casebook.press(press_ids[0])
    assert kept.repeats == 1
    assert kept.label == "Next"
    assert len(casebook.presses()) == 3


def test_two_processes_do_not_hold_one_casebook(tmp_path: Path, casebook: Casebook) -> None:
    casebook.add_gadget("Lamp")
    program = f"""
        from pathlib import Path
        from eager_tern.casebook.store import Casebook
        from eager_tern.errors import InputError
        path = Path({str(casebook.path)!r})
        try:
            Casebook.open(path)
        except InputError as error:
            print(error.reason)
        print(len(Casebook.open(path, read_only=True).gadgets()), "to be read")
    """
    out = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(program)], capture_output=True, text=True, check=True, env=child_env()
    )
    assert "is open in another Eager Tern" in out.stdout
    assert "1 to be read" in out.stdout
    casebook.close()
    Casebook.open(casebook.path).close()


def child_env() -> dict[str, str]:
    return {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)}


def test_a_killed_process_loses_nothing(tmp_path: Path) -> None:
    path = tmp_path / "killed.tern"
    program = f"""
        import time
        import numpy as np
        from pathlib import Path
        from eager_tern.casebook.store import Casebook
        from eager_tern.casebook.values import PressReading
        book = Casebook.create(Path({str(path)!r}))
        take = book.add_take(book.add_gadget("Lamp"), "x", "recorder")
        for n in range(10_000):
            book.append_durations(take, np.array([500.0 + n, -600.0]))
            book.put_press(take, PressReading(frames=((2 * n, 2 * n),), start_us=1e4 * n, held_us=1))
            print(n, flush=True)
    """
    child = subprocess.Popen(
        [sys.executable, "-c", textwrap.dedent(program)], stdout=subprocess.PIPE, text=True, env=child_env()
    )
    assert child.stdout is not None
    told = 0
    for line in child.stdout:
        told = int(line)
        if told >= 25:
            child.send_signal(signal.SIGKILL)
            break
    child.wait()
    child.stdout.close()
    again = Casebook.open(path)
    kept = again.take_pulses(1).durations_us[::2]
    assert kept.size >= told + 1
    assert kept.tolist() == [500.0 + n for n in range(kept.size)]
    assert told + 1 <= len(again.presses()) <= kept.size
    again.close()


@pytest.mark.parametrize(
    ("spoil", "words"),
    [
        (lambda db: db.execute("PRAGMA user_version = 99"), "newer Eager Tern .schema 99"),
        (lambda db: db.execute("PRAGMA application_id = 7"), "not a casebook"),
    ],
)
def test_what_is_not_ours_is_left_alone(casebook: Casebook, spoil: object, words: str) -> None:
    casebook.close()
    db = sqlite3.connect(casebook.path)
    spoil(db)  # type: ignore[operator]
    db.commit()
    db.close()
    before = casebook.path.read_bytes()
    with pytest.raises(InputError, match=words):
        Casebook.open(casebook.path)
    assert casebook.path.read_bytes() == before


def test_rubbish_is_no_casebook(tmp_path: Path) -> None:
    path = tmp_path / "rubbish.tern"
    path.write_bytes(b"SQLite format 3\0" + b"\x01" * 500)
    with pytest.raises(InputError, match="casebook"):
        Casebook.open(path)
    with pytest.raises(InputError, match="does not exist"):
        Casebook.open(tmp_path / "none.tern")
    with pytest.raises(InputError, match="exists already"):
        Casebook.create(path)
    with pytest.raises(InputError, match="does not exist"):
        Casebook.create(tmp_path / "nowhere" / "x.tern")


def test_a_full_disk_is_said_and_changes_nothing(casebook: Casebook, press_ids: list[int]) -> None:
    pages = casebook._db.execute("PRAGMA page_count").fetchone()[0]
    casebook._db.execute(f"PRAGMA max_page_count = {pages + 2}")
    with pytest.raises(InputError, match="disk is full"):
        casebook.append_durations(1, np.ones(100_000))
    assert casebook.take_pulses(1).durations_us.size == 0
    assert len(casebook.presses()) == 3
    casebook._db.execute("PRAGMA max_page_count = 100000")
    casebook.append_durations(1, np.ones(100_000))


def test_a_change_is_whole_or_not_at_all(casebook: Casebook, press_ids: list[int]) -> None:
    with pytest.raises(RuntimeError), casebook.changing():
        casebook.set_label(press_ids[0], "half")
        raise RuntimeError
    assert casebook.press(press_ids[0]).label == ""


def test_save_as_goes_on_in_the_copy(tmp_path: Path, casebook: Casebook, press_ids: list[int]) -> None:
    casebook.copy_to(tmp_path / "copy.tern")
    casebook.close()
    copy = Casebook.open(tmp_path / "copy.tern")
    copy.set_label(press_ids[0], "only here")
    assert copy.path.name == "copy.tern"
    copy.close()
    original = Casebook.open(tmp_path / "book.tern")
    assert original.press(press_ids[0]).label == ""
    original.close()
    assert sorted(p.name for p in tmp_path.iterdir()) == ["book.tern", "copy.tern"]


def test_every_change_can_be_taken_back_and_done_again(casebook: Casebook, press_ids: list[int]) -> None:
    history = History()

    def state() -> tuple[object, ...]:
        presses = casebook.presses()
        return [p.label for p in presses], [p.deleted for p in presses], casebook.key_places(1), casebook.gadgets()

    states = [state()]
    for change in (
        Label(((press_ids[0], "Next"), (press_ids[1], "Previous"))),
        Delete((press_ids[1],)),
        PlaceKey(1, "Next", KeyPlace("Next", 0, 2)),
        PlaceKey(1, "Next", KeyPlace("Next", 1, 1)),
        Rename(1, "Old projector"),
        PlaceKey(1, "Next", None),
        Label(((press_ids[0], "Forward"),)),
    ):
        history.do(casebook, change)
        states.append(state())
    for wanted in reversed(states[:-1]):
        assert history.undo(casebook)
        assert state() == wanted
    assert not history.undo(casebook)
    for wanted in states[1:]:
        assert history.redo(casebook)
        assert state() == wanted
    assert not history.redo(casebook)
    history.undo(casebook)
    history.do(casebook, Label(((press_ids[2], "other"),)))
    assert not history.redo(casebook)
