"""Menus from a table: every action a line, with its shortcut."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from PyQt6.QtGui import QAction, QKeySequence
from PyQt6.QtWidgets import QMenu, QMenuBar

SEPARATOR = None


@dataclass(frozen=True)
class Item:
    """An action; ``name`` is what `build_menus` gives it back under. ``fill`` makes it a menu, filled when it opens."""

    name: str
    text: str
    act: Callable[[], object] = lambda: None
    keys: QKeySequence.StandardKey | str = ""
    checkable: bool = False
    fill: Callable[[QMenu], None] | None = None


def build_menus(bar: QMenuBar, menus: Mapping[str, Sequence[Item | None]]) -> dict[str, QAction]:
    """Put the menus on the bar. Gives the actions by their names."""
    actions: dict[str, QAction] = {}
    for title, items in menus.items():
        menu = bar.addMenu(title)
        for item in items:
            if item is SEPARATOR:
                menu.addSeparator()
            elif item.fill is not None:
                inner = menu.addMenu(item.text)
                inner.aboutToShow.connect(lambda item=item, inner=inner: item.fill(inner))
                actions[item.name] = inner.menuAction()
            else:
                action = actions[item.name] = menu.addAction(item.text)
                action.setCheckable(item.checkable)
                if item.keys:
                    action.setShortcut(QKeySequence(item.keys))
                action.triggered.connect(lambda _, item=item: item.act())
    return actions
