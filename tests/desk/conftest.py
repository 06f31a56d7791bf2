"""A real window on a copy of the demo casebook."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot

from eager_tern.desk.app import application
from eager_tern.desk.window import Window

gc.freeze()  # what was imported need not be looked through again


@pytest.fixture
def empty_window(qtbot: QtBot, own_home: Path) -> Iterator[Window]:
    gc.collect()  # windows of earlier tests end here, not while Qt goes through all widgets
    application()
    window = Window()
    qtbot.addWidget(window)
    window.show()
    yield window
    window.close()


@pytest.fixture
def window(empty_window: Window, demo_casebook: Path, tmp_path: Path) -> Window:
    copy = tmp_path / "skarvholm.tern"
    copy.write_bytes(demo_casebook.read_bytes())
    assert empty_window.open_casebook(copy)
    return empty_window
