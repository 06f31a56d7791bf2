"""The tape of one frame, wrapped into lines like text, with the unit ruler and the leans of the edges."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from eager_tern.desk.calipers import Calipers
from eager_tern.desk.ink import draw_marks
from eager_tern.desk.ruler import draw_leans, draw_ruler
from eager_tern.desk.tape_layout import TapeLine, wrapped_lines
from eager_tern.desk.theme import SMALL_PX, colour, text_font
from eager_tern.protocol.layout import bit_groups
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import bit_at, bit_span
from eager_tern.session.session import Session
from eager_tern.signal.measure import edge_deviations
from eager_tern.signal.values import Floats
from eager_tern.texts import tr

CAPTION_WIDTH, RIGHT = 78, 14
TOP, LINE_HEIGHT, MARK_HEIGHT = 12, 55, 21
NEAR_PX = 14


class WrappedTape(QWidget):
    """Paints the selected press's first frame."""

    def __init__(self, session: Session, calipers: Calipers) -> None:
        super().__init__()
        self._session = session
        self._calipers = calipers
        self._frame: Frame | None = None
        self._lines: list[TapeLine] = []
        self._cursor_us = -1.0
        self._deviations: Floats = np.empty(0)
        self._hovered = -1
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Tape of the selected frame"))
        calipers.changed.connect(self.update)
        session.hovered_bit.connect(self._hover)

    def show_frame(self, frame: Frame | None) -> None:
        """Another frame, or none."""
        self._frame = frame
        self._lines, self._deviations = [], np.empty(0)
        if frame is not None:
            reading = frame.best
            groups = bit_groups(reading) if reading is not None else []
            self._lines = wrapped_lines(frame.as_read, reading, groups)
            if reading is not None:
                self._deviations = edge_deviations(frame.as_read.durations_us, reading.expected_us)
        lines = [
            tr("{caption} {ms:.1f} ms", caption=line.caption or tr("line"), ms=(line.to_us - line.from_us) / 1000.0)
            for line in self._lines
        ]
        self.setAccessibleDescription("; ".join(lines))
        self.updateGeometry()
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(600, TOP + LINE_HEIGHT * max(len(self._lines), 1) - 8)

    def _hover(self, bit: int) -> None:
        self._hovered = bit
        self.update()

    # Geometry

    def _scale(self) -> float:
        """Pixels a µs: one for all lines, so that lengths can be compared by eye."""
        longest = max((line.to_us - line.from_us for line in self._lines), default=1.0)
        return (self.width() - CAPTION_WIDTH - RIGHT) / max(longest, 1.0)

    def _box(self, number: int) -> QRectF:
        """Where the marks of a line stand."""
        top = TOP + number * LINE_HEIGHT
        return QRectF(CAPTION_WIDTH, top, self.width() - CAPTION_WIDTH - RIGHT, MARK_HEIGHT)

    def _time_at(self, point: QPointF) -> float | None:
        number = int((point.y() - TOP + 10) // LINE_HEIGHT)
        if not 0 <= number < len(self._lines):
            return None
        line = self._lines[number]
        return float(np.clip(line.from_us + (point.x() - CAPTION_WIDTH) / self._scale(), line.from_us, line.to_us))

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._frame is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        pulses = self._frame.as_read
        edges = pulses.edge_times_us - pulses.start_us
        reading = self._frame.best
        scale = self._scale()
        for number, line in enumerate(self._lines):
            box = self._box(number)
            width = (line.to_us - line.from_us) * scale
            self._caption(painter, box, line)
            self._shade_hovered(painter, box, line, scale)
            draw_marks(painter, QRectF(box.left(), box.top(), width, box.height()), edges, line.from_us, line.to_us,
                       colour("ink"))  # fmt: skip
            painter.setPen(QPen(colour("ink"), 1.2))
            painter.drawLine(QPointF(box.left(), box.bottom()), QPointF(box.right(), box.bottom()))
            if reading is not None:
                here, unit = QRectF(box.left(), box.top(), width, box.height()), reading.clock.unit_us
                draw_ruler(painter, here, line.from_us, line.to_us, line.from_us, unit)
                draw_leans(painter, here, line.from_us, line.to_us, edges, self._deviations, unit)
        self._draw_calipers(painter, scale)
        self._draw_cursor(painter, scale)

    def show_cursor(self, at_us: float) -> None:
        """Where something is heard now, from the frame's first edge; below 0: nowhere."""
        self._cursor_us = at_us
        self.update()

    def _draw_cursor(self, painter: QPainter, scale: float) -> None:
        for number, line in enumerate(self._lines):
            if line.from_us <= self._cursor_us < line.to_us:
                box = self._box(number)
                x = box.left() + (self._cursor_us - line.from_us) * scale
                painter.setPen(QPen(colour("attention"), 2))
                painter.drawLine(QPointF(x, box.top() - 6), QPointF(x, box.bottom() + 14))

    def _caption(self, painter: QPainter, box: QRectF, line: TapeLine) -> None:
        painter.setFont(text_font(SMALL_PX + 1))
        painter.setPen(colour("quiet"))
        area = QRectF(4, box.top() - 10, CAPTION_WIDTH - 12, MARK_HEIGHT + 18)
        flags = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft | Qt.TextFlag.TextWordWrap
        painter.drawText(area, int(flags), line.caption)

    def _shade_hovered(self, painter: QPainter, box: QRectF, line: TapeLine, scale: float) -> None:
        span = bit_span(self._frame.best if self._frame is not None else None, self._hovered)
        if span is None:
            return
        start, end = max(span[0], line.from_us), min(span[1], line.to_us)
        if end > start:
            left = box.left() + (start - line.from_us) * scale
            painter.fillRect(
                QRectF(left, box.top() - 6, (end - start) * scale, box.height() + 22), colour("attention", 0.2)
            )

    def _draw_calipers(self, painter: QPainter, scale: float) -> None:
        if self._frame is None:
            return
        jaws = [t for t in (self._calipers.one_us, self._calipers.other_us) if t is not None]
        start = self._frame.as_read.start_us
        painter.setPen(QPen(colour("attention"), 1.6))
        for at in jaws:
            for number, line in enumerate(self._lines):
                last = number == len(self._lines) - 1
                if line.from_us - 1e-6 <= at - start < line.to_us - 1e-6 or (last and abs(at - start - line.to_us) < 1):
                    box = self._box(number)
                    x = box.left() + (at - start - line.from_us) * scale
                    painter.drawLine(QPointF(x, box.top() - 9), QPointF(x, box.bottom() + 3))

    # Mouse and keys

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = self._time_at(event.position())
        bit = bit_at(self._frame.best, at) if self._frame is not None and at is not None else -1
        if bit != self._hovered:
            self._session.hovered_bit.emit(bit)

    def leaveEvent(self, event: object) -> None:
        self._session.hovered_bit.emit(-1)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        at = self._time_at(event.position())
        if self._frame is None or at is None or event.button() != Qt.MouseButton.LeftButton:
            return
        edges = self._frame.as_read.edge_times_us
        nearest = float(edges[np.argmin(np.abs(edges - self._frame.as_read.start_us - at))])
        if abs(nearest - self._frame.as_read.start_us - at) * self._scale() <= NEAR_PX:
            self._calipers.set_edge(nearest)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if self._frame is not None and event.key() in steps:
            extend = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
            self._calipers.step(self._frame.as_read.edge_times_us, steps[Qt.Key(event.key())], extend)
        elif event.key() == Qt.Key.Key_Escape:
            self._calipers.clear()
        else:
            super().keyPressEvent(event)
