"""The Stack leaf in the real window, on the demo's climate cabinet."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtWidgets import QApplication, QPushButton
from pytestqt.qtbot import QtBot

from eager_tern.casebook.shots import Shot
from eager_tern.casebook.stacks import labels_of, pasted_labels, stack_of
from eager_tern.compare.comparison import STAGES
from eager_tern.compare.search_process import DONE, Stage
from eager_tern.compare.stack import Stack
from eager_tern.desk.findings import CardView
from eager_tern.desk.log_model import PRESS_ROLE
from eager_tern.desk.stack_grid import HEAD, LEFT, NAMES, ROW, StackGrid
from eager_tern.desk.ways import Way, number_text, pieces
from eager_tern.desk.window import Window
from tests.desk.conftest import settle
from tests.handsets import join, nec


@pytest.fixture
def cabinet(window: Window) -> Window:
    """The window with the climate cabinet open and its Stack leaf shown."""
    assert window.session.casebook is not None
    gadget = next(g for g in window.session.casebook.gadgets() if g.name == "Climate cabinet")
    window.session.choose_gadget(gadget.id)
    settle(window)
    window.show_leaf("Stack")
    return window


def found_out(cabinet: Window, qtbot: QtBot) -> None:
    qtbot.mouseClick(cabinet.pages.stack.find_out, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: cabinet.comparison.proof is not None, timeout=60_000)
    assert cabinet.comparison.proof is not None
    assert cabinet.comparison.proof.made.sum() == 43


def test_what_one_press_speaks_for_is_accepted(cabinet: Window, qtbot: QtBot) -> None:
    session = cabinet.session
    off = [press for press in session.shown_presses() if "power = off" in press.label]
    session.label(off[0].id, "")
    settle(cabinet)
    qtbot.mouseClick(cabinet.pages.stack.find_out, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: cabinet.comparison.proof is not None, timeout=60_000)
    assert cabinet.pages.stack.words.text().endswith("not in the sheet: power")
    buttons = cabinet.findings.findChildren(QPushButton)
    (accept,) = [each for each in buttons if each.accessibleName().startswith("Accept")]
    assert accept.accessibleName().endswith("power")
    qtbot.mouseClick(accept, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: cabinet.comparison.proof is not None, timeout=60_000)
    assert next(card for card in cabinet.findings.cards if card.title.endswith("power")).aside == "accepted by you"


def test_what_the_bits_mean_is_found_kept_and_read(cabinet: Window, qtbot: QtBot, tmp_path: Path) -> None:
    leaf, session = cabinet.pages.stack, cabinet.session
    assert "44 frames of 112 bits" in leaf.words.text()
    found_out(cabinet, qtbot)
    titles = [card.title for card in cabinet.findings.cards]
    for name in ("power", "temperature", "mode", "humidity", "blower", "sleep"):
        assert any(title.endswith(f"· {name}") for title in titles)
    humidity = next(card for card in cabinet.findings.cards if card.title.endswith("humidity"))
    assert "Press 32 says 50, its bits say 45." in humidity.text
    assert leaf.grid.doubtful == {31}
    assert "explained 38 of 38" in leaf.words.text()
    assert cabinet.comparison.proof is not None
    assert cabinet.comparison.proof.made.sum() == 43
    assert cabinet.comparison.proof.predicted.sum() >= 36
    planned = len(cabinet.shot_plan.shots())
    qtbot.mouseClick(leaf.plan, Qt.MouseButton.LeftButton)
    asked = cabinet.shot_plan.shots()[planned:]
    assert asked
    assert all(shot.open and dict(shot.labels).keys() >= {"mode", "temperature"} for shot in asked)
    session.undo()
    leaf.publish(tmp_path / "cabinet.html")
    assert "Climate cabinet" in (tmp_path / "cabinet.html").read_text("utf-8")
    assert leaf.keep.text() == "keep as the gadget's sheet"
    assert not cabinet.pages.sheet.text.toPlainText()
    qtbot.mouseClick(leaf.keep, Qt.MouseButton.LeftButton)
    settle(cabinet)
    assert leaf.keep.text() == "kept as the gadget's sheet"
    assert cabinet.pages.sheet.text.toPlainText() == session.own_sheets()["climate-cabinet"]
    readings = [press.reading for press in session.shown_presses()]
    assert {reading.protocol for reading in readings} == {"climate-cabinet"}
    assert readings[20].fields["temperature"] == labels_of(session.shown_presses()[20].label)["temperature"]
    assert all(reading.checks_hold for reading in readings)
    cabinet.show_leaf("Signal")
    assert not any("sleep" in card.title for card in cabinet.findings.cards[1:])
    session.undo()
    settle(cabinet)
    assert session.shown_presses()[0].reading.protocol == "unknown"
    assert leaf.keep.text() == "keep as the gadget's sheet"


def test_rows_are_held_against_others_sorted_chosen_and_copied(cabinet: Window, qtbot: QtBot) -> None:
    leaf, session = cabinet.pages.stack, cabinet.session
    grid = leaf.grid
    seen = grid.grab().toImage()
    leaf.against.setFocus()
    for _ in range(2):
        qtbot.keyClick(leaf.against, Qt.Key.Key_Down)
    assert grid.against == "most common"
    assert grid.grab().toImage() != seen
    leaf.show_as.setFocus()
    qtbot.keyClick(leaf.show_as, Qt.Key.Key_Down)
    assert grid.way.shown == "hex"
    leaf.sort.setFocus()
    while leaf.sort.currentText() != "temperature":
        qtbot.keyClick(leaf.sort, Qt.Key.Key_Down)
    degrees = [grid.stack.labels["temperature"][row] for row in grid.order]
    assert degrees == sorted(degrees)
    qtbot.mouseClick(grid.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(60, HEAD + ROW // 2))
    (chosen,) = session.selected_presses()
    assert "temperature = 16" in chosen.label
    qtbot.keyClick(grid, Qt.Key.Key_Down)
    assert session.selected_presses()[0].id != chosen.id
    qtbot.mouseClick(leaf.copy, Qt.MouseButton.LeftButton)
    lines = QApplication.clipboard().text().splitlines()
    assert len(lines) == 45
    assert lines[0].split("\t")[-1] == "bits"
    assert len(lines[1].split("\t")[-1]) == 112
    actions = {action.text(): action for action in grid.actions()}
    actions["Copy as CSV"].trigger()
    read = list(csv.DictReader(QApplication.clipboard().text().splitlines()))
    assert {row["mode"] for row in read} == {"cool", "dry", "fan", "heat"}
    actions["Copy as a NumPy array"].trigger()
    copied = eval(QApplication.clipboard().text(), {"np": np})
    assert np.array_equal(copied, grid.stack.bits[grid.order])


def test_frames_of_another_length_are_stacked_by_choice(cabinet: Window) -> None:
    leaf, session = cabinet.pages.stack, cabinet.session
    assert session.casebook is not None
    assert not leaf.of.isVisible()
    for press in session.shown_presses()[:5]:
        start = press.reading.start_us + 1
        short = {"bits": press.reading.bits[:40], "sections": (40,), "start_us": start}
        reading = replace(press.reading, **short)
        session.casebook.put_press(press.take_id, reading, label=press.label)
    assert session.gadget is not None
    session.choose_gadget(session.gadget.id)
    settle(cabinet)
    assert leaf.of.isVisible()
    assert [leaf.of.itemText(i) for i in range(leaf.of.count())] == ["112 bits", "40 bits", "section 1, 40 bits"]
    assert leaf._set_apart.text() == "5 frames of another kind set apart"
    for at, shape in ((1, (5, 40)), (2, (49, 40)), (0, (44, 112))):
        leaf.of.setCurrentIndex(at)
        leaf.of.activated.emit(at)
        assert leaf.grid.stack.bits.shape == shape


def test_some_bits_are_shown_in_a_way_of_their_own(cabinet: Window, qtbot: QtBot) -> None:
    leaf, grid = cabinet.pages.stack, cabinet.pages.stack.grid

    def drag(first: int, last: int) -> None:
        places = [QPoint(int(LEFT + NAMES + grid._at[column] + 3), HEAD // 2) for column in (first, last)]
        qtbot.mousePress(grid.viewport(), Qt.MouseButton.LeftButton, pos=places[0])
        qtbot.mouseMove(grid.viewport(), places[1])
        qtbot.mouseRelease(grid.viewport(), Qt.MouseButton.LeftButton, pos=places[1])

    seen = grid.grab().toImage()
    drag(16, 22)
    assert grid.range == (16, 22)
    leaf.show_as.setFocus()
    for _ in range(2):
        qtbot.keyClick(leaf.show_as, Qt.Key.Key_Down)
    leaf.turned.trigger()
    assert grid.own == {(16, 22): Way("decimal", turned=True)}
    assert number_text(grid.stack.bits[0, 16:23], grid.own[16, 22]) == "50"  # the humidity
    assert leaf.turns.text().startswith("turned")
    grid.setFocus()
    qtbot.keyClick(grid, Qt.Key.Key_Escape)
    assert (grid.range, leaf.show_as.currentText()) == (None, "bits")
    assert grid.grab().toImage() != seen
    drag(20, 25)
    leaf.inverted.trigger()
    assert grid.own == {(20, 25): Way(inverted=True)}  # ranges do not overlap
    grid.choose_range(None)
    leaf.in_nibbles.trigger()
    assert (grid.way, grid.own) == (Way(group=4), {})


def test_columns_are_cut_into_pieces() -> None:
    own = {(6, 9): Way("hex")}
    cut = [(piece.first, piece.last, piece.way.shown) for piece in pieces([(0, 12), (12, 18)], Way("decimal"), own)]
    assert cut == [(0, 5, "decimal"), (6, 9, "hex"), (10, 11, "decimal"), (12, 17, "decimal")]
    bits = np.array([1, 0, 1, 1, 0], np.uint8)
    assert number_text(bits, Way("decimal")) == "22"
    assert number_text(bits, Way("hex", turned=True)) == "0D"
    assert number_text(bits, Way("decimal", inverted=True)) == "9"


def test_labels_typed_are_things_varied_or_a_keys_name(cabinet: Window) -> None:
    assert labels_of("temperature = 21.5, mode = dry") == {"temperature": 21.5, "mode": "dry"}
    assert labels_of("Next slide") == {"key": "Next slide"}
    assert labels_of("") == {}
    presses = cabinet.session.shown_presses()
    stack, rows, apart = stack_of(presses)
    assert (stack.rows, stack.columns, len(rows), apart) == (44, 112, 44, [])
    assert isinstance(stack.labels["mode"][0], str)
    assert np.issubdtype(np.array(stack.labels["temperature"]).dtype, np.floating)


def test_a_gadget_with_few_frames_is_told_what_to_do(window: Window) -> None:
    window.session.add_gadget("Hide lamp")
    settle(window)
    window.show_leaf("Stack")
    assert not window.pages.stack.find_out.isEnabled()
    assert "catch and label" in window.pages.stack.words.text()


def test_a_long_shot_fits_the_header(cabinet: Window) -> None:
    cabinet.resize(1024, 700)
    QApplication.processEvents()
    words = cabinet.header._next
    assert cabinet.width() == 1024
    assert words.text().endswith("…")
    assert "humidity" in words.toolTip()
    assert words.fontMetrics().horizontalAdvance(words.text()) <= words.width()


def test_thousands_of_rows_scroll(window: Window, qtbot: QtBot) -> None:
    grid = StackGrid()
    qtbot.addWidget(grid)
    grid.resize(700, 400)
    grid.show()
    rng = np.random.default_rng(3)
    bits = rng.integers(0, 2, (10_000, 112)).astype(np.uint8)
    names = [f"row {n}" for n in range(10_000)]
    grid.show_stack(Stack(bits, {}, (40, 72)), names, names, np.arange(10_000))
    bar = grid.verticalScrollBar()
    first = grid.grab().toImage()
    bar.setValue(bar.maximum())
    assert grid.grab().toImage() != first
    with qtbot.waitSignal(grid.chosen) as chosen:
        below = QPoint(60, HEAD + ROW * 10 + 4)
        qtbot.mouseClick(grid.viewport(), Qt.MouseButton.LeftButton, pos=below)
    assert chosen.args[0] > 9900


def test_the_log_of_thousands_is_filtered_in_slices(window: Window, qtbot: QtBot) -> None:
    session, casebook = window.session, window.session.casebook
    assert casebook is not None
    assert session.gadget is not None
    kept = session.shown_presses()[0].reading
    with casebook.changing():
        take = casebook.add_take(session.gadget.id, "test", "recorder")
        casebook.append_durations(take, np.tile(join(nec(0x5B, 0x16)), 4500))
        for number in range(4500):
            frames = ((68 * number, 68 * number + 66),)
            own = replace(kept, frames=frames, start_us=108_000.0 * number)
            casebook.put_press(take, own, caught_at=float(number), label=f"Key {number % 90}")
    window.log.filter.setText("key 17")
    session.choose_gadget(session.gadget.id)
    settle(window)
    labels = [window.log.model.index(row).data(PRESS_ROLE).label for row in range(window.log.model.rowCount())]
    assert labels == ["Key 17"] * 50
    window.log.filter.setText("")
    settle(window)
    assert window.log.model.rowCount() > 4500


def test_labels_are_pasted_and_filled_down(cabinet: Window, qtbot: QtBot) -> None:
    leaf, session = cabinet.pages.stack, cabinet.session
    first, second, third = session.shown_presses()[:3]
    session.select((first.id, second.id))
    QApplication.clipboard().setText("temperature\tmode\tbits\n21.5\tdry\t0101\n22\t\t0110\n")
    leaf.grid.setFocus()
    qtbot.keyClick(leaf.grid, Qt.Key.Key_V, Qt.KeyboardModifier.ControlModifier)
    labels = [press.label for press in session.shown_presses()[:3]]
    assert labels == ["temperature = 21.5, mode = dry", "temperature = 22", third.label]
    session.select((second.id, third.id))
    qtbot.keyClick(leaf.grid, Qt.Key.Key_D, Qt.KeyboardModifier.ControlModifier)
    assert session.shown_presses()[2].label == "temperature = 22"
    session.undo()
    session.undo()
    assert [press.label for press in session.shown_presses()[:3]] == [first.label, second.label, third.label]
    QApplication.clipboard().setText("")
    leaf.paste_labels()
    assert "no labels" in cabinet.notice.text
    assert pasted_labels("Power\nMute\n", 2) == ["Power", "Mute"]
    assert pasted_labels("button\nopen\nstop\n", 2) == ["button = open", "button = stop"]
    for between in "\t,;":
        table = "press mode fan\n0 cool low\n1 dry \n".replace(" ", between)
        assert pasted_labels(table, 2) == ["mode = cool, fan = low", "mode = dry"]
        assert pasted_labels(table.replace("0", "7"), 2)[0] == "press = 7, mode = cool, fan = low"
    assert pasted_labels("mode = cool, fan = low\nmode = dry, fan = high\n", 2)[0] == "mode = cool, fan = low"
    assert pasted_labels("Up, long\nUp, short\n", 2) == ["Up, long", "Up, short"]


def test_a_search_can_be_stopped(cabinet: Window, qtbot: QtBot) -> None:
    leaf = cabinet.pages.stack
    qtbot.mouseClick(leaf.find_out, Qt.MouseButton.LeftButton)
    assert (leaf.find_out.text(), cabinet.comparison.searching) == ("Stop", True)
    qtbot.mouseClick(leaf.find_out, Qt.MouseButton.LeftButton)
    assert (leaf.find_out.text(), cabinet.comparison.searching) == ("Find out", False)
    assert cabinet.comparison.comparison is None


def test_constant_bytes_fold_until_every_bit_is_asked_for(cabinet: Window, qtbot: QtBot) -> None:
    grid = cabinet.pages.stack.grid
    assert grid.folded
    assert set(grid.stack.varying.tolist()).isdisjoint({c for first in grid.folded for c in range(first, first + 8)})
    folded_width = grid._at[-1]
    qtbot.mouseClick(cabinet.pages.stack.every, Qt.MouseButton.LeftButton)
    assert not grid.folded
    assert grid._at[-1] > folded_width
    assert cabinet.pages.stack.every.text() == "fold what is constant"
    cabinet.pages.stack.show_over_time()
    assert cabinet.pages.stack.every.isHidden()  # no bits are in sight


def test_a_wrong_label_is_seen_bit_by_bit_and_put_right_where_it_stands(cabinet: Window, qtbot: QtBot) -> None:
    leaf, session, grid = cabinet.pages.stack, cabinet.session, cabinet.pages.stack.grid
    assert session.gadget is not None
    cabinet_id = session.gadget.id
    found_out(cabinet, qtbot)
    leaf.against.setFocus()
    while grid.against != "label":
        qtbot.keyClick(leaf.against, Qt.Key.Key_Down)
    assert np.flatnonzero(grid._differs.any(axis=1)).tolist() == [31]
    grid.verticalScrollBar().setValue(31 * ROW - 60)
    at = QPoint(60, HEAD + 31 * ROW - grid.verticalScrollBar().value() + ROW // 2)
    qtbot.mouseClick(grid.viewport(), Qt.MouseButton.LeftButton, pos=at)
    qtbot.mouseDClick(grid.viewport(), Qt.MouseButton.LeftButton, pos=at)
    wrong = grid.editor.text()
    assert "humidity = 50" in wrong
    qtbot.keyClick(grid.editor, Qt.Key.Key_Escape)
    assert not grid.editor.isVisible()
    qtbot.keyClick(grid, Qt.Key.Key_F2)
    assert grid.editor.isVisible()
    grid.editor.setText(wrong.replace("humidity = 50", "humidity = 45"))
    qtbot.keyClick(grid.editor, Qt.Key.Key_Return)
    assert "humidity = 45" in session.shown_presses()[31].label
    qtbot.waitUntil(lambda: cabinet.comparison.proof is not None, timeout=60_000)
    assert cabinet.comparison.proof is not None
    assert cabinet.comparison.proof.made.all()
    assert not grid.doubtful
    session.add_gadget("Hide lamp")
    settle(cabinet)
    session.choose_gadget(cabinet_id)
    settle(cabinet)
    assert not grid._differs.any()  # nothing is expected of other rows, nor of these before they are searched again


def test_a_finding_is_dismissed_and_brought_back(cabinet: Window, qtbot: QtBot) -> None:
    leaf = cabinet.pages.stack
    qtbot.mouseClick(leaf.find_out, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: cabinet.comparison.comparison is not None, timeout=60_000)
    view = next(v for v in cabinet.findings.findChildren(CardView) if v.card.title.endswith("· sleep"))
    button = next(b for b in view.findChildren(QPushButton) if b.text() == "Dismiss")
    qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "explained 33 of 38" in leaf.words.text(), timeout=60_000)
    assert cabinet.comparison.comparison is not None
    assert "sleep" not in {field.name for field in cabinet.comparison.comparison.fields}
    cabinet.session.undo()
    qtbot.waitUntil(lambda: "explained 38 of 38" in leaf.words.text(), timeout=60_000)
    cabinet.session.redo()
    assert cabinet.session.gadget is not None
    cabinet.choose_gadget(1)
    settle(cabinet)
    cabinet.session.choose_gadget(next(g.id for g in cabinet.session.casebook.gadgets() if "cabinet" in g.name))
    settle(cabinet)
    qtbot.mouseClick(leaf.find_out, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "explained 33 of 38" in leaf.words.text(), timeout=60_000)  # kept with the gadget
    qtbot.mouseClick(leaf.back, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "explained 38 of 38" in leaf.words.text(), timeout=60_000)


def test_rows_are_held_against_a_row_of_ones_choice(cabinet: Window, qtbot: QtBot) -> None:
    leaf, grid = cabinet.pages.stack, cabinet.pages.stack.grid
    qtbot.mouseClick(grid.viewport(), Qt.MouseButton.LeftButton, pos=QPoint(60, HEAD + 5 * ROW + 4))
    leaf.against.setFocus()
    while grid.against != "chosen row":
        qtbot.keyClick(leaf.against, Qt.Key.Key_Down)
    bits = grid.stack.bits
    assert np.array_equal(grid._differs, bits != bits[5])


def test_a_sensor_is_drawn_over_time(window: Window, qtbot: QtBot) -> None:
    leaf, session = window.pages.stack, window.session
    assert session.casebook is not None
    gauge = next(g for g in session.casebook.gadgets() if g.name == "Tide gauge")
    session.choose_gadget(gauge.id)
    settle(window)
    window.show_leaf("Stack")
    leaf.show_as.setFocus()
    while leaf.show_as.currentText() != "over time":
        qtbot.keyClick(leaf.show_as, Qt.Key.Key_Down)
    view = leaf.over_time
    assert view.isVisible()
    assert not leaf.grid.isVisible()
    assert view.bits.text().startswith("19-2")  # found by its curve, nothing having been searched
    assert len(view.plot.listDataItems()) == 2
    qtbot.mouseClick(leaf.find_out, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.comparison.proof is not None, timeout=60_000)
    view.label.setFocus()
    qtbot.keyClick(view.label, Qt.Key.Key_Down)
    assert (view.label.currentText(), view.bits.text()) == ("water", "28-39")
    dots, line = view.plot.listDataItems()
    assert line.getData()[1].size == 66
    typed = dict(zip(dots.getData()[0], dots.getData()[1], strict=True))
    drawn = dict(zip(line.getData()[0], line.getData()[1], strict=True))
    assert all(drawn[at] == pytest.approx(value, abs=0.06) for at, value in typed.items())
    view.bits.setText("3-200")
    view.draw()
    assert "56 bits" in view.told.text()
    view.bits.setText("three")
    view.draw()
    assert "no bit position" in view.told.text()
    qtbot.keyClick(leaf.show_as, Qt.Key.Key_Up)
    assert leaf.grid.isVisible()


def test_the_simulated_gadget_sends_what_the_shot_list_asks_for(
    window: Window, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    # On a machine so busy that every press is heard long before it is read, none is taken for lost and sent twice.
    monkeypatch.setattr("eager_tern.desk.simulated_handset.LOST_S", 0.0)
    window.live.pulses_heard.when(window.handset_panel.send_next)
    session = window.session
    assert session.casebook is not None
    shutters = next(g for g in session.casebook.gadgets() if g.name == "Window shutters")
    session.choose_gadget(shutters.id)
    settle(window)
    assert window.header.choice is not None
    assert window.header.choice.name == "Simulated: Window shutters"
    asked = next(shot for shot in window.shot_plan.shots() if shot.open)
    before = len(session.shown_presses())
    window.toggle_listening()
    qtbot.mouseClick(window.handset_panel.buttons["Send the next shot"], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(session.shown_presses()) == before + 1, timeout=15_000)
    assert session.shown_presses()[-1].label == asked.text
    window.shot_plan.put((*window.shot_plan.shots(), Shot((("shutter", "south"),))))
    qtbot.mouseClick(window.handset_panel.buttons["Send all that are left"], Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: "south" in window.notice.text, timeout=30_000)
    assert len(session.shown_presses()) == 18
    assert all(not shot.open for shot in window.shot_plan.shots()[:-1])
    window.toggle_listening()


def test_the_log_gives_way_to_the_stack(window: Window, qtbot: QtBot) -> None:
    window.choose_gadget(4)
    settle(window)
    window.show_leaf("Stack")
    assert not window.left.isVisible()
    # 112 bits at 1280, what is constant folded.
    qtbot.waitUntil(lambda: window.pages.stack.grid.horizontalScrollBar().maximum() == 0, timeout=3000)
    window.commands.do("log")
    assert window.left.isVisible()
    window.commands.do("log")
    window.toggle_listening()
    assert window.left.isVisible()  # its keys are there
    window.toggle_listening()
    window.commands.do("keys")
    assert window.left.isVisible()
    window.show_leaf("Signal")
    assert window.left.isVisible()


def test_without_any_label_no_frame_is_said_to_be_made(window: Window, qtbot: QtBot) -> None:
    session = window.session
    assert session.casebook is not None
    gauge = next(g for g in session.casebook.gadgets() if g.name == "Tide gauge")
    session.choose_gadget(gauge.id)
    settle(window)
    for press in session.shown_presses():
        if press.label:
            session.label(press.id, "")
    settle(window)
    window.show_leaf("Stack")
    qtbot.mouseClick(window.pages.stack.find_out, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.comparison.proof is not None, timeout=60_000)
    assert window.pages.stack.words.text().endswith("label some presses, and what was found is proved by making frames")


def test_a_search_says_what_it_looks_for(window: Window, qtbot: QtBot) -> None:
    window.choose_gadget(4)
    settle(window)
    window.show_leaf("Stack")
    said: list[str] = []
    window.comparison.progressed.connect(lambda: said.append(window.pages.stack.words.text()))
    window.commands.do("search")
    qtbot.waitUntil(lambda: window.comparison.proof is not None, timeout=60_000)
    for words in ("Looking for sums … step 2 of 8", "what labels say … step 6 of 8", "left out … part 2 of 5"):
        assert any(words in each for each in said)


def test_how_long_a_search_takes_yet_is_said_where_that_is_worth_it() -> None:
    assert Stage("Looking for sums", 0.4).words == "Looking for sums"
    assert Stage("Looking for sums", 12.3).words == "Looking for sums, about 12 s left"
    assert len(DONE) == len(STAGES)
    assert sorted(DONE) == list(DONE)
