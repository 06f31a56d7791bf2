"""Several tapes over one another from the first edge, and the bits of those that have as many."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from eager_tern.casebook.values import Caught
from eager_tern.desk.ink import draw_marks
from eager_tern.desk.theme import ASIDE_PX, SMALL_PX, colour, digit_font, text_font
from eager_tern.desk.words import shortened
from eager_tern.session.session import Session
from eager_tern.session.words import clock_time, duration
from eager_tern.signal.measure import best_shift_us, differing_stretches, edge_difference_us
from eager_tern.signal.values import Floats, Pulses
from eager_tern.texts import tr

LEFT, NAME_WIDTH, NOTE_WIDTH = 18, 118, 84
ROW, MARK_HEIGHT, TOP = 21, 13, 24
MOST_ROWS = 200
SAME_CLOCK = 0.2
REACH, SAME = 24, 0.5  # of the usual short pulse: how far a best fit is sought, and what edges may be apart
BIT_WIDTH, BYTE_GAP, BIT_ROW = 8.2, 6, 20


class OverlayRow(Struct, frozen=True):
    press: Caught
    pulses: Pulses
    note: str
    shift_us: float
    differs: Floats  # (n, 2): stretches of time, from the first edge of the first row


def overlay_rows(session: Session, presses: list[Caught], best_fit: bool = False) -> list[OverlayRow]:
    """The first frame of each press, held against the first one's."""
    rows: list[OverlayRow] = []
    unit: float | None = None
    for press in presses[:MOST_ROWS]:
        pulses = session.frame_pulses(press)
        best = session.frame(press).best
        if not rows:
            unit = best.clock.unit_us if best is not None else None
            rows.append(OverlayRow(press, pulses, tr("this one"), 0.0, np.empty((0, 2))))
            continue
        first = rows[0].pulses
        if unit and best is not None and abs(best.clock.unit_us / unit - 1) < SAME_CLOCK:
            # Handsets' clocks differ from press to press; what they send is compared on one.
            pulses = replace(pulses, durations_us=pulses.durations_us * (unit / best.clock.unit_us))
        short = float(np.quantile(first.durations_us, 0.25))
        shift = best_shift_us(first, pulses, REACH * short) if best_fit else 0.0
        differs = differing_stretches(first, pulses, shift, SAME * short)
        apart = edge_difference_us(first, pulses)
        if len(differs):
            note = tr("differs in {differs}", differs=len(differs))
        else:
            note = tr("other edges") if apart is None else f"± {duration(apart)}"
        rows.append(OverlayRow(press, pulses, note, shift, differs))
    return rows


class Overlay(QWidget):
    """A row a press. The first one is what the others are held against."""

    def __init__(self, session: Session, heading: str, with_bits: bool) -> None:
        super().__init__()
        self._session = session
        self._heading = heading
        self._with_bits = with_bits
        self._rows: list[OverlayRow] = []
        self._presses: list[Caught] = []
        self.best_fit = False
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(heading)

    def show_presses(self, presses: list[Caught]) -> None:
        self._presses = presses
        self._rows = overlay_rows(self._session, presses, self.best_fit)
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def align(self, best_fit: bool) -> None:
        """Lay the rows with their first edges together, or where they agree best."""
        self.best_fit = best_fit
        self.show_presses(self._presses)

    def sizeHint(self) -> QSize:
        rows = len(self._rows)
        bits = TOP + 22 + rows * BIT_ROW if self._with_bits else 0
        return QSize(600, TOP + rows * ROW + 8 + bits if rows else 0)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self._rows:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(text_font(ASIDE_PX))
        painter.setPen(colour("quiet"))
        painter.drawText(QPointF(LEFT, 14), self._heading + (tr(", where they agree best") if self.best_fit else ""))
        longest = max(row.pulses.duration_us for row in self._rows)
        box = QRectF(LEFT + NAME_WIDTH, TOP, self.width() - LEFT - NAME_WIDTH - NOTE_WIDTH, MARK_HEIGHT)
        for n, row in enumerate(self._rows):
            here = box.translated(0, n * ROW)
            edges = row.pulses.edge_times_us
            scale = here.width() / longest
            width, left = row.pulses.duration_us * scale, here.left() + row.shift_us * scale
            draw_marks(painter, QRectF(left, here.top(), width, here.height()), edges, float(edges[0]),
                       float(edges[-1]), colour("ink" if n == 0 else "fog"))  # fmt: skip
            for start, end in row.differs.tolist():
                stretch = QRectF(here.left() + start * scale, here.bottom() + 1, max((end - start) * scale, 2.0), 3)
                painter.fillRect(stretch, colour("attention"))
            painter.setFont(text_font(ASIDE_PX))
            painter.setPen(colour("ink" if n == 0 else "quiet"))
            name = row.press.label or clock_time(row.press.caught_at)
            name = shortened(painter.fontMetrics(), name, NAME_WIDTH - 10)
            painter.drawText(QPointF(LEFT, here.bottom() - 2), name)
            painter.drawText(QPointF(here.right() + 10, here.bottom() - 2), row.note)
        if self._with_bits:
            self._draw_bits(painter, TOP + len(self._rows) * ROW + 16)

    def _draw_bits(self, painter: QPainter, top: float) -> None:
        painter.setFont(text_font(ASIDE_PX))
        painter.setPen(colour("quiet"))
        painter.drawText(QPointF(LEFT, top + 14), tr("THEIR BITS, compared with the first row"))
        first = self._rows[0].press.reading.bits
        left, top = LEFT + NAME_WIDTH, top + TOP
        ruled = [
            left + i * BIT_WIDTH + i // 8 * BYTE_GAP for i in range(max(len(r.press.reading.bits) for r in self._rows))
        ]
        for n, row in enumerate(self._rows):
            bits, y = row.press.reading.bits, top + n * BIT_ROW
            painter.setFont(text_font(ASIDE_PX))
            painter.setPen(colour("quiet"))
            name = shortened(painter.fontMetrics(), row.press.label or clock_time(row.press.caught_at), NAME_WIDTH - 10)
            painter.drawText(QPointF(LEFT, y + 14), name)
            painter.setFont(digit_font(12))
            for i, bit in enumerate(bits):
                differs = n > 0 and (i >= len(first) or first[i] != bit)
                cell = QRectF(ruled[i], y + 1, BIT_WIDTH, BIT_ROW - 3)
                if differs:
                    painter.fillRect(cell, colour("ink"))
                painter.setPen(colour("paper" if differs else "ink" if n == 0 else "quiet"))
                painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, bit)
        same = all(len(r.press.reading.bits) == len(first) for r in self._rows)
        if not same:
            painter.setFont(text_font(SMALL_PX))
            painter.setPen(QPen(colour("uncertain")))
            painter.drawText(
                QPointF(left, top + len(self._rows) * BIT_ROW + 12), tr("not all have the same number of bits")
            )

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        n = int((event.position().y() - TOP) // ROW)
        if 0 <= n < len(self._rows):
            self._session.select((self._rows[n].press.id,))
