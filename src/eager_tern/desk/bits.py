"""The bits of one frame: digits in ruled cells, groups as braces with their name and value."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from eager_tern.desk.qt import clipboard
from eager_tern.desk.theme import SMALL_PX, colour, digit_font, text_font
from eager_tern.desk.words import shortened
from eager_tern.protocol.fields import marked
from eager_tern.protocol.layout import BitGroup, bit_groups
from eager_tern.protocol.reading import Reading
from eager_tern.session.session import Session
from eager_tern.texts import term, tr

CELL, CELL_HEIGHT, GROUP_GAP = 19, 27, 10
LEFT = 18
ROW_HEIGHT, INDEX_HEIGHT = 112, 16
BRACE_HEIGHT = 52  # a brace with its name and value
BASES = (term("hex"), term("decimal"), term("binary"))
MARKS = {True: tr("✓ holds"), False: tr("✗ does not hold")}


class Bits(QWidget):
    """Cells of the selected frame's best reading. A click copies a group's value as it is shown."""

    copied = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._reading: Reading | None = None
        self._groups: list[BitGroup] = []
        self._hovered = -1
        self.base = "hex"
        self.turned = False
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        session.hovered_bit.connect(self._hover)

    def show_reading(self, reading: Reading | None) -> None:
        """Another reading, or none."""
        self._reading = reading
        self._groups = bit_groups(reading) if reading is not None and reading.bits.size else []
        text = " ".join(f"{g.name or 'bits'} {self._value(g)}" for g in self._groups)
        self.setToolTip(tr("Click a value to copy it") if self._groups else "")
        self.setAccessibleName(tr("Bits of the selected frame: {text}", text=text))
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def show_base(self, base: str) -> None:
        """Values in hex, decimal or binary."""
        self.base = base
        self.update()

    def turn(self, turned: bool) -> None:
        """Values with each group's bits in the other order."""
        self.turned = turned
        self.update()

    def sizeHint(self) -> QSize:
        rows = self._cells()[1] if self._groups else 0
        return QSize(600, rows * ROW_HEIGHT)

    def resizeEvent(self, event: object) -> None:
        self.setFixedHeight(self.sizeHint().height())

    def _hover(self, bit: int) -> None:
        self._hovered = bit
        self.update()

    def _cells(self) -> tuple[list[QRectF], int]:
        """The cell of each bit, and how many rows they take: groups are not broken where a row can hold them."""
        x, row = float(LEFT), 0
        cells: list[QRectF] = []
        widest = max(self.width() - LEFT, 20 * CELL)
        for group in self._groups:
            if x > LEFT and x + self._group_width(group) > widest:
                x, row = float(LEFT), row + 1
            start = x
            for _ in range(group.width):
                if x + CELL > widest:
                    x, row = float(LEFT), row + 1
                    start = x
                cells.append(QRectF(x, row * ROW_HEIGHT + INDEX_HEIGHT, CELL, CELL_HEIGHT))
                x += CELL
            x = max(x, start + self._group_width(group)) + GROUP_GAP
        return cells, row + 1

    def _group_width(self, group: BitGroup) -> float:
        """A narrow group has room for its caption all the same."""
        return max(group.width * CELL, min(7.0 * max(len(group.name), len(self._value(group))), 90.0))

    def _value(self, group: BitGroup) -> str:
        if group.holds is not None:
            return MARKS[group.holds]
        value = group.value
        if group.role == "bits" and self._reading is not None:
            value = int("".join(map(str, self._reading.bits[group.first : group.last + 1].tolist())), 2)
        elif value is None:
            return "part"
        if not isinstance(value, int) or value < 0:
            return marked(value)
        if self.turned:
            value = int(f"{value:0{group.width}b}"[::-1], 2)
        match self.base:
            case "decimal":
                return str(value)
            case "binary":
                return f"{value:0{group.width}b}"
            case _:
                return marked(value, group.width)

    # Painting

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._reading is None or not self._groups:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        cells, _ = self._cells()
        for n, cell in enumerate(cells):
            lit = n == self._hovered
            painter.setPen(QPen(colour("attention" if lit else "rule"), 1.6 if lit else 1))
            painter.setBrush(colour("attention", 0.2) if lit else colour("card"))
            painter.drawRect(cell)
            painter.setFont(digit_font(14))
            painter.setPen(colour("ink"))
            painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, str(int(self._reading.bits[n])))
            if n % 4 == 0:
                painter.setFont(digit_font(SMALL_PX))
                painter.setPen(colour("quiet"))
                painter.drawText(QRectF(cell.left() - 4, cell.top() - 15, cell.width() + 8, 13),
                                 Qt.AlignmentFlag.AlignHCenter, str(n))  # fmt: skip
        for group in self._groups:
            self._brace(painter, cells, group)

    def _brace(self, painter: QPainter, cells: list[QRectF], group: BitGroup) -> None:
        role = (
            "fog"
            if group.role == "bits"
            else "ink"
            if group.role == "field"
            else "proven"
            if group.holds
            else "attention"
        )
        painter.setPen(QPen(colour(role), 1.3))
        left, right = cells[group.first].left() + 1, cells[group.last].right() - 1
        y = cells[group.last].bottom() + 5
        middle = (left + right) / 2
        point = 4 if right - left > 30 else 0  # a narrow brace has no room for its tip
        path = QPainterPath(QPointF(left, y))
        for x, dy in (
            (left + 5, 6),
            (middle - point, 6),
            (middle, 6 + point),
            (middle + point, 6),
            (right - 5, 6),
            (right, 0),
        ):
            path.lineTo(QPointF(x, y + dy))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawPath(path)
        painter.setPen(colour("quiet" if group.role == "bits" else role))
        width = max(self._group_width(group), right - left)
        wide = group.width * CELL >= self._group_width(group)
        area = QRectF(middle - width / 2 - 4 if wide else left, y + 12, width + 8, 16)
        flags = Qt.AlignmentFlag.AlignHCenter if wide else Qt.AlignmentFlag.AlignLeft
        painter.setFont(text_font(SMALL_PX + 1))
        name = shortened(painter.fontMetrics(), group.name, area.width())
        painter.drawText(area, flags, name)
        painter.setFont(digit_font(13))
        painter.drawText(area.translated(0, 17).adjusted(0, 0, 0, 3), flags, self._value(group))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        cells, _ = self._cells() if self._groups else ([], 0)
        bit = next((n for n, cell in enumerate(cells) if cell.contains(event.position())), -1)
        if bit != self._hovered:
            self._session.hovered_bit.emit(bit)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        group = self._group_at(event.position()) if event.button() == Qt.MouseButton.LeftButton else None
        if group is not None and group.holds is None:
            value = self._value(group)
            clipboard().setText(value)
            self.copied.emit(
                tr(
                    "copied {name}: {value}",
                    name=group.name or tr("bits {first}–{last}", first=group.first, last=group.last),
                    value=value,
                )
            )

    def _group_at(self, point: QPointF) -> BitGroup | None:
        """The group whose cells, brace or value are there."""
        cells, _ = self._cells() if self._groups else ([], 0)
        for group in self._groups:
            for n in range(group.first, group.last + 1):
                if cells[n].adjusted(0, 0, 0, BRACE_HEIGHT).contains(point):
                    return group
        return None

    def leaveEvent(self, event: object) -> None:
        self._session.hovered_bit.emit(-1)
