"""The shot list in the window: planned by typing, taken by presses, shown in the header."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from pytestqt.qtbot import QtBot

from eager_tern.desk.window import Window
from tests.handsets import IDLE_US, nec, sony


def plan(window: Window, text: str) -> None:
    window.show_leaf("Shots")
    window.pages.shots.plan.setPlainText(text)
    window.pages.shots.add.click()


def listen(window: Window) -> None:
    session = window.session
    session.service.begin(session.gadget.id, "test", session.sheets)


def press(window: Window, qtbot: QtBot, frame: list[float]) -> None:
    count = len(window.session.shown_presses())
    window.session.service.hear(np.array([*frame, -IDLE_US]))
    qtbot.waitUntil(lambda: len(window.session.shown_presses()) == count + 1, timeout=10_000)


def test_each_press_takes_the_next_shot(window: Window, qtbot: QtBot) -> None:
    plan(window, "mode cool dry heat")
    listen(window)
    assert "mode\u00a0cool" in window.header._next.text()
    press(window, qtbot, nec(1, 2))
    press(window, qtbot, nec(1, 3))
    assert [p.label for p in window.session.presses[-2:]] == ["mode = cool", "mode = dry"]
    assert "2 of 3" in window.header._progress.text()
    assert "heat" in window.header._next.text()
    press(window, qtbot, sony(3, 4))
    assert window.session.presses[-1].label == ""
    assert "sirc12" in window.notice.text
    window.notice._action.click()
    assert window.session.presses[-1].label == "mode = heat"
    assert not window.header._next.text().startswith("mode")
    window.session.undo()
    assert window.session.presses[-1].label == ""
    assert "heat" in window.header._next.text()


def test_skip_repeat_and_step_back(window: Window, qtbot: QtBot) -> None:
    plan(window, "Power\nlevel 1..2")
    window.menus.actions["skip"].trigger()
    assert "level\u00a01" in window.header._next.text()
    listen(window)
    press(window, qtbot, nec(1, 2))
    window.menus.actions["repeat"].trigger()
    assert "level\u00a01" in window.header._next.text()
    window.menus.actions["back"].trigger()
    assert window.session.presses[-1].label == ""
    assert len(window.shot_plan.shots()) == 4


def test_a_wrong_plan_is_told_and_tables_go_in_and_out(window: Window, tmp_path: Path) -> None:
    window.show_leaf("Shots")
    window.pages.shots.plan.setPlainText("level 0..99999")
    assert "line 1" in window.pages.shots._makes.text()
    assert not window.pages.shots.add.isEnabled()
    plan(window, "mode cool dry")
    window.pages.shots.export_file(tmp_path / "shots.csv")
    window.shot_plan.put(())
    window.pages.shots.import_file(tmp_path / "shots.csv")
    assert [s.text for s in window.shot_plan.shots()] == ["mode = cool", "mode = dry"]
    window.pages.shots.import_file(tmp_path / "missing.csv")
    assert "cannot be read" in window.notice.text
