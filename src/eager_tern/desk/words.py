"""Labels that show words as they are: what people, files and devices say is never taken for markup."""

from __future__ import annotations

import html

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QWidget


class Words(QLabel):
    """A label of plain text."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setTextFormat(Qt.TextFormat.PlainText)


def tool_tip(text: str) -> str:
    """Words as a tool tip shows them; Qt would take some for markup."""
    return f"<span>{html.escape(text)}</span>" if "<" in text or "&" in text else text
