"""What the window shows, and how it bears trouble."""

from __future__ import annotations

import json
import os
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QWheelEvent
from PyQt6.QtWidgets import QApplication, QLineEdit, QPushButton
from pytestqt.qtbot import QtBot

from eager_tern.casebook.store import Casebook
from eager_tern.desk.pages import PAGES
from eager_tern.desk.settings import load_settings
from eager_tern.desk.window import Window
from eager_tern.protocol.loading import parse_sheet
from eager_tern.protocol.making import press_frames
from eager_tern.session import example
from eager_tern.session.cards import cards_for_press
from tests.desk.conftest import settle
from tests.files import audio_line, write_audio, write_text
from tests.handsets import IDLE_US, nec, record
from tests.protocol.test_sheets import SHEET


def drop(window: Window, *paths: Path) -> None:
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path)) for path in paths])
    buttons, keys = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    window.dropEvent(QDropEvent(QPointF(10, 10), Qt.DropAction.CopyAction, mime, buttons, keys))


def wait_for_import(window: Window, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: not window.imports.busy, timeout=15_000)
    settle(window)


def test_a_first_start_says_how_to_begin(empty_window: Window) -> None:
    assert empty_window.pages.currentWidget() is empty_window.pages.start
    assert empty_window.pages.start.demo.isVisible()
    assert empty_window.header.listen.isEnabled()  # at once, into a casebook of the day
    assert empty_window.pages.start.listens


def test_the_example_opens_from_the_start(empty_window: Window, qtbot: QtBot) -> None:
    qtbot.mouseClick(empty_window.pages.start.demo, Qt.MouseButton.LeftButton)
    settle(empty_window)
    assert empty_window.session.gadget.name == "Slide projector"
    assert load_settings().recent[0].endswith("skarvholm.tern")
    assert empty_window.pages.currentWidget() is empty_window.pages.signal


def test_a_new_casebook_asks_for_the_first_press(empty_window: Window, tmp_path: Path) -> None:
    empty_window.session.create(tmp_path / "new.tern", "Handset")
    settle(empty_window)
    assert empty_window.pages.currentWidget() is empty_window.pages.start
    assert empty_window.pages.start.listens[0].isVisible()
    empty_window.show_leaf("Handset")
    assert "No keys yet" in empty_window.pages.handset._words.text()


def test_dropped_recordings_become_presses(
    window: Window, qtbot: QtBot, tmp_path: Path, rng: np.random.Generator
) -> None:
    signed = record([-IDLE_US, *nec(0x5B, 0x12, 2), -IDLE_US, *nec(0x5B, 0x03), -IDLE_US], rng, jitter_us=15)
    write_text(tmp_path / "a.txt", signed, "signed")
    write_audio(tmp_path / "b.wav", audio_line(signed, 44_100, rng, mark_high=False), 44_100)
    before = len(window.session.shown_presses())
    drop(window, tmp_path / "a.txt", tmp_path / "b.wav")
    wait_for_import(window, qtbot)
    presses = window.session.shown_presses()
    assert len(presses) == before + 4
    assert [p.reading.fields["command"] for p in presses[-4:]] == [0x12, 0x03] * 2
    assert window.session.selected_presses()[0].id == presses[-2].id
    assert window.session.take(presses[-1]).sample_rate_hz == 44_100


def test_files_that_cannot_be_read_are_named(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    (tmp_path / "bad.txt").write_text("500\n500 x\n")
    drop(window, tmp_path / "bad.txt")
    wait_for_import(window, qtbot)
    qtbot.waitUntil(lambda: "bad.txt: line 2" in window.notice.text, timeout=2000)
    assert window.notice.isVisible()


def test_a_recording_without_frames_is_kept_and_said(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    (tmp_path / "lone.txt").write_text("+200 -90000 +150\n")
    takes = len(window.session.casebook.takes())
    drop(window, tmp_path / "lone.txt")
    wait_for_import(window, qtbot)
    qtbot.waitUntil(lambda: "no frames were found" in window.notice.text, timeout=2000)
    assert len(window.session.casebook.takes()) == takes + 1


def test_a_casebook_held_elsewhere_leaves_this_one_open(window: Window, tmp_path: Path) -> None:
    other = Casebook.create(tmp_path / "held.tern")
    window.open_casebook(tmp_path / "held.tern")
    settle(window)
    assert "another Eager Tern" in window.notice.text
    assert window.session.casebook.path.name == "skarvholm.tern"
    other.close()
    window.open_casebook(tmp_path / "held.tern")
    settle(window)
    assert window.session.casebook.path.name == "held.tern"


def test_a_disk_that_fills_up_is_said_and_the_label_stays(window: Window) -> None:
    book = window.session.casebook
    press = window.session.selected_presses()[0]
    book._db.execute("PRAGMA query_only = ON")
    window.session.label(press.id, "not kept")
    assert "cannot be written" in window.notice.text
    assert window.session.press(press.id).label == ""
    book._db.execute("PRAGMA query_only = OFF")
    window.session.label(press.id, "kept")
    assert window.session.press(press.id).label == "kept"


def test_save_as_goes_on_in_the_new_file(window: Window, tmp_path: Path) -> None:
    window.choose_gadget(2)
    settle(window)
    window.session.save_as(tmp_path / "copy.tern")
    settle(window)
    assert window.session.casebook.path.name == "copy.tern"
    assert window.session.gadget.name == "Audio guide"


def test_pointing_at_a_bit_lights_its_stretch_of_tape(window: Window, qtbot: QtBot) -> None:
    bits, tape = window.pages.signal.bits, window.pages.signal.tape
    cells, _ = bits._cells()
    qtbot.mouseMove(bits, cells[9].center().toPoint())
    assert (bits._hovered, tape._hovered) == (9, 9)
    line = next(n for n, line in enumerate(tape._lines) if line.bits == (16, 23))
    box = tape._box(line)
    qtbot.mouseMove(tape, QPoint(int(box.left()) + 4, int(box.center().y())))
    assert (bits._hovered, tape._hovered) == (16, 16)


def test_the_tape_breaks_where_the_meaning_does(window: Window) -> None:
    captions = {
        1: ["leader", "address", "address complement", "command", "command complement"],
        2: ["leader", "command", "address"],
        3: ["bits 0–2", "address", "command"],
    }
    for gadget_id, wanted in captions.items():
        window.choose_gadget(gadget_id)
        settle(window)
        assert [line.caption for line in window.pages.signal.tape._lines] == wanted
        lines = window.pages.signal.tape._lines
        assert all(a.to_us == b.from_us for a, b in pairwise(lines))


def test_calipers_measure_between_edges(window: Window, qtbot: QtBot) -> None:
    tape = window.pages.signal.tape
    box = tape._box(0)
    frame = tape._frame
    leader = frame.pulses.durations_us[0]
    y = int(box.center().y())
    qtbot.mouseClick(tape, Qt.MouseButton.LeftButton, pos=QPoint(int(box.left()) + 1, y))
    assert "another edge" in window.pages.signal._measure.text()
    qtbot.mouseClick(tape, Qt.MouseButton.LeftButton, pos=QPoint(int(box.left() + leader * tape._scale()), y))
    assert window.pages.signal._measure.text().startswith(f"{leader:.0f} µs · 16.")
    qtbot.keyClick(tape, Qt.Key.Key_Right, Qt.KeyboardModifier.ShiftModifier)
    assert window.pages.signal.calipers.other_us == frame.pulses.edge_times_us[2]
    qtbot.keyClick(tape, Qt.Key.Key_Escape)
    assert window.pages.signal.calipers.one_us is None


def test_the_unwrapped_tape_moves_and_zooms(window: Window, qtbot: QtBot) -> None:
    qtbot.mouseClick(window.pages.signal.wrap, Qt.MouseButton.LeftButton)
    strip = window.pages.signal.strip
    assert strip.isVisible()
    assert not window.pages.signal.tape.isVisible()
    width = strip.to_us - strip.from_us
    middle = QPointF(strip.width() / 2, 70)
    at = strip._time_at(middle.x())
    wheel = QWheelEvent(middle, strip.mapToGlobal(middle), QPoint(), QPoint(0, 120), Qt.MouseButton.NoButton,
                        Qt.KeyboardModifier.NoModifier, Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
    QApplication.sendEvent(strip, wheel)
    assert strip.to_us - strip.from_us == pytest.approx(width / 1.25)
    assert abs(strip._time_at(middle.x()) - at) < 1
    before = strip.from_us
    qtbot.mousePress(strip, Qt.MouseButton.LeftButton, pos=QPoint(300, 70))
    qtbot.mouseMove(strip, QPoint(360, 70))
    qtbot.mouseRelease(strip, Qt.MouseButton.LeftButton, pos=QPoint(360, 70))
    assert strip.from_us < before
    looked_at = strip.from_us, strip.to_us
    window.session.label(window.session.selected[0], "Next slide")
    assert (strip.from_us, strip.to_us) == looked_at
    for _ in range(100):
        strip.zoom(0.5)
    assert strip.to_us - strip.from_us >= 5
    for _ in range(100):
        strip.zoom(2.0)
    assert strip.to_us >= window.session.take_edges(1)[-1]


def test_several_frames_lie_over_one_another(window: Window) -> None:
    presses = window.session.shown_presses()
    window.session.select([press.id for press in presses[:4]])
    assert window.pages.signal.overlay.isVisible()
    assert not window.pages.signal.tape.isVisible()
    assert len(window.pages.signal.overlay._rows) == 4
    (card,) = window.findings.cards
    assert card.title == "4 codes in 4 presses"
    window.session.select([presses[0].id, presses[-1].id])
    assert "same code" in window.findings.cards[0].text


def test_the_log_is_filtered_and_strays_are_folded(window: Window, qtbot: QtBot) -> None:
    model = window.log.model
    rows = model.rowCount()
    assert rows == 10
    fold = next(model.index(r) for r in range(rows) if "stray" in str(model.index(r).data()))
    window.log.view._open_fold(fold)
    assert model.rowCount() == rows + 1
    qtbot.keyClicks(window.log.filter, "focus")
    assert [model.index(r).data().split(",")[0] for r in range(model.rowCount())] == ["Focus +", "Focus −"]
    window.log.filter.setText("nec 44")
    assert model.rowCount() == 1
    window.log.filter.clear()
    assert model.rowCount() == rows + 1


def test_findings_say_what_is_known_and_how(window: Window) -> None:
    session = window.session
    titles = {}
    for gadget_id in (1, 2, 3):
        window.choose_gadget(gadget_id)
        settle(window)
        for press in session.shown_presses():
            for card in cards_for_press(press, session.frame(press), session.tally(), session.key_table()):
                titles.setdefault(card.title.split(":")[0], card)
    assert titles["NEC · address 5B · command 16"].status == "proven"
    assert "1 in 256" in titles["NEC · address 5B · command 16"].aside
    assert "both checks hold" in titles["NEC · address 5B · command 16"].text
    assert any(title.startswith("Pulse width, unit 6") for title in titles)
    assert any(title.startswith("Bi-phase, unit 9") or title.startswith("Bi-phase, unit 89") for title in titles)
    assert "stands for the first one" in titles["Held 0.56 s"].text
    assert "3 times" in titles["2 repeats, as always"].text
    assert "Sends what “Next slide” sends" in titles


def test_repeats_alone_claim_nothing(window: Window, qtbot: QtBot, tmp_path: Path, rng: np.random.Generator) -> None:
    write_text(tmp_path / "r.txt", record(nec(1, 2, 3)[68:], rng, jitter_us=10), "signed")
    drop(window, tmp_path / "r.txt")
    wait_for_import(window, qtbot)
    assert [card.title for card in window.findings.cards][:2] == [
        "The first frame was missed",
        "5 keys are not caught yet",
    ]
    assert not window.pages.signal.bits.isVisible()
    assert "repeats only" in window.log.model.index(window.log.model.rowCount() - 1).data()


def test_a_key_can_be_dragged_to_its_place(window: Window, qtbot: QtBot) -> None:
    window.show_leaf("Handset")
    plate = window.pages.handset.plate
    lamp = next(key for key in plate.keys if key.name == "Lamp")
    start = plate.box_of(lamp.place).center().toPoint()
    goal = QPoint(start.x(), start.y() + 74 * 4)
    qtbot.mousePress(plate, Qt.MouseButton.LeftButton, pos=start)
    qtbot.mouseMove(plate, goal)
    qtbot.mouseRelease(plate, Qt.MouseButton.LeftButton, pos=goal)
    places = {place.name: (place.row, place.col) for place in window.session.casebook.key_places(1)}
    assert places["Lamp"] == (4, 0)
    window.menus.actions["undo"].trigger()
    assert {p.name: (p.row, p.col) for p in window.session.casebook.key_places(1)}["Lamp"] == (0, 0)


def test_a_key_is_added_by_name(window: Window, qtbot: QtBot) -> None:
    window.show_leaf("Handset")
    qtbot.keyClicks(window.pages.handset.new_key, "Eject")
    qtbot.keyClick(window.pages.handset.new_key, Qt.Key.Key_Return)
    assert any(key.name == "Eject" and key.best is None for key in window.pages.handset.plate.keys)


def test_bits_go_to_the_clipboard(window: Window, qtbot: QtBot) -> None:
    press = window.session.selected_presses()[0]
    copied = {}
    for form in window.pages.signal.code.links:
        qtbot.mouseClick(form, Qt.MouseButton.LeftButton)
        copied[form.accessibleName().removeprefix("Copy the code as ")] = QApplication.clipboard().text()
    assert copied["bits"] == press.reading.bits
    assert int(copied["hex, as sent"], 16) == int(copied["decimal"]) == int(press.reading.bits, 2)
    assert int(copied["hex, turned round"], 16) == int(press.reading.bits[::-1], 2)
    assert copied["C array"].startswith("const uint32_t us[] = {")
    assert json.loads(copied["payload"])["bits"] == press.reading.bits
    leaf = window.pages.signal
    assert [leaf.bits.base for _ in range(3) if not leaf.base.click()] == ["decimal", "binary", "hex"]


def test_everything_that_can_be_used_has_a_name(window: Window) -> None:
    from PyQt6.QtWidgets import QAbstractButton, QLineEdit

    for kind in (QAbstractButton, QLineEdit):
        for widget in window.findChildren(kind):
            if widget.isVisible():
                assert widget.accessibleName() or (isinstance(widget, QAbstractButton) and widget.text()), widget


def test_it_fits_a_small_screen(window: Window) -> None:
    window.resize(1024, 700)
    QApplication.processEvents()
    assert window.width() <= 1024
    assert window.height() <= 700
    assert window.pages.signal.tape.width() >= 400


def test_a_known_code_offers_its_label(window: Window, qtbot: QtBot) -> None:
    link = next(button for button in window.findings.findChildren(QPushButton) if "Label it" in button.text())
    qtbot.mouseClick(link, Qt.MouseButton.LeftButton)
    assert window.session.selected_presses()[0].label == "Next slide"
    assert not any("Sends what" in card.title for card in window.findings.cards)


def test_return_ends_a_label_while_names_are_offered(window: Window, qtbot: QtBot) -> None:
    view = window.log.view
    qtbot.keyClick(view, Qt.Key.Key_Return)
    editor = view.findChild(QLineEdit, "label-editor")
    qtbot.keyClicks(editor, "Zo")
    names = editor.completer().popup()
    qtbot.waitUntil(names.isVisible, timeout=2000)
    qtbot.keyClick(names, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: window.session.selected_presses()[0].label == "Zo", timeout=2000)
    qtbot.waitUntil(lambda: view.findChild(QLineEdit, "label-editor") is None, timeout=2000)


def test_a_sheet_of_ones_own_reads_what_was_unknown(
    window: Window, qtbot: QtBot, tmp_path: Path, rng: np.random.Generator
) -> None:
    sheet = parse_sheet(SHEET, "test")
    sent = [
        d
        for level in (3, 12)
        for d in [*np.concatenate(press_frames(sheet, {"group": 9, "level": level}, 2)), -IDLE_US]
    ]
    write_text(tmp_path / "lamp.txt", record(sent, rng, jitter_us=10), "signed")
    drop(window, tmp_path / "lamp.txt")
    wait_for_import(window, qtbot)
    before = window.session.shown_presses()
    assert {press.reading.protocol for press in before[-2:]} == {"unknown"}
    window.session.label(before[-1].id, "Bright")
    (tmp_path / "lamp.toml").write_text(SHEET)
    drop(window, tmp_path / "lamp.toml")
    settle(window)
    after = window.session.shown_presses()
    assert [press.reading.fields for press in after[-2:]] == [{"group": 9, "level": 3}, {"group": 9, "level": 12}]
    assert [press.id for press in after] == [press.id for press in before]
    assert after[-1].label == "Bright"
    window.session.select((after[-1].id,))
    assert window.findings.cards[0].title == "Lamp in the hide · group 9 · level C"
    (tmp_path / "wrong.toml").write_text(SHEET.replace("unit_us = 400", "unit_us = 0"))
    drop(window, tmp_path / "wrong.toml")
    assert "wrong.toml: line 3" in window.notice.text


def gone(_: object) -> None:
    os._exit(3)


def test_an_example_that_cannot_be_made_is_said(
    empty_window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(example, "serve", gone)
    qtbot.mouseClick(empty_window.pages.start.demo, Qt.MouseButton.LeftButton)
    settle(empty_window)
    assert "the example: could not be made: the process" in empty_window.notice.text


def test_pages_are_made_when_they_are_shown_and_the_others_in_spare_time(empty_window: Window, qtbot: QtBot) -> None:
    assert not empty_window.pages.has("preferences")
    qtbot.waitUntil(lambda: all(empty_window.pages.has(name) for name in PAGES), timeout=5000)
    assert empty_window.pages.currentWidget() is empty_window.pages.start
