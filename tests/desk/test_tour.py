"""The tour: the way from the first press to the proof, as a newcomer follows it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot

from eager_tern.desk.settings import load_settings
from eager_tern.desk.tour import STEPS
from eager_tern.desk.window import Window
from eager_tern.places import data_folder
from tests.desk.conftest import settle


def test_the_way_from_first_press_to_proof_is_followed(
    empty_window: Window, qtbot: QtBot, own_home: Path, demo_casebook: Path
) -> None:
    window, tour = empty_window, empty_window.tour
    data_folder().mkdir(parents=True, exist_ok=True)
    (data_folder() / "skarvholm.tern").write_bytes(demo_casebook.read_bytes())
    window.open_demo()
    settle(window)
    assert f"{len(STEPS)} steps" in window.notice.text
    before = data_folder() / "skarvholm-tour.tern"
    before.write_bytes(b"followed before")
    follow = next(b for b in window.notice.findChildren(QPushButton) if b.text() == "Follow them")
    qtbot.mouseClick(follow, Qt.MouseButton.LeftButton)
    settle(window)
    assert tour.isVisible()
    # It begins on a new copy; the one of the last time is kept.
    assert before.with_name("skarvholm-tour-before.tern").read_bytes() == b"followed before"
    assert window.session.gadget is not None
    assert window.session.gadget.name == "Climate cabinet"
    for _ in range(6):  # three shots are enough to be recorded
        window.shot_plan.skip()
    while tour.at < len(STEPS) - 1:
        at, step = tour.at, STEPS[tour.at]
        if step.title == "Frames nobody captured":
            proof, presses = window.comparison.proof, window.session.shown_presses()
            assert len(presses) == 47
            assert proof is not None
            assert proof.made.all()
            assert {press.reading.protocol for press in presses} == {"climate-cabinet"}
            assert "mode heat · humidity 59" in window.findings.cards[0].title
            assert not window.live.on
        assert step.words in tour.text
        assert tour.act.isVisible() == bool(step.doing)
        qtbot.mouseClick(tour.act if step.doing else tour.next, Qt.MouseButton.LeftButton)

        def next_one(at: int = at, title: str = step.title) -> None:
            assert tour.at == at + 1, f"{title}: {window.notice.text}"

        qtbot.waitUntil(next_one, timeout=60_000)
    settle(window)
    assert window.sending.gadgets["Climate cabinet"].state["temperature"] == 17.5
    qtbot.mouseClick(tour.act, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: window.sending.gadgets["Window shutters"].state["skylight"] == "up", timeout=20_000)
    qtbot.waitUntil(lambda: not tour.isVisible(), timeout=5000)
    assert not tour.isVisible()
    assert load_settings().toured
    window.open_demo()
    settle(window)
    assert not window.notice.isVisible()


def test_the_tour_may_be_left(window: Window, qtbot: QtBot) -> None:
    window.tour.start()
    assert "1 of" in window.tour.text
    for at in (1, 2, 3):
        qtbot.mouseClick(window.tour.next, Qt.MouseButton.LeftButton)
        assert window.tour.at == at
    window.resize(1024, 700)
    assert window.width() == 1024
    qtbot.mouseClick(window.tour.leave, Qt.MouseButton.LeftButton)
    assert not window.tour.isVisible()
