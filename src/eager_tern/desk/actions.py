"""The menus: every action in one list, each with its shortcut."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu

if TYPE_CHECKING:
    from eager_tern.desk.window import Window

Keys = QKeySequence.StandardKey


def build_menus(window: Window) -> None:
    """Put the menus on the window; those that depend on its state are kept as its attributes."""
    bar = window.menuBar()

    def add(menu: QMenu, text: str, keys: object, act: Callable[[], object]) -> QAction:
        action = menu.addAction(text)
        if keys is not None:
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda: act())
        return action

    file = bar.addMenu("&File")
    add(file, "&New casebook …", Keys.New, window.ask_new)
    add(file, "&Open casebook …", Keys.Open, window.ask_open)
    window.recent_menu = file.addMenu("Open &recent")
    window.recent_menu.aboutToShow.connect(lambda: _fill_recent(window))
    add(file, "Open the &example", None, window.open_demo)
    file.addSeparator()
    window.import_action = add(file, "&Import recordings …", "Ctrl+I", window.ask_import)
    window.export_action = add(file, "&Export keys …", "Ctrl+E", window.ask_export)
    window.save_as_action = add(file, "Save casebook &as …", Keys.SaveAs, window.ask_save_as)
    file.addSeparator()
    add(file, "&Quit", "Ctrl+Q", window.close)

    edit = bar.addMenu("&Edit")
    window.undo_action = add(edit, "&Undo", Keys.Undo, window.document.undo)
    window.redo_action = add(edit, "&Redo", Keys.Redo, window.document.redo)
    edit.addSeparator()
    add(edit, "&Label the press", "F2", window.log.view.edit_current)
    add(edit, "&Copy bits", Keys.Copy, window.signal.copy_bits)
    add(edit, "&Find in the log", Keys.Find, window.log.filter.setFocus)

    view = bar.addMenu("&View")
    for number, name in enumerate(window.leaf_names):
        add(view, name, f"Ctrl+{number + 1}", lambda name=name: window.show_leaf(name))
    view.addSeparator()
    add(view, "&Wrap or unwrap the tape", "Ctrl+W", window.signal.wrap.click)
    window.night_action = add(view, "&Night theme", "Ctrl+T", window.toggle_night)
    window.night_action.setCheckable(True)

    source = bar.addMenu("&Source")
    window.listen_action = add(source, "&Listen or stop\tSpace", None, window.toggle_listening)


def _fill_recent(window: Window) -> None:
    window.recent_menu.clear()
    for name in window.settings.recent:
        path = Path(name)
        action = window.recent_menu.addAction(f"{path.stem}    {path.parent}")
        action.triggered.connect(lambda _, path=path: window.open_casebook(path))
    if not window.settings.recent:
        window.recent_menu.addAction("No casebook has been opened yet").setEnabled(False)
