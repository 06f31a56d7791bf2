"""The level: how many pulses came in each of the last moments, or how loud a sound input was."""

from __future__ import annotations

from collections import deque

from PyQt6.QtCore import QRectF, QTimer
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from eager_tern.desk.theme import colour
from eager_tern.signal.quality import CLIPPED
from eager_tern.texts import tr

BARS, EVERY_MS, BAR, FULL = 14, 150, 5, 60


class Level(QWidget):
    """A bar for each moment; the newest at the right. A bar that reaches the top clips."""

    def __init__(self) -> None:
        super().__init__()
        self._bars: deque[float] = deque([0.0] * BARS, BARS)  # 0 to 1
        self._pulses = 0
        self._peak: float | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(EVERY_MS)
        self._timer.timeout.connect(self._tick)
        self.setFixedSize(BARS * BAR, 26)
        self.setAccessibleName(tr("Level of the source"))

    def run(self, on: bool) -> None:
        """Move while listening."""
        self._bars.extend([0.0] * BARS)
        self._peak = None
        self._timer.start() if on else self._timer.stop()
        self.setVisible(on)

    def add(self, pulses: int) -> None:
        self._pulses += pulses

    def show_peak(self, peak: float) -> None:
        """Of a source that has samples: the highest of the last moment, as a part of full scale."""
        self._peak = max(peak, self._peak or 0.0)

    def _tick(self) -> None:
        self._bars.append(min(self._pulses / FULL if self._peak is None else self._peak, 1.0))
        self.setAccessibleDescription(
            tr("{pulses} pulses in the last moment", pulses=self._pulses)
            if self._peak is None
            else tr("{peak:.0%} of full scale", peak=self._peak)
        )
        self._pulses, self._peak = 0, None if self._peak is None else 0.0
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        for n, bar in enumerate(self._bars):
            height = 3 + 20 * bar
            clips = self._peak is not None and bar >= CLIPPED
            role = "attention" if clips else "proven" if bar else "fog"
            painter.fillRect(QRectF(n * BAR, 25 - height, BAR - 2, height), colour(role))
