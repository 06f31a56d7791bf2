"""The Timing and Sheet leaves in the real window."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from eager_tern.desk.window import Window
from eager_tern.intake.recording import keep_recording
from tests.desk.conftest import settle
from tests.handsets import distance_frame, lsb_first, record


def unknown_gadget(window: Window, rng: np.random.Generator, levels: tuple[int, ...] = (1, 2, 77)) -> list[list[int]]:
    """Presses of a handset that no sheet describes, into the open gadget."""
    window.session.add_gadget("Hide lamp")
    settle(window)
    gadget, casebook = window.session.gadget, window.session.casebook
    assert gadget is not None
    assert casebook is not None
    codes = [[0x3A, level, level ^ 0x3A] for level in levels]
    evening = []
    for code in codes:
        bits = [bit for number in code for bit in lsb_first(number, 8)]
        frame = distance_frame([6.0 * 480, -3.0 * 480], 480.0, (1, 2), bits)
        evening.append(record([*frame, -400_000.0], rng, jitter_us=15, excess_us=40))
    keep_recording(casebook, gadget.id, "test", np.concatenate(evening), window.session.sheets, 0.0)
    window.session.choose_gadget(gadget.id)
    settle(window)
    settle(window)
    return codes


def test_an_unknown_handset_gets_a_sheet(window: Window, qtbot: QtBot, rng: np.random.Generator) -> None:
    codes = unknown_gadget(window, rng)
    session, leaf = window.session, window.pages.sheet
    assert {p.reading.protocol for p in session.shown_presses()} == {"unknown"}
    titles = [card.title for card in window.findings.cards]
    assert "Without any label" in titles
    assert not any("caught once only" in title for title in titles)  # a check speaks for the frame
    window.show_leaf("Sheet")
    qtbot.mouseClick(leaf.begin, Qt.MouseButton.LeftButton)
    assert leaf.sheet is not None
    assert leaf.sheet.unit_us == pytest.approx(480, rel=0.02)
    assert leaf.sheet.alphabet == ((1, -1), (1, -2))
    session.select(tuple(p.id for p in session.shown_presses()))
    assert leaf.readings.text().splitlines()[0].endswith("byte_0 3A  byte_1 01  byte_2 3B")
    # A name is typed; the selected frames are read again at the next pause.
    leaf.text.setPlainText(leaf.text.toPlainText().replace("byte_1", "level"))
    qtbot.waitUntil(lambda: "level 4D" in leaf.readings.text(), timeout=2000)
    # A mistake names line and reason, and the last good sheet stays.
    good = leaf.sheet
    leaf.text.setPlainText(leaf.text.toPlainText().replace('bits = "7-0"', 'bits = "7-x"'))
    qtbot.waitUntil(lambda: "line" in leaf.state.text(), timeout=2000)
    assert "7-x" in leaf.state.text()
    assert leaf.sheet is good
    leaf.text.setPlainText(leaf.text.toPlainText().replace('bits = "7-x"', 'bits = "7-0"'))
    check = '\n[[checks]]\nname = "exclusive-or"\nkind = "xor"\nat = "23-16"\ncovers = [[0, 15]]\n'
    leaf.text.setPlainText(leaf.text.toPlainText() + check)
    qtbot.mouseClick(leaf.keep, Qt.MouseButton.LeftButton)
    settle(window)
    caught = session.shown_presses()
    assert [p.reading.protocol for p in caught] == ["hide-lamp"] * 3
    assert [p.reading.fields["level"] for p in caught] == [code[1] for code in codes]
    assert all(p.reading.checks_hold and p.reading.check_count == 1 for p in caught)
    assert leaf.keep.text() == "kept with this gadget"
    session.undo()
    settle(window)
    assert {p.reading.protocol for p in session.shown_presses()} == {"unknown"}
    session.redo()
    settle(window)
    assert {p.reading.protocol for p in session.shown_presses()} == {"hide-lamp"}


def test_help_stands_beside_the_line(window: Window) -> None:
    leaf = window.pages.sheet
    leaf.text.setPlainText('id = "x"\nunit_us = 500\n')
    cursor = leaf.text.textCursor()
    cursor.setPosition(12)
    leaf.text.setTextCursor(cursor)
    assert "How long a unit is" in leaf.help.text()


def test_a_sheet_of_the_library_can_be_copied(window: Window) -> None:
    leaf = window.pages.sheet
    leaf._fill()
    library = leaf.choose.menu().actions()[-1].menu()
    next(action for action in library.actions() if action.text() == "RC5").trigger()
    leaf.read()
    assert leaf.sheet is not None
    assert leaf.sheet.id == "rc5"
    assert "does not fit" in leaf.readings.text()  # a frame of the projector is selected


def test_the_ruler_is_dragged_and_goes_back(window: Window, qtbot: QtBot) -> None:
    leaf, session = window.pages.timing, window.session
    window.show_leaf("Timing")
    session.select(tuple(p.id for p in session.shown_presses()[:3]))
    found = leaf.unit.value()
    assert found == pytest.approx(569, abs=4)
    assert "edges within" in leaf.told.text()
    assert not leaf.back.isVisible()
    lengths = leaf.lengths
    x = round(lengths.x_of(3 * leaf.unit.value() - leaf.excess.value()))
    y = lengths.height() - 60
    qtbot.mousePress(lengths, Qt.MouseButton.LeftButton, pos=QPoint(x, y))
    qtbot.mouseMove(lengths, QPoint(x + 12, y))
    qtbot.mouseRelease(lengths, Qt.MouseButton.LeftButton, pos=QPoint(x + 12, y))
    assert leaf.unit.value() > found + 5
    assert leaf.back.isVisible()
    qtbot.mouseClick(leaf.back, Qt.MouseButton.LeftButton)
    settle(window)
    assert leaf.unit.value() == pytest.approx(found, abs=0.1)
    end, middle = round(lengths.x_of(leaf.unit.value() * 1.2)), round(lengths.height() / 2)
    qtbot.mousePress(lengths, Qt.MouseButton.LeftButton, pos=QPoint(end, middle))
    qtbot.mouseMove(lengths, QPoint(round(lengths.x_of(leaf.unit.value() * 1.1)), middle))
    qtbot.mouseRelease(lengths, Qt.MouseButton.LeftButton, pos=QPoint(end, middle))
    assert leaf.by_hand.tolerance.value() == pytest.approx(10, abs=1)
    settle(window)
    assert session.selected_presses()[0].reading.protocol == "by-hand"
    qtbot.mouseClick(leaf.back, Qt.MouseButton.LeftButton)
    settle(window)
    assert session.selected_presses()[0].reading.protocol == "nec"
    leaf.unit.setValue(600.0)
    qtbot.mouseClick(leaf.begin, Qt.MouseButton.LeftButton)
    assert "unit_us = 600" in window.pages.sheet.text.toPlainText()
    assert window.tabs.tabText(window.tabs.currentIndex()) == "Sheet"


def test_the_line_is_said_by_hand_and_taken_back_in_one_step(window: Window, qtbot: QtBot) -> None:
    session, leaf = window.session, window.pages.timing
    window.show_leaf("Timing")
    press = session.shown_presses()[0]
    session.select((press.id,))
    assert leaf.by_hand.code.currentText() == "pulse distance"
    assert leaf.by_hand.leader.value() == 2
    leaf.by_hand.meaning.setFocus()
    qtbot.keyClick(leaf.by_hand.meaning, Qt.Key.Key_Down)
    settle(window)
    turned = session.shown_presses()[0].reading
    assert turned.protocol == "by-hand"
    assert [int(bit) for bit in turned.bits] == [1 - int(bit) for bit in press.reading.bits]
    leaf.by_hand.leader.setValue(4)
    settle(window)
    assert len(session.shown_presses()[0].reading.bits) == 31
    qtbot.mouseClick(leaf.back, Qt.MouseButton.LeftButton)
    settle(window)
    assert session.shown_presses()[0].reading.bits == press.reading.bits
    assert session.shown_presses()[0].reading.protocol == "nec"
    session.undo()
    settle(window)
    assert session.shown_presses()[0].reading.protocol == "by-hand"


def test_a_value_is_copied_with_one_click_in_any_base_and_order(window: Window, qtbot: QtBot) -> None:
    bits = window.pages.signal.bits
    window.session.select((window.session.shown_presses()[0].id,))
    cell = bits._cells()[0][17].center().toPoint()  # of the command, 0x16
    qtbot.mouseClick(bits, Qt.MouseButton.LeftButton, pos=cell)
    assert QApplication.clipboard().text() == "0x16"
    qtbot.mouseClick(window.pages.signal.order, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(window.pages.signal.base, Qt.MouseButton.LeftButton)
    qtbot.mouseClick(bits, Qt.MouseButton.LeftButton, pos=cell)
    assert QApplication.clipboard().text() == str(int(f"{0x16:08b}"[::-1], 2))


def test_ghost_keys_stand_on_the_plate(window: Window, rng: np.random.Generator) -> None:
    unknown_gadget(window, rng, (1, 2, 4, 5, 7, 8))
    for number, press in enumerate(window.session.shown_presses()):
        window.session.label(press.id, f"Level {number}")
    plate = window.pages.handset.plate
    plate.ghosts = ["3"]
    window.show_leaf("Handset")
    box = plate.ghost_box(0).center().toPoint()
    with_ghost = plate.grab().toImage().copy(box.x() - 40, box.y() - 20, 80, 40)
    plate.ghosts = []
    without = plate.grab().toImage().copy(box.x() - 40, box.y() - 20, 80, 40)
    assert with_ghost != without
