"""What stands in which menu, and the menus made of it."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu, QMenuBar

from eager_tern.session.commands import Commands
from eager_tern.texts import tr

SEPARATOR = ""
# Commands by their ids. "leaves" stands for the leaves of the desk, "recent" for a menu of its own.
MENUS: dict[str, tuple[str, ...]] = {
    tr("&File"): (
        "new", "open", "recent", "example", "tour", SEPARATOR, "import", "home", "save_as", SEPARATOR, "quit",
    ),
    tr("&Edit"): ("undo", "redo", SEPARATOR, "label", "copy", "find", SEPARATOR, "preferences"),
    tr("&View"): ("leaves", SEPARATOR, "wrap", "log", "night"),
    tr("&Source"): ("listen", "armed", "ear", "missed", "play", "publish", SEPARATOR, "skip", "repeat", "back"),
    tr("S&end"): ("say", "send_all", "silence"),
    tr("&Help"): ("keys", "sheet_language", SEPARATOR, "about"),
}  # fmt: skip
RECENT = tr("Open &recent")


class Menus:
    """The menus on a bar. They show what can be done now whenever they are opened or ``refresh`` is called."""

    def __init__(
        self, bar: QMenuBar, commands: Commands, leaves: tuple[str, ...], fill_recent: Callable[[QMenu], None]
    ) -> None:
        self.actions: dict[str, QAction] = {}
        self._commands = commands
        for title, ids in MENUS.items():
            menu = _menu(bar, title)
            menu.aboutToShow.connect(self.refresh)
            for command_id in ids:
                if command_id == SEPARATOR:
                    menu.addSeparator()
                elif command_id == "leaves":
                    for leaf in leaves:
                        self._add(menu, leaf)
                elif command_id == "recent":
                    inner = QMenu(RECENT, menu)
                    menu.addMenu(inner)
                    inner.aboutToShow.connect(lambda inner=inner: fill_recent(inner))
                else:
                    self._add(menu, command_id)
        self.refresh()

    def _add(self, menu: QMenu, command_id: str) -> None:
        command = self._commands[command_id]
        action = QAction(command.words, menu)
        if command.key == "Space":  # no shortcut: where a button or an editor has the focus, Space is theirs
            action.setText(f"{command.words}\t{tr('Space')}")
        elif command.key:
            action.setShortcut(QKeySequence(command.key))
        action.setCheckable(command.checked is not None)
        action.triggered.connect(lambda: self._commands.do(command_id))
        menu.addAction(action)
        self.actions[command_id] = action

    def refresh(self) -> None:
        """Show what can be done now, and what is on."""
        for command_id, action in self.actions.items():
            command = self._commands[command_id]
            action.setEnabled(command.enabled())
            if command.checked is not None:
                action.setChecked(command.checked())
            if command.told is not None:
                action.setText(command.told())


def shown_groups(leaves: tuple[str, ...]) -> Mapping[str, tuple[str, ...]]:
    """The ids of the commands that menus show, by the menu's name."""
    return {
        title.replace("&", ""): tuple(
            each for one in ids for each in (leaves if one == "leaves" else (one,)) if each not in (SEPARATOR, "recent")
        )
        for title, ids in MENUS.items()
    }


def _menu(bar: QMenuBar, title: str) -> QMenu:
    menu = QMenu(title, bar)
    bar.addMenu(menu)
    return menu
