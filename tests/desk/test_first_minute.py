"""The first minute: nothing is open, somebody presses a button, and it is kept."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from pytestqt.qtbot import QtBot

import eager_tern.session.sources
from eager_tern.casebook.store import Casebook
from eager_tern.desk.window import Window
from eager_tern.desk.wiring import WIRINGS
from eager_tern.devices.serial_port import Port
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.places import casebooks_folder
from eager_tern.protocol.loading import library_sheet
from eager_tern.protocol.making import press_frames
from tests.desk.conftest import settle
from tests.desk.test_path import type_label


@pytest.fixture
def board(monkeypatch: pytest.MonkeyPatch) -> Iterator[StandInProcess]:
    """A recorder at a real serial port, and another that nobody may open."""
    stand_in = StandInProcess()
    ports = [Port(stand_in.device, "Recorder board"), Port("/dev/no-such-port", "Somebody else's")]
    monkeypatch.setattr(eager_tern.session.sources, "live_devices", lambda: ports)
    yield stand_in
    stand_in.stop()


def press(board: StandInProcess, command: int) -> None:
    sheet = library_sheet("nec")
    assert sheet is not None
    frames = np.concatenate(press_frames(sheet, {"address": 91, "command": command})).tolist()
    board.down(frames, frames, 1)
    board.up()


def test_from_a_fresh_start_to_a_named_press_in_two_actions(
    board: StandInProcess, empty_window: Window, qtbot: QtBot
) -> None:
    window = empty_window
    qtbot.waitUntil(lambda: board.device in window.pages.start.states, timeout=5000)
    heard = window.pages.start.states[board.device]
    qtbot.waitUntil(lambda: window.pages.start.states["/dev/no-such-port"].text() != "", timeout=5000)
    press(board, 3)
    qtbot.waitUntil(lambda: heard.text() == "this one hears it", timeout=5000)
    assert not list(casebooks_folder().glob("*"))  # what is heard by the way is not kept
    qtbot.mouseClick(window.pages.start.listens[0], Qt.MouseButton.LeftButton)  # the first action
    qtbot.waitUntil(lambda: window.live.on, timeout=5000)
    qtbot.waitUntil(lambda: "stand-in" in (window.live.condition() or ("", []))[0], timeout=5000)
    press(board, 4)
    qtbot.waitUntil(lambda: len(window.session.selected) == 1, timeout=8000)
    type_label(window, qtbot, "Power")  # the second
    assert window.notice.text.startswith("Kept in")
    window.toggle_listening()
    settle(window)
    assert window.session.casebook is not None
    path = window.session.casebook.path
    assert path.parent == casebooks_folder()
    window.close()
    kept = Casebook.open(path)
    assert [p.label for p in kept.presses() if not p.stray] == ["Power"]
    kept.close()


def test_a_recording_that_is_dropped_is_kept(empty_window: Window, tmp_path: Path) -> None:
    sheet = library_sheet("nec")
    assert sheet is not None
    us = press_frames(sheet, {"address": 91, "command": 3})[0]
    (tmp_path / "one.txt").write_text(" ".join(f"{each:+.0f}" for each in us[:-1]))
    empty_window.import_files([tmp_path / "one.txt"])
    settle(empty_window)
    settle(empty_window)
    assert [p.reading.fields["command"] for p in empty_window.session.shown_presses()] == [3]
    assert empty_window.session.is_unnamed


def test_listening_at_once_with_the_simulated_handset(empty_window: Window, qtbot: QtBot) -> None:
    qtbot.mouseClick(empty_window.header.listen, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: empty_window.live.on, timeout=8000)
    assert empty_window.handset_panel.isVisible()


def test_how_a_receiver_is_connected(empty_window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    wiring = empty_window.pages.start.wiring
    qtbot.waitUntil(wiring.isVisible, timeout=5000)  # nothing was found
    for at in range(len(WIRINGS)):
        wiring.tabs.setCurrentIndex(at)
        assert "data to" in wiring.drawing.accessibleName()
        assert wiring.words.text()
    wiring.save_firmware(tmp_path)
    assert (tmp_path / "tern_recorder/tern_recorder.ino").exists()
    wiring.save_firmware(tmp_path)
    assert "exists already" in empty_window.notice.text
