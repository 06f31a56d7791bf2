"""A sheet's text in ink of several kinds: tables bold, keys quiet, strings in sea green, numbers plain."""

from __future__ import annotations

import re

from PyQt6.QtGui import QFont, QSyntaxHighlighter, QTextCharFormat, QTextDocument

from eager_tern.desk.theme import colour

TABLE = re.compile(r"^\s*\[{1,2}[^\]]*\]{1,2}")
KEY = re.compile(r"(?:^\s*|[{,]\s*)([A-Za-z_][\w.-]*)(?=\s*=)")
STRING = re.compile(r'"(?:[^"\\]|\\.)*"|\'[^\']*\'')
REMARK = re.compile(r"#.*$")


class SheetInk(QSyntaxHighlighter):
    """Follows the text; weight and colour tell tables from keys, and keys from what they say."""

    def __init__(self, document: QTextDocument) -> None:
        super().__init__(document)

    def highlightBlock(self, text: str | None) -> None:
        line = text or ""
        for match in KEY.finditer(line):
            self.setFormat(match.start(1), len(match[1]), _format("quiet"))
        for match in TABLE.finditer(line):
            self.setFormat(match.start(), len(match[0]), _format("ink", bold=True))
        strings = [(match.start(), match.end()) for match in STRING.finditer(line)]
        for start, end in strings:
            self.setFormat(start, end - start, _format("proven"))
        remark = next((m for m in REMARK.finditer(line) if not any(a < m.start() < b for a, b in strings)), None)
        if remark is not None:
            self.setFormat(remark.start(), len(remark[0]), _format("quiet"))


def _format(role: str, bold: bool = False) -> QTextCharFormat:
    found = QTextCharFormat()
    found.setForeground(colour(role))
    found.setFontWeight(QFont.Weight.Bold if bold else QFont.Weight.Normal)
    return found
