"""Labels of plain text."""

from __future__ import annotations

from pytestqt.qtbot import QtBot

from eager_tern.desk.words import Words


def test_a_word_too_long_for_its_column_is_broken_and_still_what_it_was(qtbot: QtBot) -> None:
    path = "casebooks/" + "skarvholm" * 20
    label = Words(path)
    label.setWordWrap(True)
    qtbot.addWidget(label)
    label.setFixedWidth(260)
    assert label.text() == path
    assert label.minimumSizeHint().width() <= 260
    plain = Words("a few short words")
    qtbot.addWidget(plain)
    assert plain.text() == "a few short words"
