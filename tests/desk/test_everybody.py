"""Everybody can use it: names for what is drawn, contrast, a size of its own on every screen."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import QRect, Qt
from PyQt6.QtWidgets import QLabel, QWidget
from pytestqt.qtbot import QtBot

from eager_tern.desk.settings import LENGTHS, SIZES, THEMES, load_settings
from eager_tern.desk.theme import DAY, NIGHT, Palette
from eager_tern.desk.window import FRAME, TITLE_BAR, Window, inside
from eager_tern.desk.words import shortened
from eager_tern.session.words import duration, moment
from tests.desk.conftest import settle


def luminance(colour: str) -> float:
    """Relative luminance (WCAG 2.2)."""
    parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("palette", [DAY, NIGHT], ids=["day", "night"])
def test_text_stands_out_from_every_ground(palette: Palette) -> None:
    for ground in (palette.paper, palette.margin, palette.card, palette.chosen):
        for ink in (palette.ink, palette.quiet, palette.attention, palette.proven, palette.uncertain):
            assert contrast(ink, ground) >= 4.5, (ink, ground)
    assert contrast(palette.on_attention, palette.attention) >= 4.5


def test_what_is_drawn_is_said(window: Window) -> None:
    session = window.session
    session.select((session.shown_presses()[0].id,))
    assert window.pages.signal.tape.accessibleDescription().startswith("leader 1")
    assert "address 0x5B" in window.pages.signal.bits.accessibleName()
    window.show_leaf("Handset")
    assert "7 of 12 keys caught: Lamp caught, Timer missing" in window.pages.handset.plate.accessibleDescription()
    window.choose_gadget(4)
    settle(window)
    window.show_leaf("Stack")
    session.select((session.shown_presses()[1].id,))
    described = window.pages.stack.grid.accessibleDescription()
    assert described.startswith("44 rows of 112 bits; row 2, ")
    assert "differs in bits" in described


def cut_off(widget: QWidget) -> list[str]:
    """The labels in sight whose words are wider than they are, and that do not wrap."""
    labels = [label for label in widget.findChildren(QLabel) if label.isVisible() and not label.wordWrap()]
    return [
        label.text()
        for label in labels
        if label.text()
        and not label.toolTip()
        and label.fontMetrics().horizontalAdvance(label.text()) > label.width() + 2
    ]


@pytest.mark.parametrize("size", [(1024, 700), (1280, 800), (1366, 768), (1920, 1080)])
def test_every_leaf_fits_every_screen(window: Window, qtbot: QtBot, size: tuple[int, int]) -> None:
    fitting = inside(QRect(0, 0, *size), QRect(0, 0, *size)).size()  # frame and title bar are the screen's, too
    window.resize(fitting)
    for gadget in (1, 4):
        window.choose_gadget(gadget)
        settle(window)
        for leaf in ("Signal", "Timing", "Stack", "Sheet", "Handset", "Shots", "Send"):
            window.show_leaf(leaf)
            qtbot.wait(20)
            assert window.size() == fitting, leaf
            assert window.tabs.tabRect(window.tabs.count() - 1).right() <= window.pages.width()
            assert not cut_off(window.pages.currentWidget()), (leaf, size)  # type: ignore[arg-type]


def test_a_window_opens_inside_the_screen() -> None:
    small, large = QRect(0, 0, 1280, 800), QRect(0, 0, 3840, 2160)
    assert inside(QRect(0, 0, 1280, 800), small) == QRect(0, TITLE_BAR, 1280, 800 - TITLE_BAR - FRAME)
    assert inside(QRect(300, 200, 1280, 800), large) == QRect(300, 200, 1280, 800)
    assert large.contains(inside(QRect(-500, -500, 1280, 800), large))
    assert large.contains(inside(QRect(9000, 9000, 1280, 800), large))  # where a screen was that is gone


def test_what_is_preferred_counts_at_once_and_is_kept(window: Window, qtbot: QtBot, tmp_path: Path) -> None:
    window.commands.do("preferences")
    page = window.pages.preferences
    assert window.pages.currentWidget() is page
    for theme, night in (("night", True), ("day", False)):
        page.theme.setCurrentIndex(THEMES.index(theme))  # type: ignore[arg-type]
        page.theme.activated.emit(0)
        assert window.is_night == night
        assert load_settings().theme == theme
    page.scale.setCurrentIndex(SIZES.index(150))
    page.scale.activated.emit(0)
    assert "next start" in page.aside.text()
    page.lengths.setCurrentIndex(LENGTHS.index("us"))
    page.lengths.activated.emit(0)
    assert (duration(67_500.0), moment(5e5, 1e5)) == ("67500 µs", "500000 µs")
    page.lengths.setCurrentIndex(LENGTHS.index("fitting"))
    page.lengths.activated.emit(0)
    assert (duration(67_500.0), moment(5e5, 1e5)) == ("67.5 ms", "0.5 s")
    page.folder.setText(str(tmp_path / "mine"))
    page.folder.editingFinished.emit()
    assert load_settings().size == 150
    page.closed.emit()
    window.session.close()
    settle(window)
    window.toggle_listening()
    qtbot.waitUntil(lambda: window.live.on, timeout=8000)
    assert list((tmp_path / "mine").glob("*.tern"))


def test_a_loudspeaker_is_chosen_and_stays_when_it_is_away(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    there = ["Hut's speaker", "Headset"]
    monkeypatch.setattr("eager_tern.desk.preferences.loudspeakers", lambda: there)
    window.commands.do("preferences")
    page = window.pages.preferences
    page.loudspeaker.setCurrentIndex(2)
    page.loudspeaker.activated.emit(2)
    assert window.pages.signal.hear_it.through == load_settings().loudspeaker == "Headset"
    there.pop()
    window.commands.do("preferences")
    assert page.loudspeaker.currentText() == "Headset"
    page.loudspeaker.setCurrentIndex(0)
    page.loudspeaker.activated.emit(0)
    assert window.pages.signal.hear_it.through == ""


def test_a_frame_is_heard_with_a_cursor_on_the_tape(window: Window, qtbot: QtBot) -> None:
    played: list[int] = []
    window.pages.signal.hear_it._player = lambda samples, _: played.append(samples.size)
    moved: list[float] = []
    window.pages.signal.hear_it.moved.connect(moved.append)
    qtbot.mouseClick(window.pages.signal.hear, Qt.MouseButton.LeftButton)
    qtbot.waitUntil(lambda: len(moved) > 2, timeout=3000)
    assert played
    assert moved == sorted(moved)
    qtbot.mouseClick(window.pages.signal.hear, Qt.MouseButton.LeftButton)  # again: quiet
    assert moved[-1] == -1
    assert not window.pages.signal.hear_it.on


def test_without_a_loudspeaker_that_is_said(window: Window, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("eager_tern.devices.loudspeaker.sounddevice_if_there", lambda: None)
    window.pages.signal.clicks.click()
    assert "sounddevice" in window.notice.text


def test_what_has_no_room_is_shortened_between_words(window: Window) -> None:
    metrics = window.fontMetrics()
    words = "power off · temperature\u00a019 · mode\u00a0cool"
    width = metrics.horizontalAdvance("power off · temperature\u00a019 · mo")
    assert shortened(metrics, words, width) == "power off · temperature\u00a019 …"
    assert metrics.horizontalAdvance(shortened(metrics, words, width)) <= width
    assert shortened(metrics, words, 10 * width) == words
    assert shortened(metrics, "Barometerstation", metrics.horizontalAdvance("Barom")).startswith("Ba")
