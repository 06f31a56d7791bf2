"""The Sheet leaf: a protocol sheet as text; the selected frames are read with it at each pause in typing."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtGui import QTextCursor
from PyQt6.QtWidgets import QFileDialog, QHBoxLayout, QMenu, QPlainTextEdit, QToolButton, QVBoxLayout, QWidget

from eager_tern.casebook.changes import KeepSheet
from eager_tern.desk.asking import SHEETS
from eager_tern.desk.links import link
from eager_tern.desk.qt import add_action, menu_of, sure
from eager_tern.desk.sheet_ink import SheetInk
from eager_tern.desk.words import Words
from eager_tern.errors import InputError
from eager_tern.places import sheets_folder
from eager_tern.protocol.burst_reading import read_alone
from eager_tern.protocol.describing import Assumed, describe
from eager_tern.protocol.fields import in_words
from eager_tern.protocol.loading import library, parse_sheet, sheet_text
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.sheet_help import help_on
from eager_tern.protocol.why import why_not
from eager_tern.replacing import write_text
from eager_tern.session.session import Session
from eager_tern.texts import plural, tr

PAUSE_MS = 300
SHOWN = 6  # frames whose readings are listed
EMPTY = tr("Select a frame and describe what is seen in it, or begin with a sheet of the library.")


class SheetLeaf(QWidget):
    """Text at the left, what it means beside it, what it reads below."""

    said = pyqtSignal(str)
    home_asked = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.sheet: Sheet | None = None  # the last good one
        self.choose = QToolButton()
        self.choose.setText(tr("Sheets ▾"))
        self.choose.setObjectName("sheets")
        self.choose.setAccessibleName(tr("Sheets"))
        self.choose.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.choose.setMenu(QMenu(self.choose))
        menu_of(self.choose).aboutToShow.connect(self._fill)
        self.begin = link(tr("describe what I see"), tr("Begin a sheet from the selected frames"), self.describe)
        self.keep = link(tr("keep it for this gadget"), tr("Keep the sheet and read everything with it"), self.keep_it)
        self.drop = link(tr("drop it"), tr("Take the sheet out of the casebook"), self.drop_it)
        self.save = link(tr("save as …"), tr("Save the sheet as a file"), self._save)
        self.home = link(tr("take it home …"), tr("Take the gadget home: code, tables, a page"), self.home_asked.emit)
        self.text = QPlainTextEdit()
        self.text.setAccessibleName(tr("Protocol sheet"))
        self.text.setPlaceholderText(EMPTY)
        self._ink = SheetInk(sure(self.text.document()))
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.help = Words()
        self.help.setWordWrap(True)
        self.help.setFixedWidth(236)
        self.help.setObjectName("aside")
        self.state = Words()
        self.state.setWordWrap(True)
        self.readings = Words()
        self.readings.setWordWrap(True)
        row = QHBoxLayout()
        row.setSpacing(16)
        for widget in (self.choose, self.begin, self.keep, self.drop, self.save, self.home):
            row.addWidget(widget)
        row.addStretch(1)
        beside = QVBoxLayout()
        heading = Words(tr("THE LINE AT THE CURSOR"))
        heading.setObjectName("heading")
        beside.addWidget(heading)
        beside.addWidget(self.help)
        beside.addStretch(1)
        middle = QHBoxLayout()
        middle.setSpacing(16)
        middle.addWidget(self.text, 1)
        middle.addLayout(beside)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 14, 14, 14)
        layout.setSpacing(10)
        layout.addLayout(row)
        layout.addLayout(middle, 1)
        layout.addWidget(self.state)
        layout.addWidget(self.readings)
        self._own = ""  # the gadget's sheet, as it was shown
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(PAUSE_MS)
        self._pause.timeout.connect(self.read)
        self.text.textChanged.connect(self._pause.start)
        self.text.cursorPositionChanged.connect(self._show_help)
        session.opened.connect(self._show_own)
        session.changed.connect(self._changed)
        session.selection_changed.connect(self.read)
        self._show_own()
        self._show_help()
        self.read()

    def dress_anew(self) -> None:
        """In the colours of the theme in force."""
        self._ink.rehighlight()

    # Which sheet

    def _show_own(self) -> None:
        """The gadget's own sheet, if it has one."""
        self._own = next(iter(self._session.own_sheets().values()), "")
        self.text.setPlainText(self._own)

    def _changed(self, change: object) -> None:
        """Show a sheet that was kept elsewhere, unless something else is being written here; one dropped stays."""
        kept = isinstance(change, KeepSheet) and self._session.own_sheets()
        if kept and self.text.toPlainText() in ("", self._own):
            self._show_own()

    def _fill(self) -> None:
        menu = menu_of(self.choose)
        menu.clear()
        for sheet_id, text in self._session.own_sheets().items():
            add_action(menu, sheet_id).triggered.connect(partial(self.text.setPlainText, text))
        if menu.actions():
            menu.addSeparator()
        copies = QMenu(tr("From the library"), menu)
        menu.addMenu(copies)
        for sheet in library():
            add_action(copies, sheet.name).triggered.connect(partial(self._show_library_sheet, sheet.id))

    def _show_library_sheet(self, sheet_id: str) -> None:
        self.text.setPlainText(sheet_text(sheet_id) or "")

    def describe(self, unit_us: float | None = None) -> None:
        """Begin a sheet from the frames that are selected."""
        frames = [f for press in self._session.selected_presses() for f in self._session.frames(press)]
        name = self._session.gadget.name if self._session.gadget is not None else "gadget"
        draft = describe(frames, name, Assumed(unit_us))
        if draft is None:
            self._say(tr("The selected frames do not show a line code of their own; select others."), wrong=True)
        else:
            self.text.setPlainText(draft.text)
            self.read()

    # What it says

    def read(self) -> None:
        """Read the selected frames with the text as it stands; where it cannot be used, the last good one stays."""
        self._pause.stop()
        text = self.text.toPlainText()
        for button in (self.keep, self.save):
            button.setEnabled(bool(text.strip()))
        own = self._session.own_sheets()
        self.drop.setVisible(self.sheet is not None and self.sheet.id in own)
        if not text.strip():
            self.sheet = None
            self._say("")
            self.readings.setText("")
            return
        try:
            self.sheet = parse_sheet(text, "sheet")
        except InputError as error:
            self._say(f"{error.place}: {error.reason}" if error.place else error.reason, wrong=True)
            return
        self.keep.setText(
            tr("keep it for this gadget") if own.get(self.sheet.id) != text else tr("kept with this gadget")
        )
        self._say(
            tr(
                "{name}: {bit_count} bits, {code}",
                name=self.sheet.name,
                bit_count=self.sheet.bit_count,
                code=self.sheet.code.replace("-", " "),
            )
        )
        self._show_readings()

    def _show_readings(self) -> None:
        lines = []
        presses = self._session.selected_presses()
        for press in presses[:SHOWN]:
            first, last = press.reading.frames[0]
            pulses = self._session.frame_pulses(press)
            if self.sheet is None:
                break
            frame = read_alone(pulses, first, last, (self.sheet,))
            best = frame.best
            called = press.label or tr("this frame")
            if best is None or best.sheet != self.sheet:
                lines.append(
                    tr(
                        "{called}: does not fit; {why_not}",
                        called=called,
                        why_not="; ".join(why_not(frame, self.sheet)),
                    )
                )
                continue
            widths = {field.name: field.shown_width for field in self.sheet.fields}
            fields = "  ".join(f"{name} {in_words(value, widths.get(name, 8))}" for name, value in best.fields.items())
            failed = [check.name for check in best.checks if not check.ok]
            checks = f"   ✗ {', '.join(failed)}" if failed else tr("   ✓ checks hold") if best.checks else ""
            lines.append(f"{called}: {fields}{checks}")
        if len(presses) > SHOWN:
            lines.append(tr("and {frames}", frames=plural(len(presses) - SHOWN, "more frame", "more frames")))
        self.readings.setText("\n".join(lines) or tr("Select a frame to see how this sheet reads it."))

    def _say(self, words: str, wrong: bool = False) -> None:
        self.state.setObjectName("trouble" if wrong else "heading")
        sure(self.state.style()).polish(self.state)
        self.state.setText(words)

    def _show_help(self) -> None:
        cursor = self.text.textCursor()
        above = self.text.toPlainText()[: cursor.position()]
        cursor.select(QTextCursor.SelectionType.LineUnderCursor)
        self.help.setText(help_on(cursor.selectedText(), above))

    # What is done with it

    def keep_it(self) -> None:
        """Keep the sheet for the open gadget, and read everything caught with it."""
        self.read()
        gadget = self._session.gadget
        if self.sheet is not None and gadget is not None:
            self._session.change(KeepSheet(gadget.id, self.sheet.id, self.text.toPlainText()))

    def drop_it(self) -> None:
        gadget = self._session.gadget
        if self.sheet is not None and gadget is not None:
            self._session.change(KeepSheet(gadget.id, self.sheet.id, None))

    def _save(self) -> None:
        folder = sheets_folder()  # what is saved there is used for every gadget
        try:
            folder.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            self.said.emit(f"{folder}: {error.strerror}")
        proposed = folder / f"{self.sheet.id if self.sheet is not None else 'sheet'}.toml"
        name, _ = QFileDialog.getSaveFileName(self, tr("Save sheet"), str(proposed), SHEETS)
        if name:
            path = Path(name).with_suffix(".toml")
            try:
                write_text(path, self.text.toPlainText())
            except InputError as error:
                self.said.emit(str(error))
