"""Take home: what the gadget can become, each with what it is good for and a preview of its files."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QModelIndex, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QPushButton,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTabBar,
    QVBoxLayout,
    QWidget,
)

from eager_tern.desk.asking import ask_folder
from eager_tern.desk.links import link
from eager_tern.desk.theme import ASIDE_PX, colour, text_font
from eager_tern.desk.words import Words
from eager_tern.errors import InputError
from eager_tern.export.parcel import listing
from eager_tern.export.payloads import TEMPLATES
from eager_tern.export.writing import KINDS, Kind
from eager_tern.session.session import Session
from eager_tern.session.taking_home import TakingHome
from eager_tern.texts import plural, tr

KINDS_WIDTH, ROW_HEIGHT = 268, 62
PREVIEW_PX = 12  # so that a line of code of 100 letters is seen whole
LONGEST_SHOWN = 60_000  # characters of a preview: more is not read there, and would take long to lay out
GOOD_FOR = Qt.ItemDataRole.UserRole + 1


class TakeHome(QWidget):
    """A kind a row at the left, its files at the right. Nothing is written before it was seen."""

    closed = pyqtSignal()
    said = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.model = TakingHome(session)
        self._session = session
        title = Words(tr("Take it home"))
        title.setFont(text_font(20, bold=True))
        self.about = Words()
        self.about.setObjectName("aside")
        top = QHBoxLayout()
        top.addWidget(title)
        top.addSpacing(14)
        top.addWidget(self.about, 1, Qt.AlignmentFlag.AlignBottom)
        top.addWidget(link(tr("back to the desk"), tr("Back to the desk"), self.closed.emit))
        self.kinds = QListWidget()
        self.kinds.setAccessibleName(tr("What the gadget can become"))
        self.kinds.setFixedWidth(KINDS_WIDTH)
        self.kinds.setItemDelegate(_Rows(self.kinds))
        for kind in KINDS.values():
            item = QListWidgetItem(kind.title)
            item.setData(Qt.ItemDataRole.UserRole, kind.id)
            self.kinds.addItem(item)
        self.kinds.setCurrentRow(0)
        self.files = QTabBar()
        self.files.setDrawBase(False)
        self.files.setExpanding(False)
        self.files.setElideMode(Qt.TextElideMode.ElideMiddle)
        self.files.setAccessibleName(tr("Files"))
        self.preview = QPlainTextEdit()
        self.preview.setReadOnly(True)
        self.preview.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.preview.setAccessibleName(tr("Preview"))
        self.preview.setStyleSheet(f"font-size: {PREVIEW_PX}px")
        self.template = QComboBox()
        self.template.setEditable(True)
        self.template.setAccessibleName(tr("Template of a payload"))
        for name, text in TEMPLATES.items():
            self.template.addItem(name, text)
        self.template.setCurrentIndex(0)
        self.template.activated.connect(lambda _: self._use_template())
        self.template.lineEdit().returnPressed.connect(self._use_template)  # type: ignore[union-attr]
        self.places = Words(tr("or your own text: {label} {code} {bits} {pulses_us} {protocol} {fields} …"))
        self.places.setObjectName("aside")
        self.write = QPushButton(tr("Write to a folder …"))
        self.write.clicked.connect(lambda: self._ask_folder([self.kind]))
        self.all = link(tr("write all of them …"), tr("Write everything the gadget can become"), self._ask_for_all)
        template_row = QVBoxLayout()
        template_row.setSpacing(2)
        template_row.addWidget(self.template)
        template_row.addWidget(self.places)
        self._template_row = QWidget()
        self._template_row.setLayout(template_row)
        template_row.setContentsMargins(0, 0, 0, 0)
        foot = QHBoxLayout()
        foot.addWidget(link(tr("copy this file"), tr("Copy the file that is shown"), self._copy))
        foot.addStretch(1)
        foot.addWidget(self.all)
        foot.addSpacing(14)
        foot.addWidget(self.write)
        right = QVBoxLayout()
        right.setSpacing(6)
        for widget in (self.files, self.preview, self._template_row):
            right.addWidget(widget, int(widget is self.preview))
        right.addLayout(foot)
        middle = QHBoxLayout()
        middle.setSpacing(16)
        middle.addWidget(self.kinds)
        middle.addLayout(right, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 14, 14, 14)
        layout.setSpacing(12)
        layout.addLayout(top)
        layout.addLayout(middle, 1)
        self.kinds.currentRowChanged.connect(lambda _: self._show())
        self.files.currentChanged.connect(lambda _: self._show_file())
        self.model.changed.connect(self._show)

    @property
    def kind(self) -> Kind:
        item = self.kinds.currentItem()
        return KINDS[str(item.data(Qt.ItemDataRole.UserRole))] if item is not None else next(iter(KINDS.values()))

    def refresh(self) -> None:
        """Look at the open gadget anew."""
        self.model.refresh()
        self._show()

    def write_to(self, kinds: list[Kind], folder: Path) -> None:
        """Write kinds into a folder."""
        try:
            files = self.model.write(kinds, folder)
        except InputError as error:
            self.said.emit(str(error))
        else:
            count = tr("{files} files are", files=len(files)) if len(files) > 1 else tr("{file} is", file=files[0])
            self.said.emit(tr("{count} in {folder}.", count=count, folder=folder))

    def _show(self) -> None:
        for row, kind in enumerate(KINDS.values()):
            item = self.kinds.item(row)
            reason = self.model.reason(kind)
            if item is not None:
                item.setData(GOOD_FOR, tr("not yet: {reason}", reason=reason) if reason else kind.good_for)
                item.setData(Qt.ItemDataRole.AccessibleDescriptionRole, item.data(GOOD_FOR))
                item.setForeground(colour("quiet" if reason else "ink"))
        subject = self.model.subject
        self.about.setText(self._words() if subject is not None else "")
        self._template_row.setVisible(self.kind.id == "payloads")
        reason = self.model.reason(self.kind)
        files = self.model.files(self.kind) if subject is not None and not reason else None
        self.write.setEnabled(files is not None)
        self.all.setEnabled(bool(self.model.possible))
        names = list(files or ())
        if names != [self.files.tabData(at) for at in range(self.files.count())]:
            self.files.blockSignals(True)
            while self.files.count():
                self.files.removeTab(0)
            for name in names:
                at = self.files.addTab(name.rsplit("/", 1)[-1])
                self.files.setTabData(at, name)
                self.files.setTabToolTip(at, name)
            self.files.blockSignals(False)
        self._show_file()

    def _words(self) -> str:
        """What there is to take."""
        subject = self.model.subject
        if subject is None:
            return ""
        keys = plural(len(subject.keys), "key", "keys")
        made = tr(", {made} of them made by its sheet", made=len(subject.made)) if subject.made else ""
        sheet = tr("; sheet {id}", id=subject.sheet.id) if subject.sheet is not None else tr("; no sheet yet")
        return f"{subject.title}: {keys}{made}{sheet}"

    def _show_file(self) -> None:
        reason = self.model.reason(self.kind)
        files = self.model.files(self.kind) if self.model.subject is not None and not reason else None
        if trouble := self.model.trouble(self.kind):
            self.preview.setPlainText(trouble)
        elif reason:
            self.preview.setPlainText(tr("Not yet: {reason}.", reason=reason))
        elif files is None:
            self.preview.setPlainText("…")
        else:
            content = files.get(str(self.files.tabData(self.files.currentIndex())), "")
            text = content if isinstance(content, str) else listing(content)
            cut = len(text) > LONGEST_SHOWN
            self.preview.setPlainText(text[:LONGEST_SHOWN] + (tr("\n… and so on") if cut else ""))

    def _use_template(self) -> None:
        text = self.template.currentText()
        self.model.use_template(TEMPLATES.get(text, text))

    def _copy(self) -> None:
        self.preview.selectAll()
        self.preview.copy()

    def _ask_for_all(self) -> None:
        self._ask_folder(self.model.possible)

    def _ask_folder(self, kinds: list[Kind]) -> None:
        if folder := ask_folder(self, tr("Where shall it go?")):
            self.write_to(kinds, folder)


class _Rows(QStyledItemDelegate):
    """A row's title, and under it in small print what it is good for."""

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(KINDS_WIDTH - 4, ROW_HEIGHT)

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        if painter is None:
            return
        painter.save()
        if option.state & QStyle.StateFlag.State_Selected:
            painter.fillRect(option.rect, colour("chosen"))
            painter.fillRect(option.rect.x(), option.rect.y(), 3, option.rect.height(), colour("attention"))
        inner = QRectF(option.rect).adjusted(12, 8, -8, -4)
        painter.setFont(text_font(bold=True))
        painter.setPen(index.data(Qt.ItemDataRole.ForegroundRole).color())
        painter.drawText(inner, Qt.AlignmentFlag.AlignTop, str(index.data()))
        painter.setFont(text_font(ASIDE_PX))
        painter.setPen(colour("quiet"))
        words = str(index.data(GOOD_FOR) or "")
        flags = int(Qt.AlignmentFlag.AlignTop) | int(Qt.TextFlag.TextWordWrap)
        painter.drawText(inner.adjusted(0, 18, 0, 0), flags, words)
        painter.restore()
