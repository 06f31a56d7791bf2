"""What Qt's Python types leave open, although it is there."""

from __future__ import annotations

from typing import TypeVar

from PyQt6.QtGui import QAction, QClipboard
from PyQt6.QtWidgets import QApplication, QMenu, QToolButton

T = TypeVar("T")


def sure(thing: T | None) -> T:
    """Something that Qt declares as perhaps missing, and that is there."""
    assert thing is not None
    return thing


def clipboard() -> QClipboard:
    return sure(QApplication.clipboard())


def menu_of(button: QToolButton) -> QMenu:
    return sure(button.menu())


def add_action(menu: QMenu, text: str, enabled: bool = True) -> QAction:
    """A new entry of a menu; an ampersand in its text is one."""
    action = QAction(text.replace("&", "&&"), menu)
    action.setEnabled(enabled)
    menu.addAction(action)
    return action
