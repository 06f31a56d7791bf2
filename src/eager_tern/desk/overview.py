"""The whole take on one line, its presses marked; a click goes there."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from eager_tern.casebook.values import Caught
from eager_tern.desk.ink import draw_marks
from eager_tern.desk.theme import SMALL_PX, colour, text_font
from eager_tern.session.session import Session
from eager_tern.session.words import duration
from eager_tern.signal.values import Floats
from eager_tern.texts import tr

MARGIN, TOP, MARK_HEIGHT, HEIGHT = 18, 12, 12, 32


class Overview(QWidget):
    """Shown above the tape. A wedge points at each press, a filled one at those selected."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._edges: Floats = np.empty(0)
        self._marked: Floats = np.empty(0)
        self._shown: list[Caught] = []
        self._presses: list[Caught] = []
        self._starts: Floats = np.empty(0)
        self._chosen: Caught | None = None
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Overview of the whole take"))
        self.setToolTip(tr("The whole take; click to go to the press nearest to there"))

    def sizeHint(self) -> QSize:
        return QSize(600, HEIGHT)

    def show_take(self, press: Caught | None) -> None:
        """The take that a press is in."""
        self._chosen = press
        if press is not None:
            self._edges = self._session.take_edges(press.take_id)
            self._marked = self._session.take_marked(press.take_id)
            shown = self._session.shown_presses()
            if shown is not self._shown or not self._presses or self._presses[0].take_id != press.take_id:
                self._shown = shown
                self._presses = [p for p in shown if p.take_id == press.take_id]
                self._starts = np.array([p.reading.start_us for p in self._presses])
        self.update()

    def _end_us(self) -> float:
        return float(self._edges[-1]) * 1.01 if self._edges.size else 1.0

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._chosen is None or not self._edges.size:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(text_font(SMALL_PX))
        length = duration(self._end_us())
        room = painter.fontMetrics().horizontalAdvance(length) + 12
        box = QRectF(MARGIN, TOP, self.width() - 2 * MARGIN - room, MARK_HEIGHT)
        painter.setPen(colour("quiet"))
        painter.drawText(QPointF(box.right() + 8, box.bottom() - 1), length)
        draw_marks(painter, box, self._edges, 0.0, self._end_us(), colour("ink"), self._marked)
        painter.setPen(colour("rule"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        for x, chosen in self._wedges(box):
            painter.setPen(colour("attention" if chosen else "quiet"))
            painter.setBrush(colour("attention") if chosen else colour("paper"))
            tip = box.bottom() + 2
            painter.drawPolygon(QPolygonF([QPointF(x, tip), QPointF(x - 4, tip + 7), QPointF(x + 4, tip + 7)]))

    def _wedges(self, box: QRectF) -> list[tuple[float, bool]]:
        """Where a wedge stands and whether it is filled: one for all presses on a pixel, filled ones last."""
        scale = box.width() / self._end_us()
        selected = self._session.selected_presses()
        chosen = [p.reading.start_us for p in selected if p.take_id == selected[0].take_id]
        empty = np.unique(np.rint(box.left() + self._starts * scale))
        filled = np.unique(np.rint(box.left() + np.array(chosen) * scale))
        return [(x, False) for x in empty.tolist()] + [(x, True) for x in filled.tolist()]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._presses:
            at = (event.position().x() - MARGIN) / max(self.width() - 2 * MARGIN - 60, 1) * self._end_us()
            self._session.select((self._presses[int(np.argmin(np.abs(self._starts - at)))].id,))
