"""Sources and files in the real window: an ear kept open, a recording played, samples described, a long file."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog
from pytestqt.qtbot import QtBot

from eager_tern.desk.describe import Describe
from eager_tern.desk.window import Window
from eager_tern.devices.serial_port import Port
from eager_tern.formats.capture import Description
from tests.desk.conftest import settle
from tests.desk.test_path import press_key
from tests.handsets import nec, record
from tests.signal.test_following import RATE, line


def test_a_press_missed_while_nothing_was_recorded_can_still_be_had(window: Window, qtbot: QtBot) -> None:
    window.menus.actions["ear"].trigger()
    assert not window.live.on
    assert window.source_panel.isVisible()
    takes, caught = len(window.session.takes()), len(window.session.shown_presses())
    qtbot.waitUntil(lambda: (window.live.condition() or ("", []))[0].startswith("stand-in"), timeout=5000)
    assert "nothing is recorded" in window.source_panel.state.text()
    button = window.handset_panel.buttons["Timer"]
    qtbot.mousePress(button, Qt.MouseButton.LeftButton)
    qtbot.mouseRelease(button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(window.source_panel.have.isVisible, timeout=3000)
    assert len(window.session.takes()) == takes
    qtbot.wait(300)
    qtbot.mouseClick(window.source_panel.have, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(window.session.shown_presses()) == caught + 1, timeout=10_000)
    assert len(window.session.takes()) == takes + 1
    window.source_panel.refresh()
    assert not window.source_panel.have.isVisible()
    # Listening goes over to the source that is open already, and back to the open ear.
    window.toggle_listening()
    press_key(window, qtbot, "Menu")
    window.toggle_listening()
    assert window.live.is_open
    window.menus.actions["ear"].trigger()
    assert not window.live.is_open
    assert not window.source_panel.isVisible()


def test_a_recording_can_be_the_source(
    window: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, rng: np.random.Generator
) -> None:
    signed = np.concatenate(([-250_000.0], record([*nec(3, 7), -200_000.0], rng)))
    soundfile.write(str(tmp_path / "a.wav"), line(signed, rng), RATE)
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **_: (str(tmp_path / "a.wav"), ""))
    window.ask_play()
    assert window.header.source.text().startswith("Playing a.wav")
    caught = len(window.session.shown_presses())
    window.toggle_listening()
    qtbot.waitUntil(lambda: "to its end" in window.notice.text, timeout=5000)
    qtbot.waitUntil(lambda: len(window.session.shown_presses()) > caught, timeout=10_000)
    assert [p.reading.fields for p in window.session.shown_presses()[caught:]] == [{"address": 3, "command": 7}]


def test_bare_samples_are_asked_about(
    window: Window, qtbot: QtBot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, rng: np.random.Generator
) -> None:
    path = tmp_path / "lamp_433.92M_500k.cu8"
    path.write_bytes(rng.integers(120, 135, 40_000).astype(np.uint8).tobytes())
    seen = []

    def accept(dialog: Describe) -> bool:
        seen.append(dialog.description)
        dialog.rate.setText("fast")
        assert not dialog.read.isEnabled()
        dialog.rate.setText("250 k")
        assert dialog.read.isEnabled()
        return True

    monkeypatch.setattr(Describe, "exec", accept)
    takes = len(window.session.takes())
    window.import_files([path])
    qtbot.waitUntil(lambda: len(window.session.takes()) == takes + 1, timeout=20_000)
    qtbot.waitUntil(lambda: not window.imports.busy, timeout=20_000)
    assert seen == [Description("cu8", 500_000.0)]
    assert window.session.takes()[-1].sample_rate_hz == 250_000.0


def test_a_long_file_is_in_the_log_before_it_is_read_to_its_end(
    window: Window, qtbot: QtBot, tmp_path: Path, rng: np.random.Generator
) -> None:
    presses = [record([*nec(9, n % 250), -200_000.0], rng, jitter_us=20) for n in range(4500)]
    words = " ".join(f"{d:+.0f}" for d in np.concatenate(presses))
    (tmp_path / "long.txt").write_text(words)
    counts: list[int] = []
    told: list[str] = []
    before = len(window.session.shown_presses())
    window.session.presses_added.when(lambda: counts.append(len(window.session.shown_presses()) - before))
    window.imports.told.connect(told.append)
    window.import_files([tmp_path / "long.txt"])
    qtbot.waitUntil(lambda: bool(counts), timeout=30_000)
    assert 0 < counts[0] < 4500
    # What was read is told right behind its presses.
    qtbot.waitUntil(lambda: any("so far" in words and "%" in words for words in told), timeout=5000)
    window.notice._action.click()  # Stop
    qtbot.waitUntil(lambda: not window.imports.busy, timeout=5000)
    kept = len(window.session.shown_presses()) - before
    assert 0 < kept < 4500
    assert told[-1] == ""


def test_the_device_listened_to_last_is_taken_again(
    empty_window: Window, demo_casebook: Path, monkeypatch: pytest.MonkeyPatch, qtbot: QtBot
) -> None:
    def opened(window: Window) -> Window:
        window.open_casebook(demo_casebook)
        window.show()
        qtbot.waitUntil(lambda: window.sources.devices is not None, timeout=5000)
        settle(window)
        return window

    ports = [Port("/dev/ttyEAGER0", "recorder"), Port("/dev/ttyEAGER1", "another recorder")]
    monkeypatch.setattr("eager_tern.session.sources.live_devices", lambda: ports)
    opened(empty_window)
    menu = empty_window.header.source.menu()
    menu.aboutToShow.emit()
    next(action for action in menu.actions() if "another" in action.text()).trigger()
    empty_window.close()
    again = opened(Window())
    assert again.header.choice is not None
    assert again.header.choice.device == "/dev/ttyEAGER1"
    again.close()
    del ports[1:]  # it was unplugged
    once_more = opened(Window())
    assert once_more.header.choice is not None
    assert once_more.header.choice.device == "/dev/ttyEAGER0"
    once_more.close()
