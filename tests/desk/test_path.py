"""The whole path in the real window: listen, press, label, see the key take its place, export."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLineEdit
from pytestqt.qtbot import QtBot

from eager_tern.casebook.store import Casebook
from eager_tern.desk.settings import load_settings
from eager_tern.desk.window import Window
from eager_tern.export.writing import KINDS
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library
from tests.desk.conftest import settle


def press_key(window: Window, qtbot: QtBot, name: str, hold_ms: int = 40) -> None:
    """Click a key of the simulated handset with the mouse, and wait until its press is in the log."""
    before = len(window.session.shown_presses())
    button = window.handset_panel.buttons[name]
    qtbot.mousePress(button, Qt.MouseButton.LeftButton)
    qtbot.wait(hold_ms)
    qtbot.mouseRelease(button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(window.session.shown_presses()) > before, timeout=5000)


def type_label(window: Window, qtbot: QtBot, text: str) -> None:
    """Type a label into the log as a user does."""
    view = window.log.view
    qtbot.keyClick(view, Qt.Key.Key_Return)
    editor = view.findChild(QLineEdit, "label-editor")
    assert editor is not None
    qtbot.keyClicks(editor, text)
    qtbot.keyClick(editor, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: view.findChild(QLineEdit, "label-editor") is None, timeout=2000)


def test_from_listen_to_export(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    session = window.session
    assert [key.name for key in session.key_table() if key.best is None] == [
        "Timer", "Menu", "Zoom −", "Keystone", "Zoom +",
    ]  # fmt: skip
    qtbot.mouseClick(window.header.listen, Qt.MouseButton.LeftButton)
    assert window.header.listen.text() == "Listening · Space to stop"
    press_key(window, qtbot, "Menu")
    (menu,) = session.selected_presses()
    assert (menu.reading.protocol, menu.reading.fields) == ("nec", {"address": 0x5B, "command": 3})
    type_label(window, qtbot, "Menu")
    assert session.press(menu.id).label == "Menu"
    assert next(key for key in window.pages.handset.plate.keys if key.name == "Menu").best is not None
    qtbot.wait(250)
    press_key(window, qtbot, "Zoom +", hold_ms=420)
    qtbot.waitUntil(lambda: session.selected_presses()[0].repeats >= 3, timeout=3000)
    assert "9 of 12" not in window.header._progress.text()
    # The plate gives names, too: a key not caught takes the selected press.
    window.show_leaf("Handset")
    plate = window.pages.handset.plate
    zoom = next(key for key in plate.keys if key.name == "Zoom +")
    qtbot.mouseClick(plate, Qt.MouseButton.LeftButton, pos=plate.box_of(zoom.place).center().toPoint())
    assert session.selected_presses()[0].label == "Zoom +"
    assert window.header._progress.text() == "9 of 12 keys caught"
    qtbot.mouseClick(window.header.listen, Qt.MouseButton.LeftButton)
    assert not window.live.on
    settle(window)
    window.commands.do("home")
    assert window.pages.currentWidget() is window.pages.home
    qtbot.waitUntil(lambda: window.pages.home.write.isEnabled(), timeout=5000)
    window.pages.home.write_to([KINDS["table"], KINDS["header"]], tmp_path)
    assert window.notice.text == f"3 files are in {tmp_path}."
    keys = {key["name"]: key for key in json.loads((tmp_path / "slide_projector_keys.json").read_text())["keys"]}
    assert len(keys) == 9
    assert keys["Menu"]["command"] == 3
    (header,) = read_file(tmp_path / "slide_projector_keys.h", library())
    assert len(header.take.presses) == 9
    # All of it is on disk.
    path = session.casebook.path
    window.open_casebook(path)  # is open already
    window.close()
    kept = Casebook.open(path)
    assert {"Menu", "Zoom +"} <= {press.label for press in kept.presses()}
    kept.close()


def test_toggles_and_obligatory_frames_arrive_as_presses(window: Window, qtbot: QtBot) -> None:
    for gadget_id, key, protocol, frames in ((2, "Quieter", "sirc12", 3), (3, "Red", "rc5", 1)):
        window.choose_gadget(gadget_id)
        settle(window)
        window.toggle_listening()
        for _ in range(2):
            before = len(window.session.shown_presses())
            press_key(window, qtbot, key)
            qtbot.waitUntil(lambda before=before: len(window.session.shown_presses()) > before, timeout=8000)
            qtbot.wait(450)
        window.toggle_listening()
        settle(window)
        last = window.session.shown_presses()[-2:]
        assert all(press.reading.protocol == protocol for press in last)
        assert all(len(press.reading.frames) >= frames for press in last)
        if protocol == "rc5":
            assert last[0].reading.fields["toggle"] != last[1].reading.fields["toggle"]


def test_labels_and_deletions_can_be_taken_back(window: Window, qtbot: QtBot) -> None:
    session = window.session
    (press,) = session.selected_presses()
    type_label(window, qtbot, "Next slide")
    assert session.press(press.id).label == "Next slide"
    window.menus.actions["undo"].trigger()
    assert session.press(press.id).label == ""
    window.menus.actions["redo"].trigger()
    assert session.press(press.id).label == "Next slide"
    count = len(session.shown_presses())
    qtbot.keyClick(window.log.view, Qt.Key.Key_Delete)
    assert len(session.shown_presses()) == count - 1
    assert window.menus.actions["undo"].text() == "&Undo delete"
    window.menus.actions["undo"].trigger()
    assert len(session.shown_presses()) == count


def test_space_listens_and_stops(window: Window, qtbot: QtBot) -> None:
    window.log.view.setFocus()
    qtbot.keyClick(window.log.view, Qt.Key.Key_Space)
    assert window.live.on
    qtbot.keyClick(window.log.view, Qt.Key.Key_Space)
    assert not window.live.on


def test_a_port_that_goes_away_is_said_and_nothing_lost(window: Window, qtbot: QtBot) -> None:
    window.toggle_listening()
    press_key(window, qtbot, "Timer")
    count = len(window.session.shown_presses())
    window.live.stand_in.stop()
    qtbot.waitUntil(lambda: "disappeared" in window.notice.text, timeout=3000)
    assert window.live.on  # the port may come back
    window.toggle_listening()
    assert window.header.listen.text() == "Listen"
    assert len(window.session.shown_presses()) == count


@pytest.mark.parametrize("night", [False, True])
def test_themes_change_at_once_and_are_remembered(window: Window, night: bool) -> None:
    if window.is_night != night:
        window.menus.actions["night"].trigger()
    ground = window.palette().window().color().lightness()
    assert ground < 60 if night else ground > 200
    window.close()
    assert (load_settings().theme == "night") == night


def test_an_armed_source_records_from_the_first_edge_on(window: Window, qtbot: QtBot) -> None:
    window.menus.actions["armed"].trigger()
    takes = len(window.session.takes())
    window.toggle_listening()
    qtbot.wait(200)
    assert window.live.on
    assert window.live.waiting
    assert window.header.listen.text().startswith("Waiting")
    assert len(window.session.takes()) == takes
    press_key(window, qtbot, "Timer")
    assert not window.live.waiting
    assert window.header.listen.text().startswith("Listening")
    assert len(window.session.takes()) == takes + 1
    window.toggle_listening()
    window.menus.actions["armed"].trigger()
    assert not window.settings.armed
