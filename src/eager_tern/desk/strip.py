"""The tape unwrapped: a whole take on one line, from all of it down to a microsecond."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QWheelEvent
from PyQt6.QtWidgets import QWidget

from eager_tern.casebook.values import Caught
from eager_tern.desk.calipers import Calipers
from eager_tern.desk.ink import draw_marks
from eager_tern.desk.ruler import draw_leans, draw_ruler
from eager_tern.desk.theme import SMALL_PX, colour, text_font
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import bit_at, bit_span
from eager_tern.session.session import Session
from eager_tern.session.words import duration, moment
from eager_tern.signal.coverage import mark_time_before
from eager_tern.signal.measure import edge_deviations
from eager_tern.signal.values import Floats
from eager_tern.texts import tr

HEIGHT = 150
MARGIN, TOP, MARK_HEIGHT = 14, 52, 46
SHORTEST_US = 5.0
ZOOM_STEP = 1.25
NEAR_PX, DRAG_PX = 10, 4
TICKS_US = [m * 10.0**e for e in range(0, 11) for m in (1, 2, 5)]
TICK_PX = 90


class StripTape(QWidget):
    """Drag to move, wheel to zoom, click an edge to measure."""

    def __init__(self, session: Session, calipers: Calipers) -> None:
        super().__init__()
        self._session = session
        self._calipers = calipers
        self._edges: Floats = np.empty(0)
        self._marked: Floats = np.empty(0)
        self._captions: list[Caught] = []
        self._frame: Frame | None = None
        self._deviations: Floats = np.empty(0)
        self._hovered = -1
        self._chosen: tuple[float, float] | None = None
        self.from_us, self.to_us = 0.0, 1.0
        self._grabbed: tuple[float, float, float] | None = None  # x, from, to
        self._moved = False
        self.setFixedHeight(HEIGHT)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Tape of the whole take"))
        self.setMouseTracking(True)
        calipers.changed.connect(self.update)
        session.hovered_bit.connect(self._hover)

    def show_take(
        self,
        edges_us: Floats,
        presses: list[Caught],
        chosen: tuple[float, float],
        frame: Frame | None = None,
    ) -> None:
        """A take with its presses, the view on the chosen stretch of time; ruler and leans for one of its frames."""
        if edges_us is not self._edges:
            self._edges, self._marked = edges_us, mark_time_before(edges_us)
        self._captions, self._frame = presses, frame
        if frame is not None and frame.best is not None:
            self._deviations = edge_deviations(frame.as_read.durations_us, frame.best.expected_us)
        if chosen != self._chosen:  # else the user may have zoomed in there
            self._chosen = chosen
            self.fit(*chosen)
        self.update()

    def fit(self, from_us: float, to_us: float) -> None:
        """Show a stretch of time with a little room on both sides."""
        room = 0.03 * (to_us - from_us)
        self._look(from_us - room, to_us + room)

    def _look(self, from_us: float, to_us: float) -> None:
        width = max(to_us - from_us, SHORTEST_US)
        end = float(self._edges[-1]) if self._edges.size else width
        width = min(width, end * 1.06 + 1.0)
        from_us = min(max(from_us, -0.03 * end), end * 1.03 - width + 1.0)
        self.from_us, self.to_us = from_us, from_us + width
        self.update()

    def zoom(self, factor: float, at_us: float | None = None) -> None:
        """Show ``factor`` times as much time, the time at ``at_us`` staying where it is."""
        at = (self.from_us + self.to_us) / 2 if at_us is None else at_us
        self._look(at - (at - self.from_us) * factor, at + (self.to_us - at) * factor)

    def _scale(self) -> float:
        return (self.width() - 2 * MARGIN) / (self.to_us - self.from_us)

    def _time_at(self, x: float) -> float:
        return self.from_us + (x - MARGIN) / self._scale()

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(MARGIN, TOP, self.width() - 2 * MARGIN, MARK_HEIGHT)
        scale = self._scale()
        if self._chosen is not None:
            left, right = ((t - self.from_us) * scale + box.left() for t in self._chosen)
            left, right = max(left, box.left()), min(right, box.right())
            if right > left:
                painter.fillRect(QRectF(left, TOP - 10, right - left, MARK_HEIGHT + 14), colour("chosen"))
        self._shade_hovered(painter, box, scale)
        draw_marks(painter, box, self._edges, self.from_us, self.to_us, colour("ink"), self._marked)
        painter.setPen(QPen(colour("ink"), 1.2))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        if self._frame is not None and self._frame.best is not None:
            pulses, unit = self._frame.as_read, self._frame.best.clock.unit_us
            start, end = max(pulses.start_us, self.from_us), min(pulses.end_us, self.to_us)
            here = QRectF(box.left() + (start - self.from_us) * scale, box.top(), (end - start) * scale, box.height())
            if end > start:
                draw_ruler(painter, here, start, end, pulses.start_us, unit)
                draw_leans(painter, here, start, end + 1, pulses.edge_times_us, self._deviations, unit)
        self._draw_captions(painter, box, scale)
        self._draw_times(painter, box, scale)
        self._draw_calipers(painter, box, scale)

    def _hover(self, bit: int) -> None:
        self._hovered = bit
        self.update()

    def _shade_hovered(self, painter: QPainter, box: QRectF, scale: float) -> None:
        span = bit_span(self._frame.best, self._hovered) if self._frame is not None else None
        if span is None or self._frame is None:
            return
        start, end = (at + self._frame.pulses.start_us for at in span)
        left, right = max(start, self.from_us), min(end, self.to_us)
        if right > left:
            x = box.left() + (left - self.from_us) * scale
            painter.fillRect(QRectF(x, TOP - 6, (right - left) * scale, MARK_HEIGHT + 22), colour("attention", 0.2))

    def _draw_captions(self, painter: QPainter, box: QRectF, scale: float) -> None:
        painter.setFont(text_font(SMALL_PX + 1))
        metrics = painter.fontMetrics()
        free = box.left() - 10.0
        for press in self._captions:
            x = box.left() + (press.reading.start_us - self.from_us) * scale
            text = press.label or (tr("stray") if press.stray else "·")
            if box.left() - 1 <= x <= box.right() and x > free:
                painter.setPen(colour("quiet"))
                painter.drawText(QPointF(x, TOP - 16), text)
                free = x + metrics.horizontalAdvance(text) + 8

    def _draw_times(self, painter: QPainter, box: QRectF, scale: float) -> None:
        step = next((s for s in TICKS_US if s * scale >= TICK_PX), TICKS_US[-1])
        painter.setFont(text_font(SMALL_PX))
        painter.setPen(colour("quiet"))
        for n in range(int(np.ceil(self.from_us / step)), int(self.to_us / step) + 1):
            x = box.left() + (n * step - self.from_us) * scale
            painter.drawLine(QPointF(x, box.bottom() + 17), QPointF(x, box.bottom() + 23))
            painter.drawText(QPointF(x + 3, box.bottom() + 33), moment(n * step, step))

    def _draw_calipers(self, painter: QPainter, box: QRectF, scale: float) -> None:
        painter.setPen(QPen(colour("attention"), 1.6))
        for at in (self._calipers.one_us, self._calipers.other_us):
            if at is not None:
                x = box.left() + (at - self.from_us) * scale
                if box.left() <= x <= box.right():
                    painter.drawLine(QPointF(x, TOP - 8), QPointF(x, box.bottom() + 4))
        painter.setFont(text_font(SMALL_PX + 1))
        painter.setPen(colour("quiet"))
        shown = tr("{duration} shown · drag to move, wheel to zoom", duration=duration(self.to_us - self.from_us))
        painter.drawText(QRectF(MARGIN, 2, box.width(), 16), Qt.AlignmentFlag.AlignRight, shown)

    # Mouse and keys

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        assert event is not None
        steps = event.angleDelta().y() / 120
        self.zoom(ZOOM_STEP**-steps, self._time_at(event.position().x()))
        event.accept()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.button() == Qt.MouseButton.LeftButton:
            self._grabbed, self._moved = (event.position().x(), self.from_us, self.to_us), False

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._grabbed is None:
            self._point_at(self._time_at(event.position().x()))
            return
        x, from_us, to_us = self._grabbed
        by = event.position().x() - x
        if self._moved or abs(by) > DRAG_PX:
            self._moved = True
            shift = by * (to_us - from_us) / (self.width() - 2 * MARGIN)
            self._look(from_us - shift, to_us - shift)

    def _point_at(self, at_us: float) -> None:
        if self._frame is not None:
            bit = bit_at(self._frame.best, at_us - self._frame.pulses.start_us)
            if bit != self._hovered:
                self._session.hovered_bit.emit(bit)

    def leaveEvent(self, event: object) -> None:
        self._session.hovered_bit.emit(-1)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._grabbed is not None and not self._moved and self._edges.size:
            at = self._time_at(event.position().x())
            near = float(self._edges[np.argmin(np.abs(self._edges - at))])
            if abs(near - at) * self._scale() <= NEAR_PX:
                self._calipers.set_edge(near)
        self._grabbed = None

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if self._chosen is not None:
            self.fit(*self._chosen)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        extend = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        width = self.to_us - self.from_us
        match event.key():
            case Qt.Key.Key_Plus | Qt.Key.Key_Equal:
                self.zoom(1 / ZOOM_STEP)
            case Qt.Key.Key_Minus:
                self.zoom(ZOOM_STEP)
            case Qt.Key.Key_PageUp:
                self._look(self.from_us - width / 2, self.to_us - width / 2)
            case Qt.Key.Key_PageDown:
                self._look(self.from_us + width / 2, self.to_us + width / 2)
            case Qt.Key.Key_Left:
                self._calipers.step(self._edges, -1, extend)
            case Qt.Key.Key_Right:
                self._calipers.step(self._edges, 1, extend)
            case Qt.Key.Key_Escape:
                self._calipers.clear()
            case _:
                super().keyPressEvent(event)
