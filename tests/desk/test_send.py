"""The Send leaf, through the real window: routines, echoes, sweeps, keys that send, and what cannot be sent."""

from __future__ import annotations

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from eager_tern.casebook.sweep import Sweep, reacted
from eager_tern.desk.window import Window
from tests.desk.conftest import settle

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def desk(window: Window, qtbot: QtBot) -> Window:
    """The projector's Send leaf, with its simulated gadget as the target."""
    window.show_leaf("Send")
    qtbot.waitUntil(lambda: window.sending.target_id == "simulated:slide-projector", timeout=5000)
    return window


def write(window: Window, qtbot: QtBot, text: str, line: int = 0) -> None:
    editor = window.pages.send.editor
    editor.setFocus()
    editor.setPlainText(text)
    window.pages.send.read()
    cursor = editor.textCursor()
    cursor.movePosition(cursor.MoveOperation.Start)
    cursor.movePosition(cursor.MoveOperation.Down, n=line)
    editor.setTextCursor(cursor)


def silent(window: Window, qtbot: QtBot) -> None:
    qtbot.waitUntil(lambda: not window.sending.going, timeout=20_000)
    settle(window)


def test_each_line_says_what_it_sends_or_why_it_cannot(desk: Window, qtbot: QtBot) -> None:
    write(desk, qtbot, "Lamp\n\npause 1 s\nNext slide x 3\nNext slyde\ncommand 900\n# nothing")
    said = {line.number: (line.words, line.wrong) for line in desk.pages.send.editor.lines}
    assert said[1] == ("32 bits, made from the sheet; 0.1 s", False)
    assert said[3] == ("silence", False)
    assert said[4][0].startswith("3 × 32 bits, made from the sheet")
    assert said[5][1]
    assert "is neither a key" in said[5][0]
    assert "outside 0 to 255" in said[6][0]
    assert (said[2], said[7]) == (("", False), ("", False))
    qtbot.mouseClick(desk.pages.send.whole, LEFT)
    assert not desk.sending.going
    assert desk.notice.text.startswith("Line 5: ")
    assert desk.sending.gadgets["Slide projector"].state["lamp"] == "off"


def test_a_routine_is_sent_heard_and_obeyed(desk: Window, qtbot: QtBot) -> None:
    write(desk, qtbot, "Lamp\nNext slide x 2")
    before = len(desk.session.shown_presses())
    qtbot.mouseClick(desk.header.listen, LEFT)
    qtbot.waitUntil(lambda: (desk.live.condition() or [""])[0].startswith("stand-in"), timeout=20_000)
    qtbot.mouseClick(desk.pages.send.whole, LEFT)
    assert desk.pages.send.stop.isEnabled()
    silent(desk, qtbot)
    state = desk.sending.gadgets["Slide projector"].state
    assert (state["lamp"], state["slide"]) == ("on", 3)
    qtbot.waitUntil(lambda: all(said.echo is not None for said in desk.sending.log), timeout=5000)
    assert [said.step for said in desk.sending.log] == [1, 2, 2]
    assert all(said.echo is not None and said.echo.right for said in desk.sending.log)
    assert desk.pages.send.said.text().startswith("Heard once, the same 32 bits; marks")
    assert "lamp on" in desk.pages.send.obeyed.text()
    assert len(desk.session.shown_presses()) == before + 3  # listening went on meanwhile
    assert "✓" not in desk.notice.text
    assert "slide 3" in desk.handset_panel.face.accessibleDescription()


def test_the_routine_is_kept_and_can_be_taken_back(desk: Window, qtbot: QtBot) -> None:
    write(desk, qtbot, "Lamp")
    write(desk, qtbot, "Lamp\nFreeze")
    assert desk.sending.text == "Lamp\nFreeze"
    desk.log.view.setFocus()
    desk.session.undo()
    assert desk.sending.text == "Lamp"
    qtbot.waitUntil(lambda: desk.pages.send.editor.toPlainText() == "Lamp", timeout=2000)


def test_escape_stops_between_two_frames(desk: Window, qtbot: QtBot) -> None:
    write(desk, qtbot, "Next slide x 40")
    qtbot.mouseClick(desk.pages.send.whole, LEFT)
    qtbot.waitUntil(lambda: len(desk.sending.log) >= 2, timeout=10_000)
    desk.commands.do("silence")
    silent(desk, qtbot)
    said = len(desk.sending.log)
    assert said < 10
    qtbot.wait(700)
    assert len(desk.sending.log) == said
    assert desk.sending.gadgets["Slide projector"].state["slide"] == 1 + said


def test_two_senders_never_speak_at_once(desk: Window, qtbot: QtBot) -> None:
    write(desk, qtbot, "Next slide x 5")
    desk.pages.send.send_all()
    desk.sending.say_key("Lamp")
    assert "already" in desk.notice.text
    desk.sending.stop()
    silent(desk, qtbot)


def test_keys_of_the_plate_send_while_they_are_held(desk: Window, qtbot: QtBot) -> None:
    desk.show_leaf("Handset")
    plate = desk.pages.handset.plate
    qtbot.mouseClick(desk.pages.handset.says, LEFT)
    key = next(key for key in plate.keys if key.name == "Next slide")
    place = plate.box_of(key.place).center().toPoint()
    qtbot.mousePress(plate, LEFT, pos=place)
    qtbot.wait(500)
    assert desk.sending.going
    qtbot.mouseRelease(plate, LEFT, pos=place)
    silent(desk, qtbot)
    assert desk.sending.gadgets["Slide projector"].state["slide"] == 2  # one press, however long it was held
    desk.session.select((desk.session.shown_presses()[0].id,))
    desk.commands.do("say")
    silent(desk, qtbot)
    assert desk.sending.log[-1].sent.obeyed is not None


def test_a_sweep_finds_what_the_gadget_reacts_to(desk: Window, qtbot: QtBot) -> None:
    write(desk, qtbot, "command 0..30 every 0.15 s")
    gadget = desk.sending.gadgets["Slide projector"]
    qtbot.mouseClick(desk.pages.send.sweep, LEFT)
    qtbot.waitUntil(lambda: gadget.state["key"] == "Menu", timeout=20_000)  # command 3

    def click(button: QPushButton) -> None:
        """Say what was seen, and wait until what the sweep says next was said."""
        gadget.state["key"], before = "", len(desk.sending.log)
        qtbot.mouseClick(button, LEFT)
        sweep = desk.sweeping.sweep
        wanted = [f"command {n}" for n in sweep.trying] if sweep is not None else []

        def said() -> bool:
            return [s.sent.saying.what for s in desk.sending.log[before:]][-len(wanted) :] == wanted

        qtbot.waitUntil(lambda: not wanted or (said() and not desk.sending.going), timeout=20_000)

    click(desk.pages.send.reacted)
    while (sweep := desk.sweeping.sweep) is not None and sweep.phase == "narrowing":
        assert (gadget.state["key"] == "Menu") == (3 in sweep.trying)
        click(desk.pages.send.reacted if 3 in sweep.trying else desk.pages.send.nothing)
    assert desk.sweeping.sweep is not None
    assert desk.sweeping.sweep.found == 3
    assert "command 3" in desk.pages.send.sought.text()
    qtbot.waitUntil(lambda: any(p.label == "reacted" for p in desk.session.shown_presses()), timeout=5000)


def test_a_sweep_goes_on_where_it_was_stopped(desk: Window, qtbot: QtBot) -> None:
    """What the window knew of it is gone; the casebook has it."""
    book, gadget = desk.session.casebook, desk.session.gadget
    assert book is not None
    assert gadget is not None
    book.put_routine(gadget.id, "command 0..9 every 0.15 s")
    book.put_sweep(gadget.id, reacted(Sweep(10, said=4)))
    desk.choose_gadget(gadget.id)
    settle(desk)
    assert "“command 2” and “command 3” are said again" in desk.pages.send.sought.text()
    qtbot.mouseClick(desk.pages.send.nothing, LEFT)
    qtbot.waitUntil(lambda: [said.sent.saying.what for said in desk.sending.log] == ["command 1"], timeout=5000)
    silent(desk, qtbot)


def test_a_target_that_is_gone_is_told(desk: Window, qtbot: QtBot) -> None:
    write(desk, qtbot, "Lamp")
    desk.sending.choose("/dev/ttyNowhere9")
    desk.pages.send.send_line()
    silent(desk, qtbot)
    assert "there is no such port" in desk.notice.text
