"""Labels that show words as they are: what people, files and devices say is never taken for markup."""

from __future__ import annotations

import html
import re

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QFontMetrics
from PyQt6.QtWidgets import QLabel, QWidget

LONGEST = 32  # letters, as wide as the narrowest column of words

LONG_WORD = re.compile(rf"\S{{{LONGEST}}}(?=\S)")


class Words(QLabel):
    """A label of plain text. A word too long for a line may be broken; Qt would widen all that stands around it."""

    def __init__(self, text: str = "", parent: QWidget | None = None) -> None:
        super().__init__("", parent)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setText(text)

    def setText(self, text: str | None) -> None:
        self._text = text or ""
        super().setText(LONG_WORD.sub("\\g<0>\u200b", self._text))

    def text(self) -> str:
        return self._text


def tool_tip(text: str) -> str:
    """Words as a tool tip shows them; Qt would take some for markup."""
    return f"<span>{html.escape(text)}</span>" if "<" in text or "&" in text else text


def shortened(metrics: QFontMetrics, words: str, width: float) -> str:
    """As many whole words as there is room for (pixels); of a single one as many letters."""
    fitting = metrics.elidedText(words, Qt.TextElideMode.ElideRight, int(width))
    whole = fitting.removesuffix("…").rpartition(" ")[0].rstrip(" ·,")
    return f"{whole} …" if fitting != words and whole else fitting
