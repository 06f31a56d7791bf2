"""The window: header, log, leaves and findings round one document."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QByteArray, Qt
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent
from PyQt6.QtWidgets import (
    QApplication,
    QFileDialog,
    QInputDialog,
    QMainWindow,
    QMenu,
    QSplitter,
    QStackedWidget,
    QTabBar,
    QVBoxLayout,
    QWidget,
)

from eager_tern.casebook.changes import Rename
from eager_tern.casebook.export import exported_keys, write_keys
from eager_tern.casebook.shots import Shot
from eager_tern.casebook.store import SUFFIX
from eager_tern.desk.actions import build_menus
from eager_tern.desk.comparing import wait_for_ending
from eager_tern.desk.describe import Describe
from eager_tern.desk.document import Document
from eager_tern.desk.example import example_casebook
from eager_tern.desk.findings import Findings
from eager_tern.desk.header import Header
from eager_tern.desk.importer import AS_FOUND, How
from eager_tern.desk.imports import Imports
from eager_tern.desk.live import Live
from eager_tern.desk.log import Log
from eager_tern.desk.menus import menus_of
from eager_tern.desk.notice import Notice
from eager_tern.desk.plate import HandsetLeaf
from eager_tern.desk.settings import load_settings, save_settings
from eager_tern.desk.sheet_leaf import SheetLeaf
from eager_tern.desk.shot_plan import ShotPlan
from eager_tern.desk.shots import ShotsLeaf
from eager_tern.desk.signal_leaf import SignalLeaf
from eager_tern.desk.simulated_handset import SimulatedHandset
from eager_tern.desk.source_panel import SourcePanel
from eager_tern.desk.sources import SourceChoice
from eager_tern.desk.stack_leaf import StackLeaf
from eager_tern.desk.start import Start
from eager_tern.desk.theme import DAY, NIGHT, Theme
from eager_tern.desk.timing_leaf import TimingLeaf
from eager_tern.desk.tour import STEPS, Tour
from eager_tern.devices.sound import PLAY
from eager_tern.errors import InputError
from eager_tern.formats.iq import RAW_SUFFIXES

CASEBOOKS = f"Casebooks (*{SUFFIX})"
SAMPLES = " ".join(f"*{suffix}" for suffix in RAW_SUFFIXES)
RECORDINGS = (
    f"Recordings (*.txt *.csv *.tsv *.vcd *.wav *.flac *.aiff *.sigmf-meta *.sigmf-data {SAMPLES} *.h *.tern);;"
    "Protocol sheets (*.toml);;All files (*)"
)
AUDIO = "Audio (*.wav *.flac *.aiff *.ogg);;All files (*)"
KEY_FILES = "CSV table (*.csv);;JSON (*.json);;C header (*.h)"
WIDTH, HEIGHT = 1280, 800
LOG_WIDTH, FINDINGS_WIDTH = 272, 316


class Window(QMainWindow):
    """Puts the parts together and does what their signals ask for."""

    def __init__(self) -> None:
        super().__init__()
        self.settings = load_settings()
        self.document = Document()
        self.shot_plan = ShotPlan(self.document)
        self.imports = Imports(self.document)
        self.header = Header(self.document, self.shot_plan)
        self.notice = Notice()
        self.log = Log(self.document)
        self.handset_panel = SimulatedHandset(self.shot_plan)
        self.live = Live(self.document, self.handset_panel)
        self.source_panel = SourcePanel(self.live)
        self.signal = SignalLeaf(self.document)
        self.timing = TimingLeaf(self.document)
        self.sheet = SheetLeaf(self.document)
        self.stack = StackLeaf(self.document)
        self.handset = HandsetLeaf(self.document)
        self.shots = ShotsLeaf(self.document, self.shot_plan)
        self.findings = Findings(self.document)
        self.start = Start(self.document)
        self.tour = Tour(self)
        self.leaf_names = ("Signal", "Timing", "Stack", "Sheet", "Handset", "Shots")
        self._build()
        self.menu_actions = build_menus(self.menuBar(), menus_of(self))
        self._connect()
        self._restore()
        self._refresh_actions()

    def _build(self) -> None:
        self.setWindowTitle("Eager Tern")
        self.setAcceptDrops(True)
        self.tabs = QTabBar()
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        self.tabs.setAccessibleName("Leaves")
        for name in self.leaf_names:
            self.tabs.addTab(name)
        self.pages = QStackedWidget()
        for page in (self.signal, self.timing, self.stack, self.sheet, self.handset, self.shots, self.start):
            self.pages.addWidget(page)
        centre = QWidget()
        centre.setObjectName("desk")
        column = QVBoxLayout(centre)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        tab_row = QVBoxLayout()
        tab_row.setContentsMargins(18, 0, 0, 0)
        tab_row.addWidget(self.tabs)
        column.addLayout(tab_row)
        column.addWidget(self.pages, 1)
        left = QWidget()
        stack = QVBoxLayout(left)
        stack.setContentsMargins(0, 0, 0, 0)
        stack.setSpacing(0)
        stack.addWidget(self.log, 1)
        stack.addWidget(self.source_panel)
        stack.addWidget(self.handset_panel)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setHandleWidth(1)
        self.splitter.setChildrenCollapsible(False)
        for widget, least in ((left, 210), (centre, 420), (self.findings, 230)):
            widget.setMinimumWidth(least)
            self.splitter.addWidget(widget)
        self.splitter.setStretchFactor(1, 1)
        self.splitter.setSizes([LOG_WIDTH, WIDTH - LOG_WIDTH - FINDINGS_WIDTH, FINDINGS_WIDTH])
        whole = QWidget()
        whole.setObjectName("desk")
        layout = QVBoxLayout(whole)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.header)
        layout.addWidget(self.notice)
        layout.addWidget(self.splitter, 1)
        layout.addWidget(self.tour)
        self.setCentralWidget(whole)
        self.resize(WIDTH, HEIGHT)

    def fill_recent(self, menu: QMenu) -> None:
        menu.clear()
        for path in map(Path, self.settings.recent):
            menu.addAction(f"{path.stem}    {path.parent}", lambda path=path: self.open_casebook(path))
        if not self.settings.recent:
            menu.addAction("No casebook has been opened yet").setEnabled(False)

    def _connect(self) -> None:
        doc = self.document
        doc.troubled.connect(self.notice.say)
        for signal in (doc.opened, doc.history_changed, doc.presses_changed, doc.press_changed):
            signal.connect(self._refresh_actions)
        doc.pulses_heard.connect(self.header.level.add)
        self.shot_plan.held_up.connect(self._hold_up)
        self.shots.troubled.connect(self.notice.say)
        self.sheet.said.connect(self.notice.say)
        self.stack.said.connect(self.notice.say)
        self.stack.shots_asked.connect(self._plan_more)
        self.stack.found_out.connect(self.findings.show_stack)
        self.timing.sheet_asked.connect(self._describe_with)
        self.signal.recorded.threshold_asked.connect(self.imports.read_with_threshold)
        self.imports.troubled.connect(self.notice.say)
        self.imports.told.connect(self._show_progress)
        self.tabs.currentChanged.connect(self._show_page)
        self.header.listen_asked.connect(self.toggle_listening)
        self.header.gadget_asked.connect(self.choose_gadget)
        self.header.new_gadget_asked.connect(self.ask_gadget)
        self.header.rename_asked.connect(self.ask_rename)
        self.findings.go.connect(self.show_leaf)
        self.findings.dismissed.connect(self.stack.dismiss)
        self.handset.export_asked.connect(self.ask_export)
        self.handset_panel.failed.connect(self.notice.say)
        self.live.changed.connect(self._show_listening)
        self.live.levelled.connect(self.header.level.show_peak)
        self.header.source_chosen.connect(self._source_chosen)
        self.live.troubled.connect(self.notice.say)
        self.live.broken.connect(self._source_broke)
        self.start.new_asked.connect(self.ask_new)
        self.start.open_asked.connect(self.ask_open)
        self.start.demo_asked.connect(self.open_demo)
        self.start.tour_asked.connect(self.follow_tour)
        self.tour.ended.connect(self._tour_ended)
        self.start.import_asked.connect(self.ask_import)
        self.start.listen_asked.connect(self.toggle_listening)

    # What is shown

    def _refresh_actions(self) -> None:
        has = self.document.casebook is not None
        actions = self.menu_actions
        for name in ("import", "save_as", "listen"):
            actions[name].setEnabled(has)
        actions["export"].setEnabled(any(key.best is not None for key in self.document.key_table()))
        history = self.document.history
        for action, changes, word in (
            (actions["undo"], history.done, "Undo"),
            (actions["redo"], history.undone, "Redo"),
        ):
            action.setEnabled(bool(changes))
            action.setText(f"&{word} {changes[-1].words}" if changes else f"&{word}")
        path = self.document.casebook.path if self.document.casebook is not None else None
        self.setWindowTitle(f"{path.stem} — Eager Tern" if path is not None else "Eager Tern")
        self._show_page()

    def _show_page(self) -> None:
        empty = not self.document.shown_presses() and not self.document.selected
        showing = self.leaf_names[self.tabs.currentIndex()]
        self.tabs.setVisible(self.document.casebook is not None)
        if showing != "Stack":
            self.findings.show_stack(None, "")
        if self.document.casebook is None or (empty and showing == "Signal"):
            self.pages.setCurrentWidget(self.start)
        else:
            self.pages.setCurrentIndex(self.tabs.currentIndex())

    def show_leaf(self, name: str) -> None:
        self.tabs.setCurrentIndex(self.leaf_names.index(name))

    def label_press(self) -> None:
        """Type the label of the current press: in the stack if that is in sight, else in the log."""
        if self.pages.currentWidget() is self.stack:
            self.stack.grid.edit_label()
        else:
            self.log.view.edit_current()

    def _describe_with(self, unit_us: float) -> None:
        """Begin a sheet with a unit set by hand."""
        self.sheet.describe(unit_us)
        self.show_leaf("Sheet")

    def _plan_more(self, shots: list[Shot]) -> None:
        """Add presses that are asked for to the shot list."""
        self.shot_plan.put((*self.shot_plan.shots(), *shots), words="plan shots")

    def toggle_night(self) -> None:
        self.settings.night = not self.settings.night
        self.apply_theme()

    def apply_theme(self) -> None:
        self.menu_actions["night"].setChecked(self.settings.night)
        self.menu_actions["armed"].setChecked(self.settings.armed)
        self.menu_actions["ear"].setChecked(self.settings.ear)
        Theme.apply(QApplication.instance(), NIGHT if self.settings.night else DAY)
        self.signal.refresh()

    # Casebooks and gadgets

    def open_casebook(self, path: Path) -> bool:
        self.live.stop()
        self.imports.stop_and_wait()
        if not self.document.open(path):
            return False
        self.notice.hide()
        self._remember()
        self.log.view.setFocus()
        return True

    def open_demo(self) -> None:
        """Open the example; who has not followed the tour yet is asked to."""
        if self._open_example(for_tour=False) and not self.settings.toured:
            words = f"New here? {len(STEPS)} steps show the way from a first press to the proof."
            self.notice.say(words, "Follow them", self.follow_tour)

    def follow_tour(self) -> None:
        """Show the way from first press to proof, on an example as it was in the beginning."""
        self.live.stop()
        self.document.close()
        if self._open_example(for_tour=True):
            self.tour.start()

    def _open_example(self, for_tour: bool) -> bool:
        self.notice.say("The example is being made …")
        try:
            path = example_casebook(for_tour)
        except InputError as error:
            self.notice.say(str(error))
            return False
        return self.open_casebook(path)

    def _tour_ended(self) -> None:
        self.settings.toured = True
        save_settings(self.settings)

    def _remember(self) -> None:
        if self.document.casebook is not None:
            self.settings.remember(self.document.casebook.path)
            save_settings(self.settings)

    def ask_new(self) -> None:
        if not (path := self._ask_path("New casebook", CASEBOOKS, SUFFIX)):
            return
        if name := self._ask_name("New casebook", "What is the first gadget called?", "Handset"):
            self.live.stop()
            path.unlink(missing_ok=True)  # the dialog has asked about replacing it
            if self.document.create(path, name):
                self._remember()

    def ask_open(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open casebook", "", CASEBOOKS)
        if name:
            self.open_casebook(Path(name))

    def ask_save_as(self) -> None:
        if path := self._ask_path("Save casebook as", CASEBOOKS, SUFFIX):
            self.live.stop()
            if self.document.save_as(path):
                self._remember()

    def ask_gadget(self) -> None:
        if name := self._ask_name("New gadget", "What is it called?"):
            self.live.stop()
            self.document.add_gadget(name)

    def ask_rename(self) -> None:
        gadget = self.document.gadget
        if gadget is not None and (name := self._ask_name("Rename gadget", "What is it called?", gadget.name)):
            self.document.change(Rename(gadget.id, name))

    def choose_gadget(self, gadget_id: int) -> None:
        self.live.stop()
        self.document.choose_gadget(gadget_id)

    def _ask_name(self, title: str, question: str, offered: str = "") -> str:
        name, ok = QInputDialog.getText(self, title, question, text=offered)
        return name.strip() if ok else ""

    def _ask_path(self, title: str, kinds: str, suffix: str) -> Path | None:
        name, _ = QFileDialog.getSaveFileName(self, title, "", kinds)
        if not name:
            return None
        path = Path(name)
        return path if path.suffix else path.with_suffix(suffix)

    # Files in and out

    def ask_import(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Import recordings", "", RECORDINGS)
        self.import_files([Path(name) for name in names])

    def import_files(self, paths: list[Path]) -> None:
        """Read recordings into the gadget; protocol sheets are taken in, a casebook is opened instead."""
        if self.document.gadget is not None:
            for path in paths:
                if path.suffix.lower() == ".toml":
                    self.document.add_sheet(path)
            paths = [path for path in paths if path.suffix.lower() != ".toml"]
        casebooks = [path for path in paths if path.suffix.lower() == SUFFIX]
        if casebooks:
            self.open_casebook(casebooks[0])
            return
        if not paths or self.imports.busy:
            return
        if self.document.gadget is None:
            self.notice.say("Open a casebook or begin a new one first; recordings are kept in it.")
            return
        self.notice.hide()
        self.imports.read([(path, how) for path in paths if (how := self._described(path)) is not None])

    def _described(self, path: Path) -> How | None:
        """What the user says of a file that does not say it itself; None if the user would rather not."""
        if path.suffix.lower() not in RAW_SUFFIXES:
            return AS_FOUND
        ask = Describe(path, self)
        return How(samples=ask.description) if ask.exec() else None

    def _show_progress(self, words: str) -> None:
        if words:
            self.notice.say(words, "Stop", self.imports.stop)
        elif self.notice.text.startswith("Reading "):
            self.notice.hide()

    def ask_export(self) -> None:
        if path := self._ask_path("Export keys", KEY_FILES, ".csv"):
            self.export_keys(path)

    def export_keys(self, path: Path) -> None:
        casebook, gadget = self.document.casebook, self.document.gadget
        if casebook is None or gadget is None:
            return
        keys = exported_keys(casebook, self.document.key_table())
        try:
            write_keys(path, gadget, keys)
        except InputError as error:
            self.notice.say(str(error))
        else:
            self.notice.say(f"{len(keys)} keys are in {path}.")

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        self.import_files([Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()])

    # Listening

    def toggle_listening(self) -> None:
        """Start or stop, whatever asked for it."""
        if self.live.on:
            self.live.stop()
        elif self.header.choice is not None:
            self.notice.hide()
            self.live.start(self.header.choice, self.settings.armed)
        self._show_listening()

    def toggle_armed(self) -> None:
        """Record from the first edge on, rather than from the moment of listening."""
        self.settings.armed = not self.settings.armed
        self.menu_actions["armed"].setChecked(self.settings.armed)

    def toggle_ear(self) -> None:
        """Hear the source while nothing is recorded, so that the press just missed can still be had."""
        self.settings.ear = not self.settings.ear
        self.menu_actions["ear"].setChecked(self.settings.ear)
        self.live.open_ear(self.header.choice, self.settings.ear)

    def ask_play(self) -> None:
        """Take a recording for the source: it is played as if it came in now."""
        name, _ = QFileDialog.getOpenFileName(self, "Play a recording as a source", "", AUDIO)
        if name:
            self.header.choose(SourceChoice(f"Playing {Path(name).name}", f"{PLAY}{name}"))

    def _source_chosen(self) -> None:
        if self.header.choice is not None and self.header.choice.device:
            self.settings.source = self.header.choice.device
        if self.settings.ear:
            self.live.open_ear(self.header.choice, True)

    def _show_listening(self) -> None:
        on = self.live.on
        self.header.show_listening(on, self.live.waiting)
        self.header.level.run(self.live.is_open)
        self.menu_actions["missed"].setEnabled(not on and self.live.ring.heard)
        if on:
            self.log.view.setFocus()  # so that Return types a label

    def _hold_up(self, press_id: int, reason: str) -> None:
        self.notice.say(
            f"This press was not taken for the next shot: {reason}. Press again, or keep it.",
            "Keep it",
            lambda: self.shot_plan.take(press_id),
        )

    def _source_broke(self, reason: str) -> None:
        self.notice.say(reason, "Listen again", self.toggle_listening)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        # No shortcut: where a button or an editor has the focus, Space is theirs.
        if event.key() == Qt.Key.Key_Space and self.document.gadget is not None:
            self.toggle_listening()
        else:
            super().keyPressEvent(event)

    # The window itself

    def _restore(self) -> None:
        self.header.remembered = self.settings.source
        if self.settings.geometry:
            self.restoreGeometry(QByteArray.fromHex(self.settings.geometry.encode()))
        if self.settings.splitter:
            self.splitter.restoreState(QByteArray.fromHex(self.settings.splitter.encode()))
        self.apply_theme()

    def closeEvent(self, event: QCloseEvent) -> None:
        self.live.ear_open = False
        self.live.stop()
        self.imports.stop_and_wait()
        self.stack.stop()
        wait_for_ending()
        self.settings.geometry = bytes(self.saveGeometry().toHex()).decode()
        self.settings.splitter = bytes(self.splitter.saveState().toHex()).decode()
        save_settings(self.settings)
        self.document.close()
        super().closeEvent(event)
