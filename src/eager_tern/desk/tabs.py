"""The leaves' names above the desk: closer together where there is little room."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtGui import QFont, QFontMetrics, QResizeEvent
from PyQt6.QtWidgets import QTabBar

from eager_tern.texts import tr

BETWEEN = 30  # pixels from a name to the next, where there is room, with what a tab adds to its name


class Tabs(QTabBar):
    """One tab a leaf; the row it stands in is its parent."""

    def __init__(self, names: Sequence[str]) -> None:
        super().__init__()
        self.setDrawBase(False)
        self.setExpanding(False)
        self.setUsesScrollButtons(False)
        self.setAccessibleName(tr("Leaves"))
        for name in names:
            self.addTab(name)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        row = self.parentWidget()
        narrow = row is not None and row.width() < self._wanted()
        if narrow != bool(self.property("narrow")):
            self.setProperty("narrow", narrow)
            style = self.style()
            assert style is not None
            style.unpolish(self)
            style.polish(self)

    def _wanted(self) -> int:
        bold = QFont(self.font())
        bold.setBold(True)
        metrics = QFontMetrics(bold)
        return sum(metrics.horizontalAdvance(self.tabText(at)) + BETWEEN for at in range(self.count()))
