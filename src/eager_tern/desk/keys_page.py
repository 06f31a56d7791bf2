"""All keys on a page, as the commands have them."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QKeySequence
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from eager_tern.desk.links import link
from eager_tern.desk.theme import text_font
from eager_tern.desk.words import Words
from eager_tern.session.commands import Commands

# Keys that belong to a view rather than to a command.
ELSEWHERE = (
    ("Return", "type a label: in the log, on a row of the stack"),
    ("Up, Down", "another press, row or key"),
    ("Delete", "delete the selected presses; take a key that was never caught off the plate"),
    ("Esc", "leave what is being typed as it was"),
)


class KeysPage(QScrollArea):
    """A column a menu, and one for the keys of the views."""

    closed = pyqtSignal()

    def __init__(self, commands: Commands, groups: Mapping[str, tuple[str, ...]]) -> None:
        super().__init__()
        self.setFrameShape(QScrollArea.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setAccessibleName("Keyboard shortcuts")
        inner = QWidget()
        layout = QVBoxLayout(inner)
        layout.setContentsMargins(40, 28, 40, 28)
        layout.setSpacing(14)
        title = Words("Keys")
        title.setObjectName("title")
        title.setFont(text_font(20, bold=True))
        top = QHBoxLayout()
        top.addWidget(title)
        top.addStretch(1)
        top.addWidget(link("back to the desk", "Back to the desk", self.closed.emit))
        layout.addLayout(top)
        grid = QGridLayout()
        grid.setHorizontalSpacing(18)
        grid.setVerticalSpacing(4)
        grid.setColumnStretch(2, 1)
        row = 0
        for name, ids in groups.items():
            rows = [(_shown(commands[each].key), commands[each].plain) for each in ids if commands[each].key]
            row = _group(grid, row, name.upper(), rows)
        _group(grid, row, "IN THE VIEWS", list(ELSEWHERE))
        layout.addLayout(grid)
        layout.addStretch(1)
        self.setWidget(inner)


def _shown(key: str) -> str:
    return QKeySequence(key).toString(QKeySequence.SequenceFormat.NativeText)


def _group(grid: QGridLayout, row: int, name: str, rows: list[tuple[str, str]]) -> int:
    """Put a group of keys on the grid. Gives the next free row."""
    if not rows:
        return row
    heading = Words(name)
    heading.setObjectName("heading")
    grid.addWidget(heading, row, 0, 1, 2)
    for at, (key, words) in enumerate(rows, row + 1):
        grid.addWidget(Words(key), at, 0)
        grid.addWidget(Words(words), at, 1)
    grid.setRowMinimumHeight(row + len(rows) + 1, 8)
    return row + len(rows) + 2
