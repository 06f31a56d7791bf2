"""Words that do something when they are clicked."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QPushButton


def link(text: str, accessible: str, act: Callable[[], object]) -> QPushButton:
    button = QPushButton(text)
    button.setObjectName("link")
    button.setAccessibleName(accessible)
    button.setCursor(Qt.CursorShape.PointingHandCursor)
    button.clicked.connect(lambda: act())
    return button
