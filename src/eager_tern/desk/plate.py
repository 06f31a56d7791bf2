"""The handset plate: the gadget's keys as on the real handset."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QBrush, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QPushButton, QScrollArea, QVBoxLayout, QWidget

from eager_tern.casebook.changes import PlaceKey
from eager_tern.casebook.keys import PLATE_COLUMNS, Key, ghost_values, ghosts, summary
from eager_tern.casebook.values import KeyPlace
from eager_tern.desk.theme import ASIDE_PX, colour, text_font
from eager_tern.desk.words import Words, shortened
from eager_tern.session.sending import Sending
from eager_tern.session.session import Session
from eager_tern.session.words import short_code
from eager_tern.texts import plural, tr

KEY_WIDTH, KEY_HEIGHT, GAP, MARGIN = 148, 62, 12, 22
DRAG_PX = 6
LEFT = 18
MOST_GHOSTS = 12


class Plate(QWidget):
    """Keys on a grid. A click selects a key's presses, or gives the selected press the name of a key not caught yet."""

    def __init__(self, session: Session, sending: Sending) -> None:
        super().__init__()
        self._session = session
        self._sending = sending
        self.says = False  # whether a key is sent while it is held down, rather than chosen
        self.keys: list[Key] = []
        self.ghosts: list[str] = []
        self._grabbed: tuple[str, QPointF] | None = None
        self._drag: QPointF | None = None
        self._current = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName(tr("Handset plate"))
        for event in (session.opened, session.presses_changed, session.selection_changed):
            event.connect(self.refresh)
        session.press_changed.when(self.refresh)
        session.presses_added.when(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        self.keys = self._session.key_table()
        self.ghosts = ghosts(self.keys)[:MOST_GHOSTS]
        self._current = min(self._current, max(len(self.keys) - 1, 0))
        caught = sum(key.best is not None for key in self.keys)
        keys = [
            tr("{key} caught", key=key.name) if key.best is not None else tr("{key} missing", key=key.name)
            for key in self.keys
        ]
        self.setAccessibleDescription(
            tr(
                "{caught} of {keys} caught: {names}",
                caught=caught,
                keys=plural(len(self.keys), "key", "keys"),
                names=", ".join(keys),
            )
        )
        self.setMinimumSize(self.sizeHint())
        self.update()

    def sizeHint(self) -> QSize:
        rows = self._rows() + -(-len(self.ghosts) // PLATE_COLUMNS)
        columns = max([PLATE_COLUMNS, *(key.place.col + 1 for key in self.keys)])
        return QSize(2 * MARGIN + columns * (KEY_WIDTH + GAP), 2 * MARGIN + rows * (KEY_HEIGHT + GAP))

    def _rows(self) -> int:
        """Of the keys; ghosts stand below."""
        return max((key.place.row for key in self.keys), default=2) + 1

    def ghost_box(self, number: int) -> QRectF:
        place = KeyPlace("", self._rows() + number // PLATE_COLUMNS, number % PLATE_COLUMNS)
        return self.box_of(place).translated(0, GAP)

    def box_of(self, place: KeyPlace) -> QRectF:
        return QRectF(
            MARGIN + place.col * (KEY_WIDTH + GAP), MARGIN + place.row * (KEY_HEIGHT + GAP), KEY_WIDTH, KEY_HEIGHT
        )

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        if self.keys:
            columns = max(key.place.col for key in self.keys) + 1
            rows = self._rows()
            body = QRectF(6, 6, MARGIN * 2 + columns * (KEY_WIDTH + GAP) - GAP - 12,
                          MARGIN * 2 + rows * (KEY_HEIGHT + GAP) - GAP - 12)  # fmt: skip
            painter.setPen(QPen(colour("rule"), 1.4))
            painter.setBrush(colour("margin"))
            painter.drawRoundedRect(body, 16, 16)
        chosen = set(self._session.selected)
        for n, key in enumerate(self.keys):
            box = self.box_of(key.place)
            if self._drag is not None and self._grabbed is not None and key.name == self._grabbed[0]:
                box.translate(self._drag - self._grabbed[1])
            self._paint_key(painter, box, key, any(press.id in chosen for press in key.presses))
            if self.hasFocus() and n == self._current:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(colour("attention"), 1, Qt.PenStyle.DotLine))
                painter.drawRoundedRect(box.adjusted(-3, -3, 3, 3), 9, 9)
        for n, code in enumerate(self.ghosts):
            self._paint_ghost(painter, self.ghost_box(n), code)

    def _paint_key(self, painter: QPainter, box: QRectF, key: Key, chosen: bool) -> None:
        best = key.best
        doubtful = key.contradicts or bool(key.same_as)
        if best is None:
            painter.setPen(QPen(colour("fog"), 1.4, Qt.PenStyle.DashLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
        else:
            painter.setPen(QPen(colour("attention" if chosen else "ink"), 2 if chosen else 1.2))
            painter.setBrush(colour("chosen" if chosen else "card"))
        painter.drawRoundedRect(box, 7, 7)
        inner = box.adjusted(11, 8, -8, -7)
        painter.setFont(text_font(bold=best is not None))
        painter.setPen(colour("ink" if best is not None else "quiet"))
        name = shortened(painter.fontMetrics(), key.name, inner.width())
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, name)
        painter.setFont(text_font(ASIDE_PX))
        painter.setPen(colour("ink" if best is not None else "quiet"))
        code = short_code(best) if best is not None else tr("not caught")
        painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, code)
        count = f"× {len(key.presses)}" if len(key.presses) > 1 else ""
        if doubtful:
            painter.setPen(colour("uncertain"))
            count = tr("same as another") if key.same_as else tr("differs")
            painter.setFont(text_font(10))
        painter.drawText(inner, Qt.AlignmentFlag.AlignBottom | Qt.AlignmentFlag.AlignRight, count)

    def _paint_ghost(self, painter: QPainter, box: QRectF, code: str) -> None:
        """A code that no key sends: outlined in dots, with nothing that looks like a key's cap."""
        painter.setPen(QPen(colour("fog"), 1.2, Qt.PenStyle.DotLine))
        painter.setBrush(QBrush(colour("fog", 0.25), Qt.BrushStyle.BDiagPattern))
        painter.drawRoundedRect(box, 7, 7)
        inner = box.adjusted(11, 8, -8, -7)
        painter.setPen(colour("quiet"))
        painter.setFont(text_font(ASIDE_PX))
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, tr("no key sends it"))
        painter.setFont(text_font(ASIDE_PX))
        painter.drawText(inner, Qt.AlignmentFlag.AlignBottom, code)

    # Mouse and keys

    def _key_at(self, point: QPointF) -> Key | None:
        return next((key for key in self.keys if self.box_of(key.place).contains(point)), None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        key = self._key_at(event.position())
        if self.says and event.button() == Qt.MouseButton.LeftButton:
            self._say(key, event.position())
        elif key is not None and event.button() == Qt.MouseButton.LeftButton:
            self._grabbed, self._drag = (key.name, event.position()), None
            self._current = self.keys.index(key)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        if self._grabbed is None:
            return
        if self._drag is not None or (event.position() - self._grabbed[1]).manhattanLength() > DRAG_PX:
            self._drag = event.position()
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self._sending.let_go()
        grabbed, dragged = self._grabbed, self._drag is not None
        self._grabbed = self._drag = None
        if grabbed is None:
            return
        if dragged:
            self._drop(grabbed[0], event.position())
        else:
            self.activate(grabbed[0])
        self.update()

    def _say(self, key: Key | None, point: QPointF) -> None:
        """Send a key for as long as it is held, or a code that no key sends."""
        if key is not None:
            self._current = self.keys.index(key)
            self._sending.hold_key(key.name)
            self.update()
            return
        code = next((code for n, code in enumerate(self.ghosts) if self.ghost_box(n).contains(point)), None)
        if code is not None:
            self._sending.say_fields(code, ghost_values(self.keys, code))

    def _drop(self, name: str, point: QPointF) -> None:
        col = max(0, int((point.x() - MARGIN) // (KEY_WIDTH + GAP)))
        row = max(0, int((point.y() - MARGIN) // (KEY_HEIGHT + GAP)))
        free = all((key.place.row, key.place.col) != (row, col) for key in self.keys)
        if free and self._session.gadget is not None:
            self._session.change(PlaceKey(self._session.gadget.id, name, KeyPlace(name, row, col)))

    def activate(self, name: str) -> None:
        """Select a key's presses; a key without any gets the selected press, if that has no name yet."""
        key = next(key for key in self.keys if key.name == name)
        if key.presses:
            self._session.select(tuple(press.id for press in key.presses))
            return
        selected = self._session.selected_presses()
        if len(selected) == 1 and not selected[0].label and not selected[0].stray:
            self._session.label(selected[0].id, name)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        moves = {Qt.Key.Key_Left: -1, Qt.Key.Key_Up: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Down: 1}
        if self.keys and event.key() in moves:
            self._current = (self._current + moves[Qt.Key(event.key())]) % len(self.keys)
            self.update()
        elif self.keys and self.says and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._sending.say_key(self.keys[self._current].name)
        elif self.keys and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.activate(self.keys[self._current].name)
        elif self.keys and event.key() == Qt.Key.Key_Delete and self._session.gadget is not None:
            key = self.keys[self._current]
            if not key.presses:
                self._session.change(PlaceKey(self._session.gadget.id, key.name, None))
        else:
            super().keyPressEvent(event)


class HandsetLeaf(QWidget):
    """The plate with what can be done to it."""

    home_asked = pyqtSignal()

    def __init__(self, session: Session, sending: Sending) -> None:
        super().__init__()
        self._session = session
        self.plate = Plate(session, sending)
        self.says = QPushButton(tr("Keys send"))
        self.says.setCheckable(True)
        self.says.setToolTip(tr("A click sends a key, for as long as it is held, to the target of the Send leaf"))
        self.says.toggled.connect(self._turn)
        area = QScrollArea()
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setWidget(self.plate)
        area.setWidgetResizable(True)
        self._words = Words()
        self._words.setWordWrap(True)
        self._summary = Words()
        self._summary.setObjectName("aside")
        self._summary.setWordWrap(True)
        self.new_key = QLineEdit()
        self.new_key.setPlaceholderText(tr("add a key by its name"))
        self.new_key.setAccessibleName(tr("Name of a key to add to the plate"))
        self.new_key.setFixedWidth(210)
        self.new_key.returnPressed.connect(self._add)
        self.home = QPushButton(tr("Take home …"))
        self.home.clicked.connect(self.home_asked)
        bar = QHBoxLayout()
        bar.setContentsMargins(LEFT, 6, 14, 12)
        bar.addWidget(self.new_key)
        bar.addStretch(1)
        bar.addWidget(self.says)
        bar.addWidget(self.home)
        top = QVBoxLayout()
        top.setContentsMargins(LEFT, 14, 14, 0)
        top.addWidget(self._words)
        top.addWidget(self._summary)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(top)
        middle = QVBoxLayout()
        middle.setContentsMargins(LEFT - 6, 0, 0, 0)
        middle.addWidget(area)
        layout.addLayout(middle, 1)
        layout.addLayout(bar)
        for event in (session.opened, session.presses_changed, session.selection_changed):
            event.connect(self._describe)
        session.press_changed.when(self._describe)
        session.presses_added.when(self._describe)

    def _turn(self, on: bool) -> None:
        self.plate.says = on
        self._describe()

    def showEvent(self, event: object) -> None:
        self._describe()

    def _describe(self) -> None:
        if not self.isVisible():
            return
        keys = self.plate.keys
        caught = sum(key.best is not None for key in keys)
        self.home.setEnabled(caught > 0)
        selected = self._session.selected_presses()
        if not keys:
            words = tr("No keys yet. Label a press in the log, or add a key below, and it takes its place here.")
        elif self.plate.says:
            words = tr(
                "Click a key to send it; hold it for its repeats. Dotted codes are sent, too: no key sends them."
            )
        elif len(selected) == 1 and not selected[0].label and not selected[0].stray and caught < len(keys):
            words = tr("{caught} of {keys} caught.", caught=caught, keys=plural(len(keys), "key", "keys"))
            words += tr(" The selected press has no label: click the key that sent it.")
        else:
            words = tr(
                "{caught} of {keys} caught. Drag keys to where they are on the real handset.",
                caught=caught,
                keys=plural(len(keys), "key", "keys"),
            )
        self._words.setText(words)
        self._summary.setText(" ".join(summary(keys)))

    def _add(self) -> None:
        name = self.new_key.text().strip()
        gadget = self._session.gadget
        if not name or gadget is None or any(key.name == name for key in self.plate.keys):
            return
        taken = {(key.place.row, key.place.col) for key in self.plate.keys}
        free = next((r, c) for r in range(1000) for c in range(PLATE_COLUMNS) if (r, c) not in taken)
        self._session.change(PlaceKey(gadget.id, name, KeyPlace(name, *free)))
        self.new_key.clear()
