"""The level: how many pulses came in each of the last moments."""

from __future__ import annotations

from collections import deque

from PyQt6.QtCore import QRectF, QTimer
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from eager_tern.desk.theme import colour

BARS, EVERY_MS, BAR, FULL = 14, 150, 5, 60


class Level(QWidget):
    """A bar for each moment; the newest at the right."""

    def __init__(self) -> None:
        super().__init__()
        self._counts: deque[int] = deque([0] * BARS, BARS)
        self._now = 0
        self._timer = QTimer(self)
        self._timer.setInterval(EVERY_MS)
        self._timer.timeout.connect(self._tick)
        self.setFixedSize(BARS * BAR, 26)
        self.setAccessibleName("Level of the source")

    def run(self, on: bool) -> None:
        """Move while listening."""
        self._counts.extend([0] * BARS)
        self._timer.start() if on else self._timer.stop()
        self.setVisible(on)

    def add(self, pulses: int) -> None:
        self._now += pulses

    def _tick(self) -> None:
        self._counts.append(self._now)
        self._now = 0
        self.setAccessibleDescription(f"{sum(self._counts)} pulses lately")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        painter = QPainter(self)
        for n, count in enumerate(self._counts):
            height = 3 + 20 * min(count / FULL, 1.0)
            painter.fillRect(QRectF(n * BAR, 25 - height, BAR - 2, height), colour("proven" if count else "fog"))
