"""How a take was read, and what can be overruled of it: polarity, short pulses, gap, threshold."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from eager_tern.casebook.values import Caught, Take
from eager_tern.desk.links import link
from eager_tern.desk.qt import sure
from eager_tern.desk.theme import SMALL_PX, colour, text_font
from eager_tern.desk.words import Words
from eager_tern.errors import InputError
from eager_tern.formats import audio
from eager_tern.session.session import Session
from eager_tern.session.words import frequency
from eager_tern.signal.by_hand import FOUND_OUT, ByHand
from eager_tern.signal.values import Levels, Polarity
from eager_tern.texts import tr

SIDE, HEIGHT, BAND = 18, 74, 5
SHOWN_BEFORE = 0.02  # of the frame
MOST_US = 2e6  # of samples that are looked at


class AnalogLine(QWidget):
    """The samples behind the selected press as a thin line, with the threshold as a band that can be dragged."""

    dropped = pyqtSignal(float)  # the level it was dragged to

    def __init__(self) -> None:
        super().__init__()
        self._values: np.ndarray = np.empty(0)
        self._level: float | None = None
        self._by_hand = False
        self._grabbed = False
        self.setFixedHeight(HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Samples of the recording, with the threshold"))
        self.setToolTip(tr("Drag the band to set the threshold by hand"))

    def show_samples(self, values: np.ndarray, level: float | None) -> None:
        """Samples, and the threshold set by hand; None where it follows the signal."""
        self._values = values
        self._by_hand = level is not None
        middle = float(values.min() + values.max()) / 2 if values.size else 0.0
        self._level = middle if level is None else level
        self.setVisible(values.size > 1)
        self.update()

    def _scale(self) -> tuple[float, float]:
        """Value at the bottom, and pixels for a unit of value."""
        low, high = float(self._values.min()), float(self._values.max())
        return low, (self.height() - 32) / max(high - low, 1e-9)

    def _y(self, value: float) -> float:
        low, scale = self._scale()
        return self.height() - 9 - (value - low) * scale

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._values.size < 2 or self._level is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(SIDE, 0, self.width() - 2 * SIDE, self.height())
        y = self._y(self._level)
        role = "attention" if self._by_hand or self._grabbed else "uncertain"
        painter.fillRect(QRectF(box.left(), y - BAND, box.width(), 2 * BAND), colour(role, 0.25))
        painter.setPen(QPen(colour("ink"), 1.0))
        columns = max(int(box.width()), 2)
        if self._values.size > 2 * columns:  # the range of each column
            cut = self._values[: self._values.size // columns * columns].reshape(columns, -1)
            points = np.column_stack((cut.min(axis=1), cut.max(axis=1))).ravel()
        else:
            points = self._values
        xs = box.left() + np.linspace(0, box.width(), points.size)
        painter.drawPolyline(QPolygonF([QPointF(x, self._y(float(v))) for x, v in zip(xs, points, strict=True)]))
        painter.setFont(text_font(SMALL_PX))
        by_hand = self._by_hand or self._grabbed
        told = tr("threshold {level:+.3f}, by hand", level=self._level) if by_hand else tr("threshold follows the line")
        room = painter.fontMetrics().horizontalAdvance(told) + 10
        label = QRectF(box.right() - room, 0, room, 13)
        painter.fillRect(label, colour("paper"))
        painter.setPen(colour("quiet"))
        painter.drawText(label, Qt.AlignmentFlag.AlignCenter, told)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self._grabbed = self._level is not None and abs(event.position().y() - self._y(self._level)) < 3 * BAND

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._grabbed:
            low, scale = self._scale()
            self._level = low + (self.height() - 9 - event.position().y()) / scale
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._grabbed and self._level is not None:
            self._grabbed = False
            self.dropped.emit(self._level)


class AsRecorded(QWidget):
    """A row of what was found about the recording, each of it open to the user."""

    threshold_asked = pyqtSignal(int, float)  # take, level

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._take: Take | None = None
        self.line = AnalogLine()
        self.line.dropped.connect(self._dropped)
        self._told = Words()
        self._told.setObjectName("aside")
        self.polarity = link("", tr("Turn marks and spaces round"), self._turn)
        self.shortest = _number("µs", tr("any"), 0, 5_000, tr("Shortest pulse"))
        self.shortest.editingFinished.connect(self._typed)
        self.gap = _number("ms", tr("found"), 0, 1_000, tr("Shortest gap between frames"))
        self.gap.editingFinished.connect(self._typed)
        self.back = link(tr("back to what was found"), tr("Back to what was found"), lambda: self._overrule(FOUND_OUT))
        self._told.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        column = QVBoxLayout(self)
        column.setContentsMargins(18, 0, 14, 0)
        column.setSpacing(3)
        above, row = QHBoxLayout(), QHBoxLayout()
        above.addWidget(self._told, 1)
        above.addWidget(self.back)
        row.setSpacing(8)
        for widget in (self.polarity, _aside(tr("· shortest pulse")), self.shortest, _aside(tr("· gap")), self.gap):
            row.addWidget(widget)
        row.addStretch(1)
        column.addLayout(above)
        column.addLayout(row)

    def show_press(self, press: Caught | None) -> None:
        """The take that the press is in."""
        self._take = self._session.take(press) if press is not None else None
        take = self._take
        if press is None or take is None:
            self.line.hide()
            return
        by_hand = take.by_hand
        carrier = tr(", carrier {frequency}", frequency=frequency(take.carrier_hz)) if take.carrier_hz else ""
        self._told.setText(tr("RECORDED from {source}{carrier}", source=take.source, carrier=carrier))
        polarity = by_hand.polarity or take.polarity or "mark-high"
        told = {"mark-low": tr("mark is low"), "mark-high": tr("mark is high")}[polarity]
        self.polarity.setText(told + (tr(", by hand") if by_hand.polarity else ""))
        self.shortest.setValue(by_hand.shortest_us or 0)
        self.gap.setValue((by_hand.gap_us or 0) / 1e3)
        self.back.setVisible(by_hand != FOUND_OUT)
        self._show_line(press, take)

    def _show_line(self, press: Caught, take: Take) -> None:
        """The samples, if they are still where they were read from."""
        frame = self._session.frame_pulses(press)
        start, length = frame.start_us, min(frame.duration_us, MOST_US)
        values: Levels = np.empty(0, np.float32)
        if take.format == "audio" and take.path and Path(take.path).is_file():
            try:
                values, _, _ = audio.samples_between(
                    Path(take.path),
                    take.channel or 0,
                    start - SHOWN_BEFORE * length,
                    start + (1 + SHOWN_BEFORE) * length,
                )
            except InputError:
                values = np.empty(0, np.float32)
        self.line.show_samples(values, take.by_hand.level)

    def _overrule(self, by_hand: ByHand) -> None:
        if self._take is not None:
            self._session.overrule(self._take.id, by_hand)

    def _turn(self) -> None:
        take = self._take
        if take is None:
            return
        now = take.by_hand.polarity or take.polarity or "mark-high"
        other: Polarity = "mark-high" if now == "mark-low" else "mark-low"
        found = take.polarity or "mark-high"
        self._overrule(replace(take.by_hand, polarity=None if other == found else other))

    def _typed(self) -> None:
        if self._take is not None:
            shortest, gap = self.shortest.value() or None, self.gap.value() * 1e3 or None
            self._overrule(replace(self._take.by_hand, shortest_us=shortest, gap_us=gap))

    def _dropped(self, level: float) -> None:
        if self._take is not None:
            self.threshold_asked.emit(self._take.id, level)


def _number(unit: str, none: str, least: float, most: float, name: str) -> QDoubleSpinBox:
    box = QDoubleSpinBox()
    box.setRange(least, most)
    box.setDecimals(0 if unit == "µs" else 1)
    box.setSuffix(f" {unit}")
    box.setSpecialValueText(none)
    box.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
    box.setKeyboardTracking(False)
    box.setAccessibleName(name)
    sure(box.lineEdit()).setAccessibleName(name)
    box.setFixedWidth(74 if unit == "µs" else 72)
    return box


def _aside(text: str) -> QLabel:
    label = Words(text)
    label.setObjectName("aside")
    return label
