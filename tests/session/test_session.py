"""The session by itself: opening, changing, overruling, and what comes in, without a window."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule, run_state_machine_as_test

from eager_tern.casebook.changes import Change, Delete, Dismiss, KeepSheet, Label, Overrule, PlaceKey, PlanShots, Rename
from eager_tern.casebook.shots import parse_plan
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import KeyPlace
from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND
from eager_tern.intake.jobs import FileToRead
from eager_tern.session.comparison import ComparisonModel
from eager_tern.session.imports import Imports
from eager_tern.session.inbox import Inbox
from eager_tern.session.session import Session
from eager_tern.session.shot_plan import ShotPlan
from eager_tern.signal.by_hand import ByHand
from eager_tern.signal.values import Floats
from tests.files import audio_line, write_audio, write_text
from tests.handsets import IDLE_US, nec, record, sony
from tests.protocol.test_sheets import SHEET
from tests.session.conftest import Room


def test_it_knows_no_window() -> None:
    import subprocess

    program = "import sys, eager_tern.session.session, eager_tern.session.live, eager_tern.session.comparison\n"
    program += "print([name for name in sys.modules if 'Qt' in name])"
    out = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True, env=_env())
    assert out.stdout.strip() == "[]"


def _env() -> dict[str, str]:
    import os

    return {**os.environ, "PYTHONPATH": os.pathsep.join(sys.path)}


def test_gadgets_and_their_presses(room: Room) -> None:
    session = room.session
    assert [gadget.name for gadget in session.gadgets()] == ["Projector", "Guide"]
    assert [press.reading.fields["command"] for press in session.shown_presses()] == list(range(8))
    assert session.selected == (session.shown_presses()[-1].id,)
    session.choose_gadget(2)
    room.settle()
    assert {press.reading.protocol for press in session.shown_presses()} == {"sirc12"}
    assert session.frame(session.shown_presses()[1]).reading.fields == {"command": 1, "address": 21}


def test_a_damaged_casebook_opens_as_far_as_it_goes(room: Room, book_path: Path, tmp_path: Path) -> None:
    room.session.close()
    data = bytearray(book_path.read_bytes())
    data[4096 * 2 : 4096 * 3] = bytes(4096)
    broken = tmp_path / "broken.tern"
    broken.write_bytes(data)
    room.session.open(broken)
    room.settle()
    assert "broken.tern: is damaged" in room.said[-1]
    assert "It was not touched" in room.said[-1]
    assert broken.read_bytes() == data
    assert room.session.casebook is not None
    assert room.session.casebook.path.name == "broken-rescued.tern"


def test_a_casebook_without_a_gadget_gets_one(room: Room, tmp_path: Path) -> None:
    Casebook.create(tmp_path / "bare.tern").close()
    room.session.open(tmp_path / "bare.tern")
    room.settle(lambda: room.session.casebook is not None and room.session.casebook.path.name == "bare.tern")
    assert room.session.gadget is not None


def test_what_cannot_be_opened_leaves_the_open_one(room: Room, tmp_path: Path) -> None:
    (tmp_path / "rubbish.tern").write_bytes(b"SQLite format 3\0" + b"\x01" * 500)
    for path in (tmp_path / "none.tern", tmp_path / "rubbish.tern"):
        room.session.open(path)
        room.settle()
        assert path.name in room.said[-1]
    room.session.create(tmp_path / "rubbish.tern", "Lamp")
    room.settle()
    assert "exists already" in room.said[-1]
    assert room.session.casebook is not None
    assert room.session.casebook.path.name == "book.tern"
    assert len(room.session.shown_presses()) == 8


def test_stepping_back_a_deleted_press(room: Room) -> None:
    session = room.session
    press = session.shown_presses()[2]
    told: list[int] = []
    session.press_changed.connect(told.append)
    session.change(Delete((press.id,)))
    assert press.id not in [p.id for p in session.shown_presses()]
    session.change(Label(((press.id, "while deleted"),)))
    assert told == [press.id]  # views look it up, and see that it is deleted
    assert session.press(press.id).deleted  # type: ignore[union-attr]
    session.undo()
    session.undo()
    assert [p.id for p in session.shown_presses()].count(press.id) == 1


def test_the_threshold_is_dragged_and_labels_go_with_the_presses(
    room: Room, tmp_path: Path, rng: np.random.Generator
) -> None:
    session, imports = room.session, Imports(room.session)
    signed = record([-IDLE_US, *nec(0x21, 0x35, 1), -IDLE_US, *nec(0x21, 0x36), -IDLE_US], rng)
    write_audio(tmp_path / "a.wav", audio_line(signed, 48_000, rng, mark_high=False, noise=0.01), 48_000)
    imports.read([(tmp_path / "a.wav", AS_FOUND)])
    room.settle(lambda: not imports.busy)
    first, second = session.shown_presses()[-2:]
    session.change(Label(((first.id, "Next"), (second.id, "Previous"))))
    for level in (0.05, -0.05, 0.02):
        imports.read_with_threshold(session.shown_presses()[-1].take_id, level)
        room.settle(lambda: not imports.busy)
        now = session.shown_presses()
        assert [press.label for press in now[-2:]] == ["Next", "Previous"]
        assert len(now) == 10  # never the old ones and the new ones together
    for _ in range(3):
        session.undo()
        assert [press.label for press in session.shown_presses()[-2:]] == ["Next", "Previous"]
        assert len(session.shown_presses()) == 10
    assert [press.id for press in session.shown_presses()[-2:]] == [first.id, second.id]
    session.redo()
    assert len(session.shown_presses()) == 10


def test_what_is_too_short_by_hand_breaks_nothing(room: Room) -> None:
    session = room.session
    for shortest in (1000.0, 5000.0, None):
        session.overrule(
            session.shown_presses()[0].take_id if session.shown_presses() else 1, ByHand(None, None, shortest)
        )
        for press in session.presses:
            session.frame(press)
        room.settle()
        for press in session.presses:
            session.frame(press)
    assert len(session.shown_presses()) == 8


def test_a_sheet_and_its_undo_read_everything_again(room: Room, tmp_path: Path) -> None:
    session = room.session
    (tmp_path / "mine.toml").write_text(SHEET.replace('id = "', 'id = "my-'))
    session.add_sheet(tmp_path / "mine.toml")
    room.settle()
    assert any(key.startswith("my-") for key in session.own_sheets())
    session.undo()
    room.settle()
    assert session.own_sheets() == {}
    assert {press.reading.protocol for press in session.shown_presses()} == {"nec"}


def test_a_folder_with_a_sheet_that_is_wrong_stops_nothing(room: Room, own_home: Path, book_path: Path) -> None:
    from eager_tern.places import sheets_folder

    sheets_folder().mkdir(parents=True)
    (sheets_folder() / "a.toml").write_bytes(b"\xff\xfe")
    (sheets_folder() / "b.toml").write_text("unit_us = " + "9" * 5000)
    (sheets_folder() / "c.toml").write_text("x = " + "[" * 3000)
    room.session.choose_gadget(2)
    room.settle()
    assert len(room.session.shown_presses()) == 3
    assert {name for name in ("a.toml", "b.toml", "c.toml") if any(name in words for words in room.said)} == {
        "a.toml", "b.toml", "c.toml",
    }  # fmt: skip


def test_saving_under_another_name_takes_along_what_no_disk_has_taken(
    room: Room, tmp_path: Path, rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch
) -> None:
    session = room.session
    assert session.service is not None
    assert session.gadget is not None
    append = Casebook.append_durations

    def refuse(book: Casebook, take_id: int, signed_us: Floats) -> None:
        if book.path.name == "book.tern":
            raise InputError(book.path, "cannot be written because the disk is full")
        append(book, take_id, signed_us)

    monkeypatch.setattr(Casebook, "append_durations", refuse)
    session.service.begin(session.gadget.id, "test", session.sheets)
    session.service.hear(record([*nec(9, 9), -IDLE_US], rng))
    room.settle(lambda: any("disk is full" in words for words in room.said))
    session.save_as(tmp_path / "copy.tern")
    room.settle(lambda: len(session.shown_presses()) == 9)
    assert session.casebook is not None
    assert session.casebook.path.name == "copy.tern"
    assert session.shown_presses()[-1].reading.fields == {"address": 9, "command": 9}


def test_a_casebook_deleted_under_us_is_kept_elsewhere(room: Room, book_path: Path) -> None:
    session = room.session
    session.label(session.shown_presses()[0].id, "only in memory?")
    book_path.unlink()
    room.settle(lambda: any("was deleted or replaced" in words for words in room.said))
    room.settle(lambda: session.casebook is not None and session.casebook.path != book_path)
    assert session.shown_presses()[0].label == "only in memory?"
    session.label(session.shown_presses()[1].id, "goes on")
    assert session.casebook is not None
    assert session.casebook.still_there
    assert session.casebook.path.exists()


def test_shots_are_taken_by_what_comes(room: Room, rng: np.random.Generator) -> None:
    session, plan = room.session, ShotPlan(room.session)
    plan.put(parse_plan("mode cool dry"))
    assert session.service is not None
    session.service.begin(1, "test", session.sheets)
    for command in (1, 2):
        session.service.hear(record([*nec(4, command), -IDLE_US], rng))
    room.settle(lambda: len(session.shown_presses()) == 10)
    assert [press.label for press in session.shown_presses()[-2:]] == ["mode = cool", "mode = dry"]
    plan.step_back()
    assert session.shown_presses()[-1].label == ""


def test_findings_outlive_a_label_that_says_nothing_new_and_are_searched_anew_otherwise(room: Room) -> None:
    session, model = room.session, ComparisonModel(room.session)
    for n, press in enumerate(session.shown_presses()):
        session.label(press.id, f"level = {n}")
    model.watch(True)
    model.search()
    room.settle(lambda: model.proof is not None)
    assert [field.name for field in model.comparison.fields] == ["level"]  # type: ignore[union-attr]
    model.watch(False)  # another leaf is in sight
    found = model.comparison
    session.label(session.shown_presses()[0].id, "level = 0 ")
    assert model.comparison is found
    session.label(session.shown_presses()[0].id, "level = 5")
    assert (model.comparison, model.proof) == (found, None)  # what was found stays in sight until it is searched anew
    room.settle(lambda: model.proof is not None)
    assert model.comparison is not found
    model.stop()


def test_many_files_at_once_and_more_while_they_are_read(room: Room, tmp_path: Path, rng: np.random.Generator) -> None:
    session, imports = room.session, Imports(room.session)
    for n in range(6):
        write_text(tmp_path / f"{n}.txt", record([*sony(n, 3), -IDLE_US], rng), "signed")
    imports.read([(tmp_path / f"{n}.txt", AS_FOUND) for n in range(3)])
    imports.read([(tmp_path / f"{n}.txt", AS_FOUND) for n in range(3, 6)])
    room.settle(lambda: not imports.busy and len(session.shown_presses()) == 14)
    assert [p.reading.fields["command"] for p in session.shown_presses()[8:]] == list(range(6))


def test_slices_give_way_to_others() -> None:
    inbox, order = Inbox(), []

    def work(name: str):  # type: ignore[no-untyped-def]
        import time

        for n in range(3):
            order.append(f"{name}{n}")
            time.sleep(0.015)
            yield

    inbox.in_slices(work("a"))
    called_off = inbox.in_slices(work("b"))
    inbox.post(lambda: order.append("posted"))
    called_off.call_off()
    inbox.settle()
    assert order.index("posted") < order.index("a2")
    assert "b2" not in order


class Changes(RuleBasedStateMachine):
    """Random changes: all of them taken back give the first state, all done again the last."""

    path: Path

    def __init__(self) -> None:
        super().__init__()
        self.room = Room(self.path)
        self.session = self.room.session
        self.states = [self.state()]

    def state(self) -> tuple[object, ...]:
        book = self.session.casebook
        assert book is not None
        presses = [(p.id, p.label, p.reading) for p in book.presses() if not p.deleted]
        rest = (book.gadgets(), book.key_places(1), book.sheets(1), book.shots(1), book.dismissed(1), book.takes())
        return presses, rest

    def change(self, change: Change) -> None:
        del self.states[len(self.session.history.done) + 1 :]
        before = len(self.session.history.done)
        self.session.change(change)
        self.room.settle()
        if len(self.session.history.done) > before:
            self.states.append(self.state())

    @rule(at=st.integers(0, 7), text=st.text(max_size=8))
    def label(self, at: int, text: str) -> None:
        shown = [press.id for press in self.session.shown_presses()]
        if shown:  # what is not in sight cannot be labelled
            self.change(Label(((shown[at % len(shown)], text), (shown[at // 2 % len(shown)], text))))

    @rule(at=st.integers(0, 7))
    def delete(self, at: int) -> None:
        shown = self.session.shown_presses()
        if shown:
            self.change(Delete((shown[at % len(shown)].id,)))

    @rule(name=st.sampled_from("abc"), row=st.integers(0, 3), off=st.booleans())
    def place(self, name: str, row: int, off: bool) -> None:
        self.change(PlaceKey(1, name, None if off else KeyPlace(name, row, 0)))

    @rule(name=st.text(min_size=1, max_size=5))
    def rename(self, name: str) -> None:
        self.change(Rename(1, name))

    @rule(count=st.integers(0, 3))
    def plan(self, count: int) -> None:
        labels = tuple((press.id, f"level = {count}") for press in self.session.shown_presses()[:1])
        self.change(PlanShots(1, parse_plan(f"level 0..{count}"), labels))

    @rule(findings=st.frozensets(st.sampled_from("abc")))
    def dismiss(self, findings: frozenset[str]) -> None:
        self.change(Dismiss(1, findings))

    @rule(shortest=st.sampled_from([None, 30.0, 800.0]))
    def overrule(self, shortest: float | None) -> None:
        self.change(Overrule(1, ByHand(shortest_us=shortest)))

    @rule(kept=st.booleans())
    def sheet(self, kept: bool) -> None:
        self.change(KeepSheet(1, "lamp", SHEET if kept else None))

    @precondition(lambda self: self.session.history.done)
    @rule()
    def undo(self) -> None:
        self.session.undo()
        self.room.settle()

    @precondition(lambda self: self.session.history.undone)
    @rule()
    def redo(self) -> None:
        self.session.redo()
        self.room.settle()

    @invariant()
    def is_as_it_was_then(self) -> None:
        assert self.state() == self.states[len(self.session.history.done)]
        book = self.session.casebook
        assert book is not None
        shown = [p.id for p in book.presses(1) if not p.deleted and not p.stray]
        assert [press.id for press in self.session.shown_presses()] == shown

    def teardown(self) -> None:
        last = self.state() if not self.session.history.undone else None
        count = len(self.session.history.done)
        for wanted in reversed(self.states[:count]):
            self.session.undo()
            self.room.settle()
            assert self.state() == wanted
        for wanted in self.states[1 : count + 1]:
            self.session.redo()
            self.room.settle()
            assert self.state() == wanted
        assert last is None or self.state() == last
        self.session.close()


def test_changes_are_taken_back_and_done_again(book_path: Path, tmp_path: Path) -> None:
    number = iter(range(10_000))
    whole = book_path.read_bytes()

    def machine() -> Changes:
        Changes.path = tmp_path / f"{next(number)}.tern"
        Changes.path.write_bytes(whole)
        return Changes()

    run_state_machine_as_test(
        machine,
        settings=settings(
            max_examples=4, stateful_step_count=32, deadline=None, derandomize=True,
            suppress_health_check=list(HealthCheck), phases=(Phase.explicit, Phase.generate),
        ),
    )  # fmt: skip


def test_a_session_that_has_nothing_open_does_nothing(tmp_path: Path) -> None:
    session = Session()
    session.save_as(tmp_path / "a.tern")
    session.select(())
    session.label(1, "x")
    session.undo()
    assert session.key_table() == []
    assert session.gadgets() == []
    assert session.incoming.read_files([FileToRead(tmp_path / "a.txt")]) is None
    session.close()
