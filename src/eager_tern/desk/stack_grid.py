"""Bits under bits: a row a press, a column a bit, and under each column how it behaves."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QAction,
    QKeyEvent,
    QKeySequence,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
)
from PyQt6.QtWidgets import QAbstractScrollArea, QLineEdit

from eager_tern.compare.comparison import Comparison, column_signs
from eager_tern.compare.labels import listed
from eager_tern.compare.stack import BitRows, Stack
from eager_tern.desk.qt import sure
from eager_tern.desk.theme import ASIDE_PX, SMALL_PX, colour, digit_font, text_font
from eager_tern.desk.ways import Piece, Range, Way, number_text, pieces
from eager_tern.desk.words import shortened
from eager_tern.texts import term, tr

Against = Literal["row above", "first row", "most common", "chosen row", "label"]
AGAINST: tuple[Against, ...] = (
    term("row above"), term("first row"), term("most common"), term("chosen row"), term("label"),
)  # fmt: skip

LEFT, NAMES, ROW, BIT, BYTE_GAP, SECTION_GAP = 18, 150, 19, 8.4, 7, 16
BYTE, FOLDED = 8, 18.0  # bits, and the width of a byte that is shown by its two digits
HEAD, FEET = 22, 40


class StackGrid(QAbstractScrollArea):
    """The rows that are in sight are painted, however many there are; names and feet stay where they are."""

    chosen = pyqtSignal(int, bool)  # a row, and whether it is added to those chosen
    pasted = pyqtSignal()
    filled_down = pyqtSignal()
    copied = pyqtSignal(str)  # as a table, CSV or NumPy
    labelled = pyqtSignal(int, str)  # a row, and the label typed
    range_chosen = pyqtSignal()  # or none any more

    def __init__(self) -> None:
        super().__init__()
        self.stack = Stack(np.zeros((0, 0), np.uint8))
        self.names: list[str] = []
        self.labels: list[str] = []
        self.against: Against = "row above"
        self.way = Way()
        self.own: dict[Range, Way] = {}  # columns that are shown in a way of their own
        self.range: Range | None = None  # columns that a way is chosen for; None: all of them
        self.overfull = False  # whether the frame is wider than the view
        self._dragged_from: int | None = None
        self._pieces: list[Piece] = []
        self.fold = True  # whether bytes that never change give way where the frame is wider than the view
        self.folded: list[int] = []  # where such bytes begin
        self._hidden: set[int] = set()  # the columns of those
        self.selected: set[int] = set()
        self.doubtful: set[int] = set()  # rows whose label or check is contradicted
        self.order: NDArray[np.intp] = np.empty(0, np.intp)
        self._feet: list[str] = []
        self._differs = self.stack.bits.astype(np.bool_)
        self._current = 0
        self._held = 0  # the row that others are held against
        self._expected: BitRows | None = None
        self.editor = QLineEdit(self.viewport())
        self.editor.setAccessibleName(tr("Label of the row"))
        self.editor.hide()
        self.editor.editingFinished.connect(self._edited)
        self.setFrameShape(QAbstractScrollArea.Shape.NoFrame)
        self.setAccessibleName(tr("Stack of bits"))
        self.setToolTip(
            tr(
                "Under each bit: · constant, a letter its field, ✓ a check, # a counter, ? unexplained.\n"
                "Bytes in grey are constant, in hex as sent. "
                "Drag over the column numbers to show some bits in another way."
            )
        )
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setContextMenuPolicy(Qt.ContextMenuPolicy.ActionsContextMenu)
        for words, keys, act in (
            # Ctrl+C is the window's, for what is in sight.
            (tr("Copy the rows"), "", lambda: self.copied.emit("table")),
            (tr("Copy as CSV"), "", lambda: self.copied.emit("CSV")),
            (tr("Copy as a NumPy array"), "", lambda: self.copied.emit("NumPy")),
            (tr("Paste labels"), "Ctrl+V", self.pasted.emit),
            (tr("Fill the first label down"), "Ctrl+D", self.filled_down.emit),
            (tr("Edit the label"), "", self.edit_label),
        ):
            action = QAction(words, self)
            action.setShortcut(QKeySequence(keys))
            action.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            action.triggered.connect(act)
            self.addAction(action)

    def show_stack(self, stack: Stack, names: list[str], labels: list[str], order: NDArray[np.intp]) -> None:
        """Another stack; ``names`` stand in front of the rows, ``labels`` are what was said of them."""
        if stack.columns != self.stack.columns:
            self.own, self.range = {}, None
            self.range_chosen.emit()
        self.stack, self.names, self.labels = stack, names, labels
        self._expected = None
        self.sort(order)

    def sort(self, order: NDArray[np.intp]) -> None:
        """The rows in another order."""
        self.order = order
        self._compare()

    def expect(self, bits: BitRows | None) -> None:
        """What each row should be by its label, if that is known; 2 where it is not."""
        self._expected = bits
        self._compare()

    def hold_against(self, against: Against) -> None:
        self.against = against
        self._held = int(self.order[self._current]) if self._current < len(self.order) else 0
        self._compare()

    def show_as(self, way: Way) -> None:
        """Show the chosen columns in a way; without a choice all of them, whatever way some had of their own."""
        if self.range is None:
            self.way, self.own = way, {}
        else:
            first, last = self.range
            self.own = {(a, b): its for (a, b), its in self.own.items() if b < first or a > last} | {self.range: way}
        self._measure()
        sure(self.viewport()).update()

    def fold_constant(self, on: bool) -> None:
        """Let constant bytes give way where there is no room for all, or show every bit."""
        self.fold = on
        self._measure()
        sure(self.viewport()).update()

    def select(self, rows: set[int]) -> None:
        """Show which rows are chosen."""
        self.selected = rows
        self._describe()
        sure(self.viewport()).update()

    def _describe(self) -> None:
        """What a screen reader says: how much there is, and the row that is chosen with what is inked in it."""
        rows, columns = self.stack.bits.shape
        words = tr("{rows} rows of {columns} bits", rows=rows, columns=columns)
        places = np.flatnonzero(np.isin(self.order, list(self.selected)))
        if places.size == 1:
            place = int(places[0])
            row, inked = int(self.order[place]), np.flatnonzero(self._differs[place]).tolist()
            differs = (
                tr("differs in bits {inked}", inked=listed([str(bit) for bit in inked]))
                if inked
                else tr("differs in no bit")
            )
            words += tr(
                "; row {place}, {name}: {differs}",
                place=place + 1,
                name=self.names[row] or tr("press {number}", number=row + 1),
                differs=differs,
            )
        self.setAccessibleDescription(words)

    def choose_range(self, columns: Range | None) -> None:
        """Choose the columns that the next way is for."""
        self.range = columns
        self.range_chosen.emit()
        sure(self.viewport()).update()

    def show_findings(self, found: Comparison | None) -> None:
        """What each column does, from a comparison or from the columns alone."""
        if found is not None:
            feet = column_signs(found)
        else:
            feet = ["·"] * self.stack.columns
            for column in self.stack.varying.tolist():
                feet[column] = "|"
        self._feet = feet
        self.doubtful = set()
        if found is not None:
            contradicting = [field.contradicting for field in found.fields]
            contradicting += [np.flatnonzero(~check.holds) for check in found.checks]
            self.doubtful = set(np.concatenate([np.empty(0, np.intp), *contradicting]).tolist())
        sure(self.viewport()).update()

    def _compare(self) -> None:
        bits = self.stack.bits[self.order]
        if not len(bits):
            self._differs = bits.astype(np.bool_)
        elif self.against == "row above":
            self._differs = np.vstack((np.zeros((1, bits.shape[1]), np.bool_), bits[1:] != bits[:-1]))
        elif self.against == "first row":
            self._differs = bits != bits[:1]
        elif self.against == "chosen row":
            self._differs = bits != self.stack.bits[min(self._held, len(bits) - 1)]
        elif self.against == "label":
            expected = self._expected[self.order] if self._expected is not None else bits
            self._differs = (bits != expected) & (expected < 2)
        else:
            self._differs = bits != (2 * bits.sum(axis=0) > len(bits)).astype(np.uint8)
        self._measure()
        sure(self.viewport()).update()

    def _x(self) -> NDArray[np.float64]:
        """Where each column begins, from the first."""
        columns = np.arange(self.stack.columns)
        starts = [start for start, _ in self.stack.section_bounds if start]
        gaps = sum(((columns >= start) * SECTION_GAP for start in starts), np.zeros(columns.size))
        inside = columns.copy()
        for start in starts:
            inside[start:] = columns[start:] - start
        before = np.cumsum(inside % self.way.group == 0) - 1
        widths = np.full(columns.size, BIT)
        for first in self.folded:
            widths[first : first + BYTE] = FOLDED / BYTE
        lefts: NDArray[np.float64] = np.cumsum(widths) - widths + before * BYTE_GAP + gaps
        return lefts

    def _constant_bytes(self) -> list[int]:
        """Where bytes begin that are the same in all rows, as long as they are shown as bits."""
        if self.way.shown != "bits" or self.own or self.range is not None:
            return []
        bounds = self.stack.section_bounds
        whole = [first for start, end in bounds for first in range(start, end - BYTE + 1, BYTE)]
        return [first for first in whole if not self.stack.varies[first : first + BYTE].any()]

    def _measure(self) -> None:
        view = sure(self.viewport()).size()
        self.folded = []
        self._at = self._x()
        self.overfull = self._at.size > 0 and float(self._at[-1]) + BIT + 16 > view.width() - LEFT - NAMES
        if self.fold and self.overfull:
            self.folded = self._constant_bytes()
            self._at = self._x()
        self._hidden = {column for first in self.folded for column in range(first, first + BYTE)}
        self._pieces = pieces(self.stack.section_bounds, self.way, self.own)
        wide = int(self._at[-1] + BIT + 16) if self._at.size else 0
        sure(self.horizontalScrollBar()).setRange(0, max(0, wide - (view.width() - LEFT - NAMES)))
        sure(self.horizontalScrollBar()).setPageStep(max(view.width() - LEFT - NAMES, 1))
        inner = view.height() - HEAD - FEET
        sure(self.verticalScrollBar()).setRange(0, max(0, len(self.order) * ROW - inner))
        sure(self.verticalScrollBar()).setPageStep(max(inner, 1))
        sure(self.verticalScrollBar()).setSingleStep(ROW)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._measure()

    def scrollContentsBy(self, dx: int, dy: int) -> None:
        self.editor.hide()
        sure(self.viewport()).update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not len(self.order):
            return
        painter = QPainter(self.viewport())
        width, height = sure(self.viewport()).width(), sure(self.viewport()).height()
        left, top = (
            LEFT + NAMES - sure(self.horizontalScrollBar()).value(),
            HEAD - sure(self.verticalScrollBar()).value(),
        )
        first = max(0, sure(self.verticalScrollBar()).value() // ROW)
        last = min(len(self.order), first + (height - HEAD - FEET) // ROW + 2)
        painter.setClipRect(QRectF(0, HEAD, width, height - HEAD - FEET))
        for n in range(first, last):
            self._paint_name(painter, n, top + n * ROW)
        painter.setClipRect(QRectF(LEFT + NAMES, HEAD, width, height - HEAD - FEET))
        for n in range(first, last):
            self._paint_row(painter, n, left, top + n * ROW)
        painter.setClipRect(QRectF(LEFT + NAMES, 0, width, height))
        self._paint_head(painter, left)
        self._paint_feet(painter, left, height - FEET)

    def _paint_name(self, painter: QPainter, n: int, y: float) -> None:
        row = int(self.order[n])
        if row in self.selected:
            painter.fillRect(QRectF(0, y, sure(self.viewport()).width(), ROW), colour("chosen"))
            painter.fillRect(QRectF(0, y, 4, ROW), colour("attention"))
        painter.setFont(text_font(ASIDE_PX))
        painter.setPen(colour("attention" if row in self.doubtful else "ink" if self.names[row] else "quiet"))
        name = self.names[row] or tr("press {number}", number=row + 1)
        if row in self.doubtful:
            name = f"? {name}"
        name = shortened(painter.fontMetrics(), name, NAMES - 12)
        painter.drawText(QRectF(LEFT, y, NAMES - 8, ROW), Qt.AlignmentFlag.AlignVCenter, name)

    def _paint_row(self, painter: QPainter, n: int, left: float, y: float) -> None:
        at = left + self._at
        seen = np.searchsorted(at, (LEFT + NAMES - BIT, sure(self.viewport()).width())).tolist()
        painter.setFont(digit_font(12))
        row, differs = self.stack.bits[self.order[n]], self._differs[n].tolist()
        painter.setPen(colour("fog"))
        for first in self.folded:
            text = f"{int(''.join(map(str, row[first : first + BYTE])), 2):02X}"
            cell = QRectF(left + float(self._at[first]), y + 1, FOLDED, ROW - 2)
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, text)
        for piece in self._pieces:
            if piece.way.shown == "bits":
                first, last = max(piece.first, seen[0]), min(piece.last, seen[1])
                for column in range(first, last + 1):
                    if column in self._hidden:
                        continue
                    self._paint_cell(painter, column, column, left, y, differs, str(row[column] ^ piece.way.inverted))
            else:
                text = number_text(row[piece.first : piece.last + 1], piece.way)
                self._paint_cell(painter, piece.first, piece.last, left, y, differs, text)

    def _paint_cell(
        self, painter: QPainter, first: int, last: int, left: float, y: float, differs: Sequence[bool], text: str
    ) -> None:
        x, end = left + float(self._at[first]), left + float(self._at[last]) + BIT
        if end < LEFT + NAMES or x > sure(self.viewport()).width():
            return
        cell = QRectF(x, y + 1, end - x, ROW - 2)
        inked = any(differs[first : last + 1])
        if inked:
            painter.fillRect(cell, colour("ink"))
        painter.setPen(colour("paper" if inked else "quiet"))
        painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, text)

    def _paint_head(self, painter: QPainter, left: float) -> None:
        for columns in {*self.own, *([self.range] if self.range else [])}:
            x, end = left + float(self._at[columns[0]]), left + float(self._at[columns[1]]) + BIT
            if columns == self.range:
                painter.fillRect(QRectF(x, 0, end - x, HEAD - 2), colour("chosen"))
            painter.fillRect(QRectF(x, HEAD - 3, end - x, 2), colour("attention" if columns == self.range else "quiet"))
        painter.setFont(digit_font(SMALL_PX))
        painter.setPen(colour("quiet"))
        for start, end in self.stack.section_bounds:
            for first in range(start, end, 8):
                if first in self.folded and first - BYTE in self.folded:
                    continue  # a number is wider than a folded byte
                painter.drawText(QPointF(left + float(self._at[first]), HEAD - 7), str(first))

    def _paint_feet(self, painter: QPainter, left: float, y: float) -> None:
        painter.setPen(QPen(colour("rule"), 1))
        painter.drawLine(QPointF(0, y), QPointF(sure(self.viewport()).width(), y))
        painter.setFont(digit_font(12))
        roles = {"·": "fog", "✓": "proven", "#": "ink", "?": "attention", "|": "ink"}
        for column, (at, foot) in enumerate(zip(self._at.tolist(), self._feet, strict=False)):
            if column in self._hidden:
                continue
            painter.setPen(colour(roles.get(foot, "proven")))
            painter.drawText(QRectF(left + at, y + 2, BIT, 18), Qt.AlignmentFlag.AlignCenter, foot)
            if self._differs[:, column].any() and self.against == "row above":
                every = self._period(column)
                if every:
                    painter.setPen(colour("quiet"))
                    painter.setFont(digit_font(SMALL_PX))
                    painter.drawText(QRectF(left + at - 4, y + 20, BIT + 8, 14), Qt.AlignmentFlag.AlignCenter, every)
                    painter.setFont(digit_font(12))

    def _period(self, column: int) -> str:
        """After how many rows a column turns, if it always does: a counter shows 1, 2, 4, 8 side by side."""
        at = np.flatnonzero(self._differs[:, column])
        steps = Counter(np.diff(at).tolist()).most_common(1)
        usual = steps[0] if steps else (0, 0)
        even = len(at) > 2 and usual[1] >= 0.85 * (len(at) - 1)
        return str(usual[0]) if even and usual[0] in (1, 2, 4, 8, 16) else ""

    def _row_at(self, y: float) -> int:
        n = int((y - HEAD + sure(self.verticalScrollBar()).value()) // ROW)
        return n if 0 <= n < len(self.order) and HEAD <= y < sure(self.viewport()).height() - FEET else -1

    def _column_at(self, x: float) -> int:
        """The column nearest to a place."""
        along = x - (LEFT + NAMES - sure(self.horizontalScrollBar()).value()) - BIT / 2
        return int(np.argmin(np.abs(self._at - along)))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._dragged_from is not None:
            ends = sorted((self._dragged_from, self._column_at(event.position().x())))
            self.choose_range((ends[0], ends[1]))

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        self._dragged_from = None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.position().y() < HEAD and event.position().x() > LEFT + NAMES and self.stack.columns:
            self._dragged_from = self._column_at(event.position().x())
            self.choose_range(None)
            return
        n = self._row_at(event.position().y())
        if n >= 0 and event.button() == Qt.MouseButton.LeftButton:
            self._current = n
            self.chosen.emit(int(self.order[n]), bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if event.position().x() < LEFT + NAMES and self._row_at(event.position().y()) >= 0:
            self.edit_label()

    def show_row(self, row: int) -> None:
        """Scroll so that a row stands in the middle."""
        bar = sure(self.verticalScrollBar())
        bar.setValue(row * ROW - (sure(self.viewport()).height() - HEAD - FEET) // 2)

    def edit_label(self) -> None:
        """Type the current row's label where it stands."""
        if self._current >= len(self.order):
            return
        y = HEAD + self._current * ROW - sure(self.verticalScrollBar()).value()
        self.editor.setGeometry(LEFT - 4, y - 3, sure(self.viewport()).width() - 2 * LEFT, ROW + 6)
        self.editor.setText(self.labels[int(self.order[self._current])])
        self.editor.show()
        self.editor.setFocus()
        self.editor.selectAll()

    def _edited(self) -> None:
        if self.editor.isVisible():
            self.editor.hide()
            self.setFocus()
            self.labelled.emit(int(self.order[self._current]), self.editor.text())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Escape and self.editor.isVisible():  # the label stays as it was
            self.editor.hide()
            self.setFocus()
            return
        if event.key() == Qt.Key.Key_Escape and self.range is not None:
            self.choose_range(None)
            return
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()), 0)
        if not step or not len(self.order):
            super().keyPressEvent(event)
            return
        self._current = min(max(self._current + step, 0), len(self.order) - 1)
        bar, y = sure(self.verticalScrollBar()), self._current * ROW
        bar.setValue(min(max(bar.value(), y + ROW - bar.pageStep()), y))
        self.chosen.emit(int(self.order[self._current]), False)
