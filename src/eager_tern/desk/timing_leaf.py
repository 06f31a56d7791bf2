"""The Timing leaf: how long marks and spaces are, and how the edges drift along the frame."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QShowEvent
from PyQt6.QtWidgets import QDoubleSpinBox, QFrame, QHBoxLayout, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from eager_tern.desk.line_choices import USUAL_TOLERANCE, LineChoices
from eager_tern.desk.links import link
from eager_tern.desk.theme import SMALL_PX, colour, text_font
from eager_tern.desk.words import Words
from eager_tern.linecode.clusters import find_clusters
from eager_tern.linecode.drift import edge_drift, lengths_in_units
from eager_tern.linecode.values import Clock
from eager_tern.protocol.describing import Assumed, assumed_in
from eager_tern.session.session import SAID_BY_HAND, Session
from eager_tern.session.words import duration
from eager_tern.signal.values import Floats
from eager_tern.texts import plural, tr

LOWEST = 150  # pixels that a picture can be read in
MOST_FRAMES = 60
LEFT, RIGHT = 64, 18
NEAR_PX = 7
MOVED = 0.02  # of the unit: less is the width of a finger
RULED = (1, 2, 3, 4, 6, 8, 16)  # units at which the ruler has a line


class FrameLengths(Struct, frozen=True):
    """A frame's durations, what they are in units, and the clock found."""

    durations_us: Floats
    units: Floats
    clock: Clock


class Lengths(QWidget):
    """Marks above, spaces below one logarithmic ruler; its lines can be dragged."""

    dragged = pyqtSignal(bool, float)  # whether the marks' line, and where one unit is now, µs
    tolerance_dragged = pyqtSignal(float)  # as a part
    let_go = pyqtSignal()  # behind a drag

    def __init__(self) -> None:
        super().__init__()
        self._frames: list[FrameLengths] = []
        self.unit, self.excess, self.tolerance = 0.0, 0.0, 0.0
        self._held: tuple[bool, int] | None = None
        self._holds_tolerance = False
        self.setMinimumHeight(LOWEST)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Lengths of marks and spaces"))
        self.setToolTip(
            tr("Drag a line of the ruler to change the unit and the mark excess, an end of the bar for the tolerance")
        )

    def show_frames(self, frames: list[FrameLengths], unit: float, excess: float) -> None:
        self._frames, self.unit, self.excess = frames, unit, excess
        self.update()

    def show_tolerance(self, part: float) -> None:
        self.tolerance = part
        self.update()

    def _range(self) -> tuple[float, float]:
        everything = np.concatenate([f.durations_us for f in self._frames])
        return float(np.log(everything.min() * 0.7)), float(np.log(min(everything.max(), 60_000) * 1.3))

    def x_of(self, us: float) -> float:
        low, high = self._range()
        return LEFT + (self.width() - LEFT - RIGHT) * (float(np.log(max(us, 1.0))) - low) / (high - low)

    def _us_at(self, x: float) -> float:
        low, high = self._range()
        return float(np.exp(low + (x - LEFT) / (self.width() - LEFT - RIGHT) * (high - low)))

    def _lines(self) -> list[tuple[bool, int, float]]:
        """Whether of the marks, how many units, and where, µs."""
        return [
            (marks, k, k * self.unit + (self.excess if marks else -self.excess))
            for marks in (True, False)
            for k in RULED
        ]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self._frames:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = self.height() / 2
        high = np.exp(self._range()[1])
        painter.setFont(text_font(SMALL_PX))
        for marks, k, us in self._lines():
            if not 0 < us < high:
                continue
            x = self.x_of(us)
            painter.setPen(QPen(colour("attention", 0.8), 1, Qt.PenStyle.DashLine))
            top, bottom = (16.0, middle - 22) if marks else (middle + 4, self.height() - 36.0)
            painter.drawLine(QPointF(x, top), QPointF(x, bottom))
            if marks:
                painter.setPen(colour("attention"))
                painter.drawText(QRectF(x - 20, 0, 40, 14), Qt.AlignmentFlag.AlignHCenter, f"{k}")
        for first, name, role in ((0, tr("marks"), "ink"), (1, tr("spaces"), "proven")):
            values = np.concatenate([f.durations_us[first::2] for f in self._frames])
            top = 22.0 if first == 0 else middle + 8
            bottom = middle - 22 if first == 0 else self.height() - 36.0
            painter.setFont(text_font(SMALL_PX))
            painter.setPen(colour("quiet"))
            painter.drawText(QPointF(8, (top + bottom) / 2 + 4), name)
            painter.setPen(QPen(colour(role, 0.35), 1.2))
            for value in values[values < high]:
                x = self.x_of(float(value))
                painter.drawLine(QPointF(x, top), QPointF(x, bottom))
            self._paint_clusters(painter, values[values < high], bottom + 2)
        painter.setPen(QPen(colour("quiet"), 1))
        painter.drawLine(QPointF(LEFT, middle), QPointF(self.width() - RIGHT, middle))
        low, high = self._tolerance_ends()
        painter.fillRect(QRectF(low, middle - 2, high - low, 4), colour("attention", 0.45))
        for x in (low, high):
            painter.fillRect(QRectF(x - 1.5, middle - 6, 3, 12), colour("attention"))

    def _tolerance_ends(self) -> tuple[float, float]:
        """The bar on the ruler between the shortest and the longest unit that a clock may have."""
        return self.x_of(self.unit * (1 - self.tolerance)), self.x_of(self.unit * (1 + self.tolerance))

    def _at_tolerance(self, point: QPointF) -> bool:
        near = min(abs(x - point.x()) for x in self._tolerance_ends()) if self._frames and self.unit > 0 else NEAR_PX
        return near < NEAR_PX and abs(point.y() - self.height() / 2) < NEAR_PX

    def _paint_clusters(self, painter: QPainter, values: Floats, y: float) -> None:
        painter.setFont(text_font(SMALL_PX))
        painter.setPen(colour("ink"))
        end = -1.0
        for cluster in find_clusters(values):
            text = f"{duration(cluster.centre_us)} ({cluster.count})"
            width = painter.fontMetrics().horizontalAdvance(text)
            x = min(max(self.x_of(cluster.centre_us) - width / 2, LEFT), self.width() - RIGHT - width)
            if x > end + 8:
                painter.drawText(QRectF(x, y, width + 2, 15), Qt.AlignmentFlag.AlignLeft, text)
                end = x + width

    def _line_at(self, point: QPointF) -> tuple[bool, int] | None:
        if not self._frames or self.unit <= 0:
            return None
        marks = point.y() < self.height() / 2
        near = [(abs(self.x_of(us) - point.x()), m, k) for m, k, us in self._lines() if m == marks and us > 0]
        distance, line, k = min(near)
        return (line, k) if distance < NEAR_PX else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self._holds_tolerance = self._at_tolerance(event.position())
        self._held = None if self._holds_tolerance else self._line_at(event.position())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._holds_tolerance:
            self.tolerance_dragged.emit(abs(self._us_at(event.position().x()) / self.unit - 1))
            return
        if self._held is None:
            over = self._at_tolerance(event.position()) or self._line_at(event.position()) is not None
            self.setCursor(Qt.CursorShape.SizeHorCursor if over else Qt.CursorShape.ArrowCursor)
            return
        marks, k = self._held
        excess = self.excess if marks else -self.excess
        # The line of k units is taken along; one unit of that kind is then so long.
        self.dragged.emit(marks, (self._us_at(event.position().x()) - excess) / k + excess)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        if self._held is not None or self._holds_tolerance:
            self._held, self._holds_tolerance = None, False
            self.let_go.emit()


class Drift(QWidget):
    """Each edge's distance from the ruler, along the frame; all selected frames over one another."""

    def __init__(self) -> None:
        super().__init__()
        self._rows: list[tuple[Floats, Floats]] = []  # times and drifts of the edges, µs
        self.setMinimumHeight(LOWEST)
        self.setAccessibleName(tr("Drift of the edges along the frame"))

    def show_frames(self, frames: list[FrameLengths], unit: float, excess: float) -> None:
        self._rows = []
        for frame in frames:
            late = edge_drift(frame.durations_us, frame.units, unit, excess)
            # The first edge has jitter of its own.
            self._rows.append((np.concatenate(([0.0], np.cumsum(frame.durations_us))), late - np.median(late)))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self._rows:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(text_font(SMALL_PX))
        box = QRectF(LEFT, 8, self.width() - LEFT - RIGHT, self.height() - 30)
        end = max(float(times[-1]) for times, _ in self._rows)
        most = max(max(float(np.abs(late).max()) for _, late in self._rows), 50.0) * 1.1
        step = 10 ** np.floor(np.log10(most)) * (5 if most / 10 ** np.floor(np.log10(most)) > 5 else 1)
        for value in np.arange(-np.floor(most / step), np.floor(most / step) + 1) * step:
            y = box.center().y() - value / most * box.height() / 2
            painter.setPen(QPen(colour("rule" if value else "quiet"), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(colour("quiet"))
            text = QRectF(0, y - 8, LEFT - 8, 16)
            painter.drawText(
                text, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{value:+.0f} µs" if value else "0"
            )
        for number, (times, late) in enumerate(self._rows):
            painter.setPen(QPen(colour("attention" if number == 0 else "proven", 0.9 if number == 0 else 0.35), 3))
            for time, drift in zip(times, late, strict=True):
                x = box.left() + float(time) / end * box.width()
                painter.drawPoint(QPointF(x, box.center().y() - float(drift) / most * box.height() / 2))
        painter.setPen(colour("quiet"))
        foot = QRectF(box.left(), box.bottom() + 2, box.width(), 16)
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, "0")
        painter.drawText(foot, Qt.AlignmentFlag.AlignRight, duration(end))


class TimingLeaf(QScrollArea):
    """Measures all selected frames with one ruler."""

    sheet_asked = pyqtSignal(float)  # the unit that a sheet is to be begun with, µs

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._frames: list[FrameLengths] = []
        self.lengths = Lengths()
        self.drift = Drift()
        self.told = Words()
        self.told.setWordWrap(True)
        self.unit = _number(tr("Unit"), 10, 20_000)
        self.excess = _number(tr("Mark excess"), -5_000, 5_000)
        self.by_hand = LineChoices()
        self.back = link(tr("back to what was found"), tr("Back to what was found"), self._take_back)
        self.begin = link(tr("begin a sheet"), tr("Begin a sheet with this unit"), self._begin)
        row = QHBoxLayout()
        row.setSpacing(10)
        clock = (Words(tr("clock")), self.by_hand.tolerance)
        for widget in (Words(tr("unit")), self.unit, Words(tr("mark excess")), self.excess, *clock):
            row.addWidget(widget)
        row.addStretch(1)
        links = QHBoxLayout()
        links.setSpacing(16)
        for each in (self.begin, self.back):
            links.addWidget(each)
        links.addStretch(1)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        page = QWidget()
        self.setWidget(page)
        layout = QVBoxLayout(page)
        layout.setContentsMargins(18, 14, 14, 14)
        layout.setSpacing(8)
        pictures: tuple[tuple[str, QWidget], ...] = (
            (
                tr(
                    "LENGTHS · marks above, spaces below; dashed lines are whole units, the bar what a clock may be off"
                ),
                self.lengths,
            ),
            (tr("DRIFT · how late each edge is, along the frame"), self.drift),
        )
        for text, picture in pictures:
            heading = Words(text)
            heading.setObjectName("heading")
            heading.setWordWrap(True)
            layout.addWidget(heading)
            layout.addWidget(picture, 1 if picture is self.drift else 0)
        layout.addLayout(row)
        layout.addWidget(self.by_hand)
        layout.addLayout(links)
        layout.addWidget(self.told)
        self.lengths.dragged.connect(self._dragged)
        self.lengths.tolerance_dragged.connect(self._tolerance_dragged)
        self.lengths.let_go.connect(self._ruler_said)
        self.by_hand.said.connect(session.say_line)
        for box in (self.unit, self.excess):
            box.editingFinished.connect(self._ruler_said)
            box.valueChanged.connect(self._measure)
        for signal in (session.opened, session.selection_changed, session.presses_changed):
            signal.connect(self.refresh)
        self.refresh()

    def showEvent(self, event: QShowEvent | None) -> None:
        self.refresh()

    def refresh(self) -> None:
        """Look at what is selected, with the unit and excess that were found."""
        if not self.isVisible():
            return
        self._frames = []
        for press in self._session.selected_presses()[:MOST_FRAMES]:
            frame = self._session.frame(press)
            if frame.best is not None and frame.best.bits.size:
                units = lengths_in_units(frame.best.expected_us, frame.best.clock)
                self._frames.append(FrameLengths(frame.as_read.durations_us, units, frame.best.clock))
        has = bool(self._frames)
        for widget in (self.unit, self.excess, self.back, self.begin, self.by_hand, self.by_hand.tolerance):
            widget.setEnabled(has)
        if has:
            self.by_hand.show_line(self._assumed())
            self.lengths.show_tolerance(self.by_hand.tolerance.value() / 100)
        self._set(*self._found())

    def _assumed(self) -> Assumed:
        """What the first selected frame that says anything is taken for."""
        best = next(f.best for p in self._session.selected_presses() if (f := self._session.frame(p)).best is not None)
        return assumed_in(best)

    def _ruler_said(self) -> None:
        """Unit, excess or tolerance were set by hand: what they read follows."""
        if not self._frames:
            return
        assumed, (unit, excess) = self._assumed(), self._found()
        said = replace(assumed, tolerance=self.by_hand.tolerance.value() / 100)
        if abs(self.unit.value() - unit) > MOVED * unit:
            said = replace(said, unit_us=self.unit.value())
        if abs(self.excess.value() - excess) > MOVED * unit:
            said = replace(said, excess_us=self.excess.value())
        if said != replace(assumed, tolerance=assumed.tolerance or USUAL_TOLERANCE):
            self._session.say_line(said)

    def _tolerance_dragged(self, part: float) -> None:
        self.by_hand.show_tolerance(part)
        self.lengths.show_tolerance(self.by_hand.tolerance.value() / 100)

    def _take_back(self) -> None:
        self._session.say_line(None)
        self.refresh()

    def _found(self) -> tuple[float, float]:
        if not self._frames:
            return 0.0, 0.0
        clocks = [frame.clock for frame in self._frames]
        return float(np.median([c.unit_us for c in clocks])), float(np.median([c.excess_us for c in clocks]))

    def _set(self, unit: float, excess: float) -> None:
        for box, value in ((self.unit, unit), (self.excess, excess)):
            box.blockSignals(True)
            box.setValue(value)
            box.blockSignals(False)
        self._measure()

    def _dragged(self, marks: bool, us: float) -> None:
        """One unit of the marks, or of the spaces, is now so long; the other stays."""
        unit, excess = self.unit.value(), self.excess.value()
        mark, space = (us, unit - excess) if marks else (unit + excess, us)
        self._set((mark + space) / 2, (mark - space) / 2)

    def _measure(self) -> None:
        unit, excess = self.unit.value(), self.excess.value()
        self.lengths.show_frames(self._frames, unit, excess)
        self.drift.show_frames(self._frames, unit, excess)
        found = self._found()
        moved = abs(unit - found[0]) > 0.06 or abs(excess - found[1]) > 0.06
        self.back.setVisible(moved or SAID_BY_HAND in self._session.own_sheets())
        self.told.setText(self._words(unit, excess))

    def _words(self, unit: float, excess: float) -> str:
        if not self._frames:
            return tr("Select frames to measure them.")
        late = np.concatenate([edge_drift(f.durations_us, f.units, unit, excess) for f in self._frames])
        clocks = [frame.clock for frame in self._frames]
        text = tr(
            "{frames}: edges within ± {spread:.0f} µs of the ruler",
            frames=plural(len(self._frames), "frame", "frames"),
            spread=np.std(late),
        )
        if len(clocks) > 1:
            units, excesses = [c.unit_us for c in clocks], [c.excess_us for c in clocks]
            text += tr("; their own units {least:.1f} to {most:.1f} µs, ", least=min(units), most=max(units))
            text += tr("mark excess {least:.0f} to {most:.0f} µs", least=min(excesses), most=max(excesses))
        return text + "."

    def _begin(self) -> None:
        self.sheet_asked.emit(self.unit.value())


def _number(name: str, least: float, most: float) -> QDoubleSpinBox:
    box = QDoubleSpinBox()
    box.setRange(least, most)
    box.setDecimals(1)
    box.setSuffix(" µs")
    box.setButtonSymbols(QDoubleSpinBox.ButtonSymbols.NoButtons)
    box.setKeyboardTracking(False)
    box.setAccessibleName(name)
    box.setFixedWidth(92)
    return box
