"""The Send leaf: a routine, what each of its lines sends, and the tape and the echo of the line at the cursor."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, QRect, QRectF, QSize, QStringListModel, Qt, QTimer
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QResizeEvent, QTextCursor
from PyQt6.QtWidgets import (
    QCompleter,
    QHBoxLayout,
    QMenu,
    QPlainTextEdit,
    QPushButton,
    QSizePolicy,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from eager_tern.desk.face import Face
from eager_tern.desk.ink import draw_marks
from eager_tern.desk.links import link
from eager_tern.desk.qt import add_action, menu_of, sure
from eager_tern.desk.ruler import draw_leans
from eager_tern.desk.theme import ASIDE_PX, colour, text_font
from eager_tern.desk.words import Words, shortened, tool_tip
from eager_tern.sending.wording import echo_in_words
from eager_tern.session.sending import LineSaid, Sending
from eager_tern.session.session import Session
from eager_tern.session.sweeping import Sweeping
from eager_tern.signal.values import Floats, Pulses
from eager_tern.texts import tr

PAUSE_MS = 300
PREVIEW_WIDTH = 300
ROW, MARK_HEIGHT, LEFT, MOST_ROWS = 46, 20, 2, 4
EMPTY = tr(
    "A step a line, as on a shot list:\n\n"
    "Power\npause 2 s\nLouder x 5\ntemperature 21, mode dry\ntemperature 16..30 every 1.5 s"
)
KEYWORDS = ("pause 1 s", "x 3", "every 1.5 s")


class RoutineEditor(QPlainTextEdit):
    """Text with what each line sends at its right, and words offered that the gadget knows."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[LineSaid] = []
        self.going = -1
        self.setAccessibleName(tr("Routine"))
        self.setPlaceholderText(EMPTY)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.WidgetWidth)
        self.setViewportMargins(0, 0, PREVIEW_WIDTH, 0)
        self._preview = _Preview(self)
        self.words = QStringListModel(self)
        self.completer = QCompleter(self.words, self)
        self.completer.setWidget(self)
        self.completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.completer.activated[str].connect(self._complete)
        self.updateRequest.connect(lambda *_: self._preview.update())

    def show_lines(self, lines: list[LineSaid]) -> None:
        self.lines = lines
        self._preview.update()

    def show_going(self, line: int) -> None:
        self.going = line
        self._preview.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        area = self.contentsRect()
        self._preview.setGeometry(QRect(area.right() - PREVIEW_WIDTH, area.top(), PREVIEW_WIDTH, area.height()))

    def rows(self) -> list[tuple[int, QRectF]]:
        """The numbers (from 1) and places of the lines in sight."""
        found = []
        block = self.firstVisibleBlock()
        offset = self.contentOffset()
        while block.isValid():
            box = self.blockBoundingGeometry(block).translated(offset)
            if box.top() > self.height():
                break
            found.append((block.blockNumber() + 1, box))
            block = block.next()
        return found

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        popup = sure(self.completer.popup())
        if popup.isVisible() and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Tab):
            event.ignore()  # it is the list's
            return
        super().keyPressEvent(event)
        begun = self._begun()
        if not event.text().strip() or not begun:
            popup.hide()
            return
        self.completer.setCompletionPrefix(begun)
        if self.completer.completionCount() == 0 or self.completer.currentCompletion() == begun:
            popup.hide()
            return
        place = self.cursorRect()
        place.setWidth(220)
        self.completer.complete(place)

    def _begun(self) -> str:
        """What is typed of a word: from the line's start, or behind its last comma."""
        cursor = self.textCursor()
        before = cursor.block().text()[: cursor.positionInBlock()]
        return before.rsplit(",", 1)[-1].lstrip()

    def _complete(self, words: str) -> None:
        cursor = self.textCursor()
        cursor.movePosition(QTextCursor.MoveOperation.Left, QTextCursor.MoveMode.KeepAnchor, len(self._begun()))
        cursor.insertText(words)
        self.setTextCursor(cursor)


class _Preview(QWidget):
    """What each line sends, beside it."""

    def __init__(self, editor: RoutineEditor) -> None:
        super().__init__(editor)
        self._editor = editor

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(text_font(ASIDE_PX))
        painter.setPen(QPen(colour("rule"), 1))
        painter.drawLine(QPointF(0.5, 0), QPointF(0.5, self.height()))
        by_number = {line.number: line for line in self._editor.lines}
        for number, box in self._editor.rows():
            line = by_number.get(number)
            if line is None or not line.words:
                continue
            area = QRectF(18, box.top() + 1, self.width() - 24, box.height())
            painter.setPen(colour("attention" if line.wrong else "quiet"))
            mark = "✗ " if line.wrong else ""
            words = shortened(painter.fontMetrics(), mark + line.words, area.width())
            painter.drawText(area, Qt.AlignmentFlag.AlignTop, words)
            if number == self._editor.going:
                middle = box.top() + 10
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(colour("attention"))
                painter.drawPolygon(QPointF(5, middle - 5), QPointF(13, middle), QPointF(5, middle + 5))


class SendTape(QWidget):
    """A frame as it will go out, in as many lines as it needs, with the leans of its echo under it."""

    def __init__(self) -> None:
        super().__init__()
        self._pulses: Pulses | None = None
        self._leans: Floats = np.empty(0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Tape of the step at the cursor"))
        self.setFixedHeight(ROW)

    def show_pulses(self, pulses: Pulses | None, leans_us: Floats) -> None:
        self._pulses, self._leans = pulses, leans_us
        self.setFixedHeight(self._rows() * ROW + 8)
        self.update()

    def _rows(self) -> int:
        return min(MOST_ROWS, 1 + self._pulses.durations_us.size // 80) if self._pulses is not None else 1

    def paintEvent(self, event: QPaintEvent | None) -> None:
        pulses = self._pulses
        if pulses is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        edges = np.concatenate(([0.0], np.cumsum(pulses.durations_us)))
        each = pulses.duration_us / self._rows()
        unit = float(pulses.durations_us.min())
        for row in range(self._rows()):
            box = QRectF(LEFT, 8 + row * ROW, self.width() - 2 * LEFT, MARK_HEIGHT)
            begin, end = row * each, (row + 1) * each
            draw_marks(painter, box, edges, begin, end, colour("ink"))
            painter.setPen(QPen(colour("ink"), 1.2))
            painter.drawLine(box.bottomLeft(), box.bottomRight())
            if self._leans.size == edges.size:
                draw_leans(painter, box, begin, end, edges, self._leans, unit)


class SendLeaf(QWidget):
    """Routine, preview, target, and what came back."""

    def __init__(self, session: Session, sending: Sending, sweeping: Sweeping) -> None:
        super().__init__()
        self._session, self._sending, self._sweeping = session, sending, sweeping
        self.target = QToolButton()
        self.target.setObjectName("sheets")
        self.target.setAccessibleName(tr("Target"))
        self.target.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.target.setMenu(QMenu(self.target))
        menu_of(self.target).aboutToShow.connect(self._fill)
        self.step = QPushButton(tr("Send this line"))
        self.step.clicked.connect(self.send_line)
        self.whole = QPushButton(tr("Send all"))
        self.whole.clicked.connect(self.send_all)
        self.sweep = QPushButton(tr("Sweep"))
        self.sweep.setToolTip(tr("Say every press of the routine until the gadget reacts"))
        self.sweep.clicked.connect(sweeping.start)
        self.stop = QPushButton(tr("Stop"))
        self.stop.setToolTip(tr("Escape: between two frames"))
        self.stop.clicked.connect(sending.stop)
        self.how = link("", tr("Made from the sheet, or as recorded"), self._turn_how)
        self.editor = RoutineEditor()
        self.tape = SendTape()
        self.said = Words()
        self.said.setWordWrap(True)
        self.obeyed = Words()
        self.obeyed.setWordWrap(True)
        self.obeyed.setObjectName("aside")
        self.sought = Words()
        self.sought.setWordWrap(True)
        self.reacted = QPushButton(tr("It reacted"))
        self.reacted.setToolTip(tr("Return"))
        self.reacted.clicked.connect(sweeping.it_reacted)
        self.nothing = QPushButton(tr("Nothing happened"))
        self.nothing.clicked.connect(sweeping.nothing_happened)
        self.give_up = link(tr("end the sweep"), tr("End the sweep"), sweeping.end)
        self.face = Face()
        self.face.setMaximumWidth(330)
        self._build()
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(PAUSE_MS)
        self._pause.timeout.connect(self.read)
        self._typed = False  # whether the text is another than the one that is kept
        self.editor.textChanged.connect(self._type)
        self.editor.cursorPositionChanged.connect(self._show_line)
        session.opened.connect(self._opened)
        session.presses_changed.connect(self._pause.start)
        session.press_changed.when(self._pause.start)
        for event in (sending.changed, sweeping.changed):
            event.connect(self._refresh)
        sending.stepped.connect(self._stepped)
        sending.said.when(self._show_line)
        sending.reacted.when(self._show_face)
        self._opened()
        self._refresh()

    def _build(self) -> None:
        row = QHBoxLayout()
        row.setSpacing(10)
        for widget in (self.target, self.step, self.whole, self.sweep, self.stop):
            row.addWidget(widget)
        row.addStretch(1)
        heading = Words(tr("AS IT GOES OUT"))
        heading.setObjectName("heading")
        above = QHBoxLayout()
        above.addWidget(heading)
        above.addStretch(1)
        above.addWidget(self.how)
        seeking = QHBoxLayout()
        seeking.setSpacing(10)
        seeking.addWidget(self.sought, 1)
        for widget in (self.reacted, self.nothing, self.give_up):
            seeking.addWidget(widget)
        told = QVBoxLayout()
        told.addWidget(self.said)
        told.addWidget(self.obeyed)
        told.addStretch(1)
        below = QHBoxLayout()
        below.setSpacing(16)
        below.addLayout(told, 1)
        below.addWidget(self.face)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 14, 14, 14)
        layout.setSpacing(10)
        layout.addLayout(row)
        layout.addWidget(self.editor, 1)
        layout.addLayout(seeking)
        layout.addLayout(above)
        layout.addWidget(self.tape)
        layout.addLayout(below)

    # What is shown

    def _opened(self) -> None:
        self._typed = False
        self._show_kept()
        self.read()

    def _show_kept(self) -> None:
        """The text as it is kept."""
        self.editor.setPlainText(self._sending.text)
        self._typed = False

    def _type(self) -> None:
        self._typed = True
        self._pause.start()

    def showEvent(self, event: object) -> None:
        self.read()
        self._refresh()

    def read(self) -> None:
        """What each line sends, as it is typed; the text is kept. Nothing is looked at while nobody sees it."""
        self._pause.stop()
        if self._session.gadget is None:
            return
        text = self.editor.toPlainText()
        if self._typed:
            self._typed = False
            self._sending.write(text)
        if not self.isVisible():
            return
        handset = self._sending.handset()
        fields = [f"{name} " for name in (handset.sheet.fields_by_name if handset.sheet is not None else ())]
        self.editor.words.setStringList([*handset.key_names, *fields, *KEYWORDS])
        self.editor.show_lines(self._sending.lines(text, handset))
        self._show_line()

    def _line(self) -> LineSaid | None:
        number = self.editor.textCursor().blockNumber() + 1
        return next((line for line in self.editor.lines if line.number == number), None)

    def _show_line(self) -> None:
        """The tape, the echo and the answer of the line at the cursor."""
        line = self._line()
        said = self._sending.last_said(line.number) if line is not None else None
        saying = said.sent.saying if said is not None else None
        if saying is None and line is not None:
            saying = next((each for each in line.sayings if each is not None), None)
        leans = said.echo.leans_us if said is not None and said.echo is not None else np.empty(0)
        self.tape.show_pulses(saying.pulses if saying is not None else None, leans)
        words = line.words if line is not None and line.wrong else ""
        if said is not None:
            words = (
                echo_in_words(said.echo) if said.echo is not None else tr("Sent. Listen to a source to hear its echo.")
            )
        elif saying is not None:
            words = tr("{what}: not sent yet", what=saying.what)
        self.said.setText(words or tr("The step at the cursor is shown here."))
        told = ""
        if said is not None and said.sent.obeyed is not None:
            told = tr("Obeyed: ") + ", ".join(f"{name} {value}" for name, value in said.sent.obeyed.items())
        elif said is not None and said.sent.why:
            told = tr("Heard, and not obeyed: {why}", why=said.sent.why)
        self.obeyed.setText(told)

    def _stepped(self, line: int) -> None:
        self.editor.show_going(line)

    def _show_face(self) -> None:
        """The gadget that is spoken to, where its face does not stand beside the handset already."""
        self.face.show_gadget(None if self._sending.face_in_sight else self._sending.simulated)

    def _refresh(self) -> None:
        sending = self._sending
        if not self.isVisible():
            return
        name = next((t.description for t in sending.targets if t.id == sending.target_id), sending.target_id)
        self.target.setText(tr("To: {name} ▾", name=name or tr("nothing yet")))
        self.target.setToolTip(tool_tip(sending.target_id))
        for button in (self.step, self.whole, self.sweep):
            button.setEnabled(not sending.going)
        self.stop.setEnabled(sending.going)
        self.how.setText(tr("as recorded") if sending.as_recorded else tr("made from the sheet where that is the same"))
        sweep = self._sweeping.sweep
        self.sought.setText(self._sweeping.in_words())
        for widget in (self.sought, self.give_up):
            widget.setVisible(sweep is not None)
        seeking = sweep is not None and sweep.phase in ("sweeping", "narrowing")
        self.reacted.setVisible(seeking)
        self.nothing.setVisible(sweep is not None and sweep.phase == "narrowing")
        self.sweep.setText(tr("Sweep on") if sweep is not None and sweep.phase != "over" else tr("Sweep"))
        if not self._typed and self.editor.toPlainText() != sending.text:
            self._show_kept()  # a change was taken back, or somebody else wrote it
            self.read()
        self._show_face()
        self._show_line()

    def _fill(self) -> None:
        menu = menu_of(self.target)
        menu.clear()
        for target in self._sending.targets:
            add_action(menu, target.description).triggered.connect(partial(self._sending.choose, target.id))
        if not self._sending.targets:
            add_action(menu, tr("Nothing that could send was found"), enabled=False)
        menu.addSeparator()
        add_action(menu, tr("Look again")).triggered.connect(self._sending.look_for_targets)

    # What is done

    def send_line(self) -> None:
        """Say the line at the cursor."""
        self.read()
        line = self._line()
        self._sending.say_lines([line] if line is not None else [])

    def send_all(self) -> None:
        """Say the whole routine."""
        self.read()
        self._sending.say_lines(self.editor.lines)

    def _turn_how(self) -> None:
        self._sending.as_recorded = not self._sending.as_recorded
        self._refresh()
        self.read()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Return during a sweep: it reacted."""
        assert event is not None
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.reacted.isVisible():
            self._sweeping.it_reacted()
        else:
            super().keyPressEvent(event)

    def sizeHint(self) -> QSize:
        return QSize(640, 500)
