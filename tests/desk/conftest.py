"""A real window on a copy of the demo casebook."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from eager_tern.desk.app import application
from eager_tern.desk.window import Window

gc.freeze()  # what was imported need not be looked through again


def settle(window: Window) -> None:
    """Wait until nothing is under way in the window's session any more."""
    window.session.inbox.settle(lambda: not (window.session.incoming.reading_again or window.imports.busy))
    QApplication.processEvents()


@pytest.fixture
def empty_window(qtbot: QtBot, own_home: Path) -> Iterator[Window]:
    gc.collect()  # windows of earlier tests end here, not while Qt goes through all widgets
    application()
    window = Window()
    qtbot.addWidget(window)
    window.resize(1280, 800)  # the offscreen platform's screen is smaller
    window.show()
    yield window
    window.close()


@pytest.fixture
def window(empty_window: Window, demo_casebook: Path, tmp_path: Path) -> Window:
    copy = tmp_path / "skarvholm.tern"
    copy.write_bytes(demo_casebook.read_bytes())
    empty_window.open_casebook(copy)
    settle(empty_window)
    assert empty_window.session.casebook is not None
    return empty_window
