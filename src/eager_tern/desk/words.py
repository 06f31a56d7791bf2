"""Labels that show words as they are: what people, files and devices say is never taken for markup."""

from __future__ import annotations

import html

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFontMetrics
from PyQt6.QtWidgets import QLabel, QWidget


class Words(QLabel):
    """A label of plain text."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__(text, parent)
        self.setTextFormat(Qt.TextFormat.PlainText)


def tool_tip(text: str) -> str:
    """Words as a tool tip shows them; Qt would take some for markup."""
    return f"<span>{html.escape(text)}</span>" if "<" in text or "&" in text else text


def shortened(metrics: QFontMetrics, words: str, width: float) -> str:
    """As many whole words as there is room for (pixels); of a single one as many letters."""
    fitting = metrics.elidedText(words, Qt.TextElideMode.ElideRight, int(width))
    whole = fitting.removesuffix("…").rpartition(" ")[0].rstrip(" ·,")
    return f"{whole} …" if fitting != words and whole else fitting
