"""The Shots leaf: what to press next, the plan, and how far it has been carried out."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import (
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from eager_tern.casebook.shots import Shots, next_shot, parse_plan, shots_csv, shots_from_csv
from eager_tern.desk.links import link
from eager_tern.desk.theme import colour, text_font
from eager_tern.desk.words import Words, shortened
from eager_tern.errors import InputError
from eager_tern.replacing import write_text
from eager_tern.session.session import Session
from eager_tern.session.shot_plan import ShotPlan
from eager_tern.texts import plural, tr

ROW, LEFT, COLUMN = 22, 8, 280
EXAMPLE = "Power\ntemperature 16..30\nmode cool dry heat fan"
TABLES = tr("CSV table") + " (*.csv)"


class ShotRows(QWidget):
    """The shots in columns: a filled square has its press, a crossed one was skipped, the next one is marked."""

    def __init__(self, session: Session, plan: ShotPlan) -> None:
        super().__init__()
        self._session = session
        self._plan = plan
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Planned presses"))

    def _columns(self) -> int:
        return max(1, (self.width() - LEFT) // COLUMN)

    def sizeHint(self) -> QSize:
        return QSize(COLUMN, -(-len(self._plan.shots()) // self._columns()) * ROW + 8)

    def fit(self) -> None:
        self.setFixedHeight(self.sizeHint().height())
        self.update()

    def _box(self, n: int) -> QRectF:
        rows = -(-len(self._plan.shots()) // self._columns())
        return QRectF(LEFT + n // max(rows, 1) * COLUMN, n % max(rows, 1) * ROW, COLUMN - 12, ROW)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        assert event is not None
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shots = self._plan.shots()
        coming = next_shot(shots)
        for n, shot in enumerate(shots):
            box = self._box(n)
            if not box.intersects(QRectF(event.rect())):
                continue
            if n == coming:
                painter.fillRect(box.adjusted(-6, 1, 0, -1), colour("chosen"))
                painter.fillRect(QRectF(box.left() - 8, box.top() + 1, 4, ROW - 2), colour("attention"))
            mark = QRectF(box.left() + 2, box.center().y() - 5, 10, 10)
            painter.setPen(colour("ink" if shot.press_id is not None or n == coming else "fog"))
            if shot.press_id is not None:
                painter.fillRect(mark, colour("proven"))
            else:
                painter.drawRect(mark)
            if shot.skipped:
                painter.drawLine(mark.topLeft(), mark.bottomRight())
            painter.setFont(text_font(bold=n == coming))
            painter.setPen(colour("ink" if shot.open else "quiet"))
            words = shot.text + (tr(" · skipped") if shot.skipped else "")
            words = shortened(painter.fontMetrics(), words, int(box.width()) - 24)
            painter.drawText(box.adjusted(20, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, words)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """A shot that has its press selects it."""
        assert event is not None
        for n, shot in enumerate(self._plan.shots()):
            if self._box(n).contains(event.position()) and shot.press_id is not None:
                self._session.select((shot.press_id,))


class ShotsLeaf(QScrollArea):
    """Plan above, progress below."""

    troubled = pyqtSignal(str)

    def __init__(self, session: Session, plan: ShotPlan) -> None:
        super().__init__()
        self._session = session
        self._plan = plan
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self._told = Words()
        self._told.setObjectName("heading")
        self._next = Words()
        self._next.setObjectName("shot")
        self._next.setWordWrap(True)
        self.plan = QPlainTextEdit()
        self.plan.setPlaceholderText(EXAMPLE)
        self.plan.setAccessibleName(tr("Plan of presses"))
        self.plan.setFixedHeight(112)
        self._makes = Words()
        self._makes.setObjectName("aside")
        self.add = QPushButton(tr("Add to the list"))
        self.add.clicked.connect(self._add)
        self.rows = ShotRows(session, plan)
        self.skip = link(tr("skip"), tr("Skip the next shot"), plan.skip)
        self.repeat = link(tr("repeat the last"), tr("Plan the last shot once more"), plan.repeat)
        self.back = link(tr("step back"), tr("Take the last shot back"), plan.step_back)
        self.imports = link(tr("import …"), tr("Import a shot list"), self._import)
        self.exports = link(tr("export …"), tr("Export the shot list"), self._export)
        self.clear = link(
            tr("clear the list"), tr("Clear the shot list"), lambda: plan.put((), words="clear shot list")
        )
        inner = QWidget()
        layout = QVBoxLayout(inner)
        layout.setContentsMargins(26, 16, 20, 16)
        layout.setSpacing(8)
        layout.addWidget(self._told)
        layout.addWidget(self._next)
        layout.addLayout(_in_row(self.skip, self.repeat, self.back))
        layout.addSpacing(10)
        heading = Words(tr("PLAN · a key's name, or a thing and its values, a line each; commas combine"))
        heading.setObjectName("heading")
        layout.addWidget(heading)
        layout.addWidget(self.plan)
        layout.addLayout(_in_row(self.add, self._makes))
        layout.addSpacing(10)
        layout.addLayout(_in_row(self.imports, self.exports, self.clear))
        layout.addWidget(self.rows)
        layout.addStretch(1)
        self.setWidget(inner)
        self.plan.textChanged.connect(self._count)
        for signal in (plan.changed, session.presses_changed):
            signal.connect(self.refresh)
        self.refresh()
        self._count()

    def refresh(self) -> None:
        """Show the list as it is now."""
        shots = self._plan.shots()
        coming = next_shot(shots)
        done = sum(not shot.open for shot in shots)
        if coming is not None:
            self._told.setText(tr("PRESS NEXT · {done} of {shots} taken", done=done, shots=len(shots)))
            self._next.setText(shots[coming].spoken)
        else:
            self._told.setText(tr("ALL {shots} TAKEN", shots=len(shots)) if shots else tr("NO SHOTS PLANNED"))
            self._next.setText(tr("Done.") if shots else tr("What will you press?"))
        self.skip.setEnabled(coming is not None)
        self.back.setEnabled(done > 0)
        self.repeat.setEnabled(any(shot.press_id is not None for shot in shots))
        for button in (self.exports, self.clear):
            button.setVisible(bool(shots))
        self.rows.fit()

    def resizeEvent(self, event: object) -> None:
        super().resizeEvent(event)  # type: ignore[arg-type]
        self.rows.fit()

    def _planned(self) -> Shots | None:
        try:
            return parse_plan(self.plan.toPlainText())
        except InputError as error:
            self._makes.setText(f"{error.place}: {error.reason}")
            return None

    def _count(self) -> None:
        shots = self._planned()
        self.add.setEnabled(bool(shots))
        if shots is not None:
            self._makes.setText(tr("makes {presses}", presses=plural(len(shots), "press", "presses")) if shots else "")

    def _add(self) -> None:
        if shots := self._planned():
            self._plan.put((*self._plan.shots(), *shots))
            self.plan.clear()

    def _import(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, tr("Import a shot list"), "", TABLES)
        if name:
            self.import_file(Path(name))

    def import_file(self, path: Path) -> None:
        """Add the shots of a table."""
        try:
            shots = shots_from_csv(path.read_text("utf-8"), path)
        except (OSError, UnicodeDecodeError):
            self.troubled.emit(tr("{path}: cannot be read", path=path))
        except InputError as error:
            self.troubled.emit(str(error))
        else:
            self._plan.put((*self._plan.shots(), *shots))

    def _export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, tr("Export the shot list"), "shots.csv", TABLES)
        if name:
            self.export_file(Path(name))

    def export_file(self, path: Path) -> None:
        try:
            write_text(path, shots_csv(self._plan.shots()))
        except InputError as error:
            self.troubled.emit(str(error))


def _in_row(*widgets: QWidget) -> QHBoxLayout:
    row = QHBoxLayout()
    row.setSpacing(18)
    for widget in widgets:
        row.addWidget(widget)
    row.addStretch(1)
    return row
