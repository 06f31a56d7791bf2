"""What was found about a recording is overruled in the window, and everything follows."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from pytestqt.qtbot import QtBot

from eager_tern.desk.window import Window
from eager_tern.intake.files import read_file
from tests.desk.conftest import settle
from tests.files import audio_line, write_audio
from tests.handsets import IDLE_US, nec, record
from tests.kept import keep


@pytest.fixture
def recorded(window: Window, tmp_path: Path, rng: np.random.Generator) -> Window:
    """A window with a sound card's recording of two presses, the first selected."""
    signed = record([-IDLE_US, *nec(0x21, 0x35, 1), -IDLE_US, *nec(0x21, 0x36), -IDLE_US], rng)
    write_audio(tmp_path / "a.wav", audio_line(signed, 48_000, rng, mark_high=False, noise=0.01), 48_000)
    (found,) = read_file(tmp_path / "a.wav", window.session.sheets)
    assert window.session.gadget is not None
    ids = keep(window.session.casebook, window.session.gadget.id, found)
    window.session.choose_gadget(window.session.gadget.id)
    settle(window)
    window.session.select(ids[:1])
    return window


def commands(window: Window) -> list[int | None]:
    take = window.session.presses[-1].take_id
    return [p.reading.fields.get("command") for p in window.session.shown_presses() if p.take_id == take]


def test_polarity_is_turned_round_and_back(recorded: Window) -> None:
    window = recorded
    row = window.pages.signal.recorded
    assert commands(window) == [0x35, 0x36]
    assert row.polarity.text() == "mark is low"
    row.polarity.click()
    settle(window)
    assert commands(window) != [0x35, 0x36]
    window.session.undo()
    settle(window)
    assert commands(window) == [0x35, 0x36]
    window.session.redo()
    settle(window)
    window.session.undo()
    settle(window)
    assert commands(window) == [0x35, 0x36]


def test_short_pulses_and_gaps_by_hand(recorded: Window) -> None:
    window = recorded
    row = window.pages.signal.recorded
    row.shortest.setValue(800)
    row.shortest.editingFinished.emit()
    settle(window)
    assert 0x35 not in commands(window)
    window.session.undo()
    settle(window)
    assert window.session.shown_presses()[-2].repeats == 1
    row.gap.setValue(300)  # the repeat now belongs to the burst of the frame before it
    row.gap.editingFinished.emit()
    settle(window)
    assert window.session.shown_presses()[-2].repeats == 0
    window.session.undo()
    settle(window)
    assert commands(window) == [0x35, 0x36]


def test_the_threshold_is_dragged_and_the_samples_read_again(recorded: Window, qtbot: QtBot) -> None:
    window = recorded
    line = window.pages.signal.recorded.line
    window.session.select((window.session.shown_presses()[-2].id,))
    assert line.isVisible()
    assert line._level is not None
    y = round(line._y(line._level))
    qtbot.mousePress(line, Qt.MouseButton.LeftButton, pos=QPoint(300, y))
    qtbot.mouseMove(line, QPoint(300, y - 6))
    count = len(window.session.takes())
    qtbot.mouseRelease(line, Qt.MouseButton.LeftButton, pos=QPoint(300, y - 6))
    qtbot.waitUntil(lambda: len(window.session.takes()) == count + 1 and not window.imports.busy, timeout=20_000)
    settle(window)
    assert commands(window) == [0x35, 0x36]
    assert window.session.takes()[-1].by_hand.level is not None
    old = [p for p in window.session.shown_presses() if p.take_id == window.session.takes()[-2].id]
    assert old == []
    window.session.undo()
    settle(window)
    assert [p for p in window.session.shown_presses() if p.take_id == window.session.takes()[-2].id]


def test_the_overview_goes_to_a_press(recorded: Window, qtbot: QtBot) -> None:
    window = recorded
    first, second = window.session.shown_presses()[-2:]
    window.session.select((first.id,))
    overview = window.pages.signal.overview
    qtbot.mouseClick(overview, Qt.MouseButton.LeftButton, pos=QPoint(overview.width() - 90, 18))
    assert window.session.selected == (second.id,)


def test_tapes_lie_by_best_fit(recorded: Window) -> None:
    window = recorded
    window.session.select(tuple(p.id for p in window.session.shown_presses()[-2:]))
    assert window.pages.signal.overlay._rows[1].note.startswith("differs in")
    window.pages.signal.align.click()
    assert window.pages.signal.overlay.best_fit
    assert "first edge" in window.pages.signal.align.text()


def test_the_leaf_fits_a_narrow_window(recorded: Window, qtbot: QtBot) -> None:
    window = recorded
    window.pages.signal.recorded.shortest.setValue(20)
    window.pages.signal.recorded.shortest.editingFinished.emit()
    settle(window)
    window.resize(1024, 700)
    qtbot.waitUntil(lambda: window.width() <= 1024)
    qtbot.wait(50)
    assert window.pages.signal.recorded.back.isVisible()
    assert window.pages.signal.horizontalScrollBar().maximum() == 0
