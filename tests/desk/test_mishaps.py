"""What happens to the window meanwhile: presses while a label is typed, errors in slots, names that are markup."""

from __future__ import annotations

import sys
import threading
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel, QLineEdit
from pytestqt.qtbot import QtBot

from eager_tern.casebook.changes import Rename
from eager_tern.casebook.store import Casebook
from eager_tern.desk.app import say_faults
from eager_tern.desk.help_page import HelpPage
from eager_tern.desk.window import Window
from eager_tern.faults import log
from tests.desk.conftest import settle
from tests.desk.test_path import press_key
from tests.handsets import nec, record

MARKUP = '<img src="file:///dev/zero">'


def editor_of(window: Window) -> QLineEdit:
    editor = window.log.view.editor
    assert editor is not None
    return editor


def test_what_is_typed_stays_whatever_arrives(
    window: Window, qtbot: QtBot, tmp_path: Path, rng: np.random.Generator
) -> None:
    session = window.session
    window.toggle_listening()
    press_key(window, qtbot, "Timer")
    (one,) = session.selected_presses()
    qtbot.keyClick(window.log.view, Qt.Key.Key_Return)
    editor = editor_of(window)
    qtbot.keyClicks(editor, "Egg")
    press_key(window, qtbot, "Menu")
    (tmp_path / "more.txt").write_text(" ".join(f"{d:+.0f}" for d in record([*nec(9, 1), -2e5], rng)))
    window.import_files([tmp_path / "more.txt"])
    settle(window)
    assert editor_of(window) is editor
    qtbot.keyClicks(editor, " timer")
    assert editor.text() == "Egg timer"
    assert window.live.on
    qtbot.keyClick(editor, Qt.Key.Key_Return)
    settle(window)
    named = session.press(one.id)
    assert named is not None
    assert named.label == "Egg timer"
    assert sum(press.label == "Egg timer" for press in session.shown_presses()) == 1
    window.toggle_listening()


def test_a_press_that_comes_while_the_log_looks_at_all_of_them_is_in_it(
    window: Window, monkeypatch: pytest.MonkeyPatch
) -> None:
    session, model = window.session, window.log.model
    last = session.presses[-1]
    later = replace(last.reading, start_us=last.reading.start_us + 1e6)
    with monkeypatch.context() as slow:
        slow.setattr("eager_tern.session.inbox.SLICE_S", 0.0)  # so that it gives way as often as it can
        model.set_filter("nec")
        session.presses.put([replace(last, id=last.id + 1000, reading=later)])
        session.press_changed.emit(last.id + 1000)
    settle(window)
    assert model.row_of(last.id + 1000) == model.rowCount() - 1


def test_an_error_in_a_slot_is_logged_and_said(
    window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    monkeypatch.setattr(sys, "excepthook", sys.excepthook)
    monkeypatch.setattr(threading, "excepthook", threading.excepthook)
    say_faults(window)

    def fail() -> None:
        raise ZeroDivisionError(threading.current_thread().name)

    for start in (lambda: QTimer.singleShot(0, fail), threading.Thread(target=fail, name="another thread").start):
        window.notice.say("")
        start()
        qtbot.waitUntil(lambda: "went wrong (ZeroDivisionError)" in window.notice.text, timeout=3000)
        assert window.notice._action.text() == "Show the log"
    assert [record.name for record in caplog.records] == [log.name] * 2
    assert "MainThread" in caplog.text
    assert "another thread" in caplog.text


def test_names_are_never_markup(window: Window) -> None:
    session = window.session
    assert session.gadget is not None
    session.change(Rename(session.gadget.id, MARKUP))
    session.label(session.shown_presses()[0].id, MARKUP)
    for leaf in ("Signal", "Timing", "Stack", "Sheet", "Handset", "Shots"):
        window.show_leaf(leaf)
        settle(window)
    labels = window.findChildren(QLabel)
    assert len(labels) > 20
    assert {label.textFormat() for label in labels} == {Qt.TextFormat.PlainText}
    tips = [widget.toolTip() for widget in QApplication.allWidgets() if widget.toolTip()]
    assert not any("<img" in tip for tip in tips)


def test_ctrl_c_copies_what_is_in_sight(window: Window, qtbot: QtBot) -> None:
    window.show_leaf("Stack")
    settle(window)
    QApplication.clipboard().clear()  # type: ignore[union-attr]
    window.pages.stack.grid.setFocus()
    qtbot.keyClick(window.pages.stack.grid, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    rows = QApplication.clipboard().text().splitlines()  # type: ignore[union-attr]
    assert len(rows) == window.pages.stack.grid.stack.rows + 1


def test_no_two_commands_share_a_key_and_the_page_of_keys_knows_all(window: Window) -> None:
    used = [command.key for command in window.commands if command.key]
    assert len(used) == len(set(used))
    window.commands.do("keys")
    page = window.pages.currentWidget()
    assert isinstance(page, HelpPage)
    words = {label.text() for label in page.findChildren(QLabel)}
    assert {"Undo", "Listen or stop", "Ctrl+Z", "Space"} <= words


def test_a_new_casebook_never_takes_the_place_of_one(
    window: Window, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    Casebook.create(tmp_path / "eider.tern").close()
    before = (tmp_path / "eider.tern").read_bytes()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_args, **_more: (str(tmp_path / "eider"), ""))
    for ask in (window.ask_new, window.ask_save_as):
        ask()
        assert "eider.tern exists already" in window.notice.text
        assert (tmp_path / "eider.tern").read_bytes() == before
    window.notice._action.click()  # Replace it
    settle(window)
    assert window.session.casebook is not None
    assert window.session.casebook.path == tmp_path / "eider.tern"
