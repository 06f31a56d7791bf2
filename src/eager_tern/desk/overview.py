"""The whole take on one line, its presses marked; a click goes there."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from eager_tern.casebook.values import Caught
from eager_tern.desk.document import Document
from eager_tern.desk.ink import draw_marks
from eager_tern.desk.theme import SMALL_PX, colour, digit_font
from eager_tern.desk.words import duration
from eager_tern.signal.coverage import mark_time_before
from eager_tern.signal.values import Floats

MARGIN, TOP, MARK_HEIGHT, HEIGHT = 18, 12, 12, 32


class Overview(QWidget):
    """Shown above the tape. A wedge points at each press, a filled one at those selected."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._edges: Floats = np.empty(0)
        self._marked: Floats = np.empty(0)
        self._presses: list[Caught] = []
        self._chosen: Caught | None = None
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName("Overview of the whole take")
        self.setToolTip("The whole take; click to go to the press nearest to there")

    def sizeHint(self) -> QSize:
        return QSize(600, HEIGHT)

    def show_take(self, press: Caught | None) -> None:
        """The take that a press is in."""
        self._chosen = press
        if press is not None:
            edges = self._document.take_edges(press.take_id)
            if edges is not self._edges:
                self._edges, self._marked = edges, mark_time_before(edges)
            self._presses = [p for p in self._document.shown_presses() if p.take_id == press.take_id]
        self.update()

    def _end_us(self) -> float:
        return float(self._edges[-1]) * 1.01 if self._edges.size else 1.0

    def paintEvent(self, event: QPaintEvent) -> None:
        if self._chosen is None or not self._edges.size:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(digit_font(SMALL_PX))
        length = duration(self._end_us())
        room = painter.fontMetrics().horizontalAdvance(length) + 12
        box = QRectF(MARGIN, TOP, self.width() - 2 * MARGIN - room, MARK_HEIGHT)
        painter.setPen(colour("quiet"))
        painter.drawText(QPointF(box.right() + 8, box.bottom() - 1), length)
        draw_marks(painter, box, self._edges, 0.0, self._end_us(), colour("ink"), self._marked)
        painter.setPen(colour("rule"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        for press in self._presses:
            x = box.left() + press.reading.start_us / self._end_us() * box.width()
            chosen = press.id in self._document.selected
            painter.setPen(colour("attention" if chosen else "quiet"))
            painter.setBrush(colour("attention") if chosen else colour("paper"))
            tip = box.bottom() + 2
            painter.drawPolygon(QPolygonF([QPointF(x, tip), QPointF(x - 4, tip + 7), QPointF(x + 4, tip + 7)]))

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if self._presses:
            at = (event.position().x() - MARGIN) / max(self.width() - 2 * MARGIN - 60, 1) * self._end_us()
            near = min(self._presses, key=lambda press: abs(press.reading.start_us - at))
            self._document.select((near.id,))
