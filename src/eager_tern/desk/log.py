"""The log: what was caught, with a thumbnail of each; labels are edited in place."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QItemSelection, QItemSelectionModel, QModelIndex, QRectF, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPixmap, QResizeEvent
from PyQt6.QtWidgets import (
    QHeaderView,
    QLineEdit,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from eager_tern.casebook.changes import Delete
from eager_tern.casebook.values import Caught
from eager_tern.desk.ink import draw_marks
from eager_tern.desk.label_editor import LabelEditor
from eager_tern.desk.log_model import PRESS_ROLE, SHORT_ROLE, LogModel, StrayFold
from eager_tern.desk.qt import sure
from eager_tern.desk.theme import ASIDE_PX, SMALL_PX, Theme, colour, text_font
from eager_tern.desk.words import Words, shortened
from eager_tern.session.session import Session
from eager_tern.session.words import clock_time, hold, short_code
from eager_tern.texts import plural, tr

ROW_HEIGHT, FOLD_HEIGHT = 46, 27
THUMB_WIDTH, THUMB_HEIGHT = 96, 11
LEFT = 14


class LogDelegate(QStyledItemDelegate):
    """Paints a row of the log."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self._view = parent
        self._session = session
        self._thumbs: dict[tuple[int, object, str], QPixmap] = {}

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        assert painter is not None
        painter.save()
        row, box = index.data(PRESS_ROLE), QRectF(option.rect)
        chosen = bool(option.state & QStyle.StateFlag.State_Selected)
        if chosen:
            painter.fillRect(box, colour("chosen"))
            painter.fillRect(QRectF(box.left(), box.top(), 4, box.height()), colour("attention"))
        painter.setPen(colour("rule"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        inner = box.adjusted(LEFT, 5, -10, -4)
        if isinstance(row, StrayFold):
            painter.setFont(text_font(ASIDE_PX))
            painter.setPen(colour("quiet"))
            painter.drawText(inner, Qt.AlignmentFlag.AlignVCenter, f"{'▾' if row.unfolded else '▸'} {row.text}")
        elif row.stray:
            self._stray(painter, inner, row)
        else:
            self._press(painter, inner, row, index.data(SHORT_ROLE))
        painter.restore()

    def _stray(self, painter: QPainter, inner: QRectF, stray: Caught) -> None:
        painter.setFont(text_font(ASIDE_PX))
        painter.setPen(colour("quiet"))
        pulses = stray.reading.frames[0][1] - stray.reading.frames[0][0] + 1
        text = tr(
            "{clock_time} · {marks} in {held_us:.0f} µs",
            clock_time=clock_time(stray.caught_at),
            marks=plural(pulses // 2 + 1, "mark", "marks"),
            held_us=stray.reading.held_us,
        )
        painter.drawText(inner.adjusted(14, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, text)

    def _press(self, painter: QPainter, inner: QRectF, press: Caught, said: str) -> None:
        painter.setFont(text_font(ASIDE_PX))
        painter.setPen(colour("quiet"))
        top = QRectF(inner.left(), inner.top(), inner.width(), 18)
        painter.drawText(top, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, clock_time(press.caught_at))
        painter.setFont(text_font(bold=bool(press.label)))
        painter.setPen(colour("ink" if press.label else "quiet"))
        label = shortened(painter.fontMetrics(), said or tr("type a label"), inner.width() - 72)
        painter.drawText(top, Qt.AlignmentFlag.AlignVCenter, label)
        painter.drawPixmap(int(inner.left()), int(inner.top()) + 22, self._thumb(press))
        painter.setFont(text_font(ASIDE_PX))  # its digits are of one width, its points and colons stand close
        painter.setPen(colour("attention" if press.reading.first_missed or not press.reading.checks_hold else "ink"))
        second = QRectF(inner.left() + THUMB_WIDTH + 4, inner.top() + 19, inner.width() - THUMB_WIDTH - 4, 17)
        code = short_code(press)
        painter.drawText(second, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, code)
        if held := hold(press):
            room = int(second.width()) - painter.fontMetrics().horizontalAdvance(code) - 6
            painter.setFont(text_font(SMALL_PX))
            painter.setPen(colour("quiet"))
            held = shortened(painter.fontMetrics(), held, room)
            painter.drawText(second, Qt.AlignmentFlag.AlignVCenter, held)

    def _thumb(self, press: Caught) -> QPixmap:
        key = (press.id, press.reading.frames[0], Theme.palette.ink)
        if key not in self._thumbs:
            ratio = self._view.devicePixelRatioF()
            picture = QPixmap(round(THUMB_WIDTH * ratio), round(THUMB_HEIGHT * ratio))
            picture.setDevicePixelRatio(ratio)
            picture.fill(Qt.GlobalColor.transparent)
            pulses = self._session.frame_pulses(press)
            painter = QPainter(picture)
            edges = pulses.edge_times_us
            box = QRectF(0, 0, THUMB_WIDTH, THUMB_HEIGHT)
            draw_marks(painter, box, edges, float(edges[0]), float(edges[-1]), colour("ink"))
            painter.end()
            self._thumbs[key] = picture
        return self._thumbs[key]


class LogView(QTableView):
    """The list itself, its selection the session's. A table, though of one column: it lays out only what is seen."""

    def __init__(self, session: Session, model: LogModel) -> None:
        super().__init__()
        self._session = session
        self._model = model
        self._small: set[int] = set()  # rows that were made so for strays
        self.editor: LabelEditor | None = None
        self._following = False  # whether the session's selection is being shown, rather than made
        self.setModel(model)
        self.setItemDelegate(LogDelegate(session, self))
        self.setSelectionMode(QTableView.SelectionMode.ExtendedSelection)
        self.setEditTriggers(QTableView.EditTrigger.NoEditTriggers)
        sure(self.horizontalHeader()).setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        sure(self.horizontalHeader()).hide()
        sure(self.verticalHeader()).setDefaultSectionSize(ROW_HEIGHT)
        sure(self.verticalHeader()).setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        sure(self.verticalHeader()).hide()
        self.setShowGrid(False)
        self.setTabKeyNavigation(False)
        self.setVerticalScrollMode(QTableView.ScrollMode.ScrollPerPixel)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(tr("Log of presses"))
        session.selection_changed.connect(self._show_selection)
        model.modelReset.connect(lambda: self._fit_rows())
        model.rowsInserted.connect(lambda _, first, last: self._fit_rows(first, last))
        model.modelReset.connect(self._show_selection)
        for signal in (model.modelReset, model.rowsInserted):
            signal.connect(self._place_editor)
        sure(self.verticalScrollBar()).valueChanged.connect(self._place_editor)
        self.doubleClicked.connect(self._double_clicked)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.scrollTo(self.currentIndex())  # a panel may have come up under it
        self._place_editor()

    def selectionChanged(self, selected: QItemSelection, deselected: QItemSelection) -> None:
        super().selectionChanged(selected, deselected)
        if not self._following:
            rows = sorted(self.selectedIndexes(), key=lambda index: index.row())
            ids = [row.id for index in rows if isinstance(row := index.data(PRESS_ROLE), Caught)]
            if ids:
                self._session.select(ids)

    def _fit_rows(self, first: int = 0, last: int | None = None) -> None:
        """Strays need less room than presses."""
        strays = set(self._model.stray_rows(first, last))
        before = {row for row in self._small if row >= first and (last is None or row <= last)}
        for row in before - strays:  # the header keeps a row's height, whatever now stands in it
            if row < self._model.rowCount():
                self.setRowHeight(row, ROW_HEIGHT)
        for row in strays:
            self.setRowHeight(row, FOLD_HEIGHT)
        self._small = (self._small - before) | strays

    def _show_selection(self) -> None:
        rows = [row for i in self._session.selected if (row := self._model.row_of(i)) is not None]
        here = sorted(index.row() for index in self.selectedIndexes())
        if sorted(rows) == here:
            return
        self._following = True
        selection = QItemSelection()
        for row in rows:
            selection.select(self._model.index(row), self._model.index(row))
        sure(self.selectionModel()).select(selection, QItemSelectionModel.SelectionFlag.ClearAndSelect)
        if rows:
            sure(self.selectionModel()).setCurrentIndex(
                self._model.index(rows[-1]), QItemSelectionModel.SelectionFlag.NoUpdate
            )
            if self.editor is None:  # what is being typed stays in sight
                self.scrollTo(self._model.index(rows[-1]))
        self._following = False

    def _open_fold(self, index: QModelIndex) -> None:
        row = index.data(PRESS_ROLE)
        if isinstance(row, StrayFold):
            self._model.toggle_fold(row)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        super().mouseReleaseEvent(event)
        index = self.indexAt(event.position().toPoint())
        if index.isValid() and isinstance(index.data(PRESS_ROLE), StrayFold):
            self._open_fold(index)

    def _double_clicked(self, index: QModelIndex) -> None:
        if isinstance(index.data(PRESS_ROLE), StrayFold):
            self._open_fold(index)
        else:
            self.edit_current()

    # Labels

    def edit_current(self) -> None:
        """Begin to type the label of the current press."""
        press = self.currentIndex().data(PRESS_ROLE)
        if not isinstance(press, Caught) or press.stray:
            return
        if self.editor is not None:
            self.editor.end(keep=True)
        names = [key.name for key in self._session.key_table()]
        self.editor = LabelEditor(sure(self.viewport()), press.id, press.label, names)
        self.editor.ended.connect(self._edited)
        self._place_editor()
        self.editor.show()
        self.editor.setFocus()

    def _edited(self, press_id: int, label: str | None) -> None:
        editor, self.editor = self.editor, None
        if editor is not None:
            editor.setObjectName("")
            editor.hide()
            editor.deleteLater()
        self.setFocus()
        if label is not None:
            self._session.label(press_id, label)

    def _place_editor(self) -> None:
        """Keep the editor over the row of its press, wherever that is now."""
        row = self._model.row_of(self.editor.press_id) if self.editor is not None else None
        if self.editor is not None and row is not None:
            box = self.visualRect(self._model.index(row)).adjusted(LEFT - 7, 1, -72, 0)
            self.editor.move(box.topLeft())
            self.editor.resize(box.width(), self.editor.height())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() == Qt.Key.Key_Delete:
            doomed = tuple(press.id for press in self._session.selected_presses())
            if doomed:
                self._session.change(Delete(doomed))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_F2):
            index = self.currentIndex()
            if index.isValid() and isinstance(index.data(PRESS_ROLE), StrayFold):
                self._open_fold(index)
            else:
                self.edit_current()
        elif event.key() == Qt.Key.Key_Space:
            event.ignore()  # Space is Listen's
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent | None) -> bool:
        assert event is not None
        if event.type() in (QEvent.Type.StyleChange, QEvent.Type.PaletteChange):
            sure(self.viewport()).update()
        return super().event(event)


class Log(QWidget):
    """Heading, filter and list."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("column")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self.model = LogModel(session)
        self.view = LogView(session, self.model)
        self._heading = Words()
        self._heading.setObjectName("heading")
        self.filter = QLineEdit()
        self.filter.setPlaceholderText(tr("find a label, protocol or code"))
        self.filter.setClearButtonEnabled(True)
        self.filter.setAccessibleName(tr("Filter the log"))
        self.filter.textChanged.connect(self.model.set_filter)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 10, 0, 0)
        layout.setSpacing(6)
        for widget, margin in ((self._heading, LEFT), (self.filter, LEFT - 6)):
            holder = QVBoxLayout()
            holder.setContentsMargins(margin, 0, 10, 0)
            holder.addWidget(widget)
            layout.addLayout(holder)
        layout.addWidget(self.view, 1)
        for event in (session.opened, session.presses_changed, session.selection_changed):
            event.connect(self._count)
        session.press_changed.when(self._count)
        session.presses_added.when(self._count)
        self._count()

    def _count(self) -> None:
        presses = self._session.shown_presses()
        strays = self._session.tally().strays
        chosen = len(self._session.selected)
        words = tr("LOG · {presses}", presses=plural(len(presses), "press", "presses"))
        if chosen > 1:
            words += tr(" · {chosen} selected", chosen=chosen)
        elif strays:
            words += tr(" · {strays} folded", strays=plural(strays, "stray", "strays"))
        self._heading.setText(words)
