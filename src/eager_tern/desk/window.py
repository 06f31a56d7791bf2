"""The window: header, log, leaves and findings round one session."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import QByteArray, QPoint, QRect, Qt, QTimer
from PyQt6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QShowEvent
from PyQt6.QtWidgets import (
    QApplication,
    QMainWindow,
    QMenu,
    QSplitter,
    QVBoxLayout,
    QWidget,
)

from eager_tern.casebook.signature import SUFFIX
from eager_tern.desk.adapter import inbox_in_event_loop
from eager_tern.desk.asking import (
    AUDIO,
    CASEBOOKS,
    RECORDINGS,
    ask_file_to_open,
    ask_file_to_write,
    ask_files_to_open,
    ask_name,
)
from eager_tern.desk.commands import LEAVES, commands_of
from eager_tern.desk.describe import Describe
from eager_tern.desk.findings import Findings
from eager_tern.desk.header import Header
from eager_tern.desk.help_page import HelpPage, about_page, keys_page, sheet_page
from eager_tern.desk.log import Log
from eager_tern.desk.menus import Menus, shown_groups
from eager_tern.desk.notice import Notice
from eager_tern.desk.pages import Pages
from eager_tern.desk.publish import AskBroker
from eager_tern.desk.qt import add_action, sure
from eager_tern.desk.settings import load_settings, save_settings
from eager_tern.desk.simulated_handset import SimulatedHandset
from eager_tern.desk.source_panel import SourcePanel
from eager_tern.desk.tabs import Tabs
from eager_tern.desk.theme import DAY, NIGHT, Theme
from eager_tern.desk.tour import STEPS, Tour
from eager_tern.devices.sound import PLAY
from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, ReadOptions
from eager_tern.formats.iq import RAW_SUFFIXES
from eager_tern.formats.parcel import is_parcel
from eager_tern.places import casebooks_folder
from eager_tern.session.comparison import ComparisonModel
from eager_tern.session.example import make_example
from eager_tern.session.imports import Imports
from eager_tern.session.live import Live
from eager_tern.session.publishing import Publishing
from eager_tern.session.sending import Sending
from eager_tern.session.session import Session
from eager_tern.session.shot_plan import ShotPlan
from eager_tern.session.sources import SourceChoice, Sources
from eager_tern.session.sweeping import Sweeping
from eager_tern.session.words import write_durations
from eager_tern.texts import plural, tr

WIDTH, HEIGHT = 1280, 800
TITLE_BAR = 38  # pixels that window managers put above a window, the widest of the usual ones
FRAME = 6  # and below it

FIRST_PICTURE_MS = 100  # within which the window is drawn for the first time; until then nothing may be in its way
LOG_WIDTH, FINDINGS_WIDTH = 272, 316


class Window(QMainWindow):
    """Puts the parts together and does what their signals ask for."""

    def __init__(self) -> None:
        super().__init__()
        self.settings = load_settings()
        self.session = Session(inbox_in_event_loop(self))
        self.sources = Sources(self.session.inbox)
        self.shot_plan = ShotPlan(self.session)
        self.imports = Imports(self.session)
        self.live = Live(self.session)
        self.sending = Sending(self.session, self.live)
        self.publishing = Publishing(self.session)
        self.sweeping = Sweeping(self.session, self.sending)
        self.shot_plan.is_an_echo = self.sending.is_an_echo
        self.comparison = ComparisonModel(self.session)
        self.commands = commands_of(self)
        self.header = Header(self.session, self.shot_plan, self.sources)
        self.notice = Notice()
        self.log = Log(self.session)
        self.handset_panel = SimulatedHandset(self.live, self.shot_plan, self.sending)
        self.source_panel = SourcePanel(self.live, self.publishing)
        self.pages = Pages(self)
        self.findings = Findings(self.session, self.comparison)
        self.tour = Tour(self.session, self.comparison, self.shot_plan, self.sending, self.commands, self)
        self._name_offered = False
        self._told_progress = ""
        self._build()
        self.menus = Menus(sure(self.menuBar()), self.commands, LEAVES, self._fill_recent)
        self._connect()
        self._restore()
        self._refresh()
        self.pages.start.tour.setFocus()

    def _build(self) -> None:
        self.setWindowTitle("Eager Tern")
        self.setAcceptDrops(True)
        self.tabs = Tabs([tr(leaf) for leaf in LEAVES])
        centre = QWidget()
        centre.setObjectName("desk")
        column = _column(centre)
        tab_row = QVBoxLayout()
        tab_row.setContentsMargins(18, 0, 0, 0)
        tab_row.addWidget(self.tabs)
        column.addLayout(tab_row)
        column.addWidget(self.pages, 1)
        self.left = QWidget()
        stack = _column(self.left)
        stack.addWidget(self.log, 1)
        stack.addWidget(self.source_panel)
        stack.addWidget(self.handset_panel)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setHandleWidth(1)
        self.splitter.setChildrenCollapsible(False)
        parts: tuple[tuple[QWidget, int], ...] = ((self.left, 210), (centre, 420), (self.findings, 230))
        for widget, least in parts:
            widget.setMinimumWidth(least)
            self.splitter.addWidget(widget)
        self.splitter.setStretchFactor(1, 1)
        self.splitter.setSizes([LOG_WIDTH, WIDTH - LOG_WIDTH - FINDINGS_WIDTH, FINDINGS_WIDTH])
        whole = QWidget()
        whole.setObjectName("desk")
        layout = _column(whole)
        layout.addWidget(self.header)
        layout.addWidget(self.notice)
        layout.addWidget(self.splitter, 1)
        layout.addWidget(self.tour)
        self.setCentralWidget(whole)
        self.resize(WIDTH, HEIGHT)

    def _fill_recent(self, menu: QMenu) -> None:
        menu.clear()
        for path in map(Path, self.settings.recent):
            add_action(menu, f"{path.stem}    {path.parent}").triggered.connect(partial(self.open_casebook, path))
        if not self.settings.recent:
            add_action(menu, tr("No casebook has been opened yet"), enabled=False)

    def _connect(self) -> None:
        session, say = self.session, self.notice.say
        for troubled in (session.troubled, self.live.troubled, self.sending.troubled, self.publishing.troubled):
            troubled.connect(say)
        for signal in (self.pages.said, self.handset_panel.failed):
            signal.connect(say)
        session.opened.connect(self._opened)
        for event in (session.history_changed, session.presses_changed, self.comparison.changed):
            event.connect(self._refresh)
        session.press_changed.when(self._refresh)
        session.presses_added.when(self._refresh)
        self.commands.done.when(self._refresh)
        self.sending.changed.connect(self._refresh)
        self.live.pulses_heard.connect(self.header.level.add)
        self.live.changed.connect(self._show_listening)
        self.live.levelled.connect(self.header.level.show_peak)
        self.live.broken.connect(self._source_broke)
        self.shot_plan.held_up.connect(self._hold_up)
        self.imports.told.connect(self._show_progress)
        self.tabs.currentChanged.connect(self._show_page)
        for leaf_asked in (self.findings.go, self.pages.leaf_asked):
            leaf_asked.connect(self.show_leaf)
        self.pages.closed.connect(self._show_page)
        self.pages.preferred.connect(self._preferred)
        if (hints := QApplication.styleHints()) is not None:
            hints.colorSchemeChanged.connect(self.apply_theme)
        self.header.gadget_asked.connect(self.choose_gadget)
        self.header.source_chosen.connect(self._source_chosen)
        for asked, command in (
            (self.header.listen_asked, "listen"),
            (self.header.new_gadget_asked, "new_gadget"),
            (self.header.rename_asked, "rename_gadget"),
            (self.pages.start.new_asked, "new"),
            (self.pages.start.open_asked, "open"),
            (self.pages.start.demo_asked, "example"),
            (self.pages.start.tour_asked, "tour"),
            (self.pages.start.import_asked, "import"),
            (self.source_panel.missed_asked, "missed"),
        ):
            asked.connect(partial(self.commands.do, command))
        self.pages.start.listen_asked.connect(self._listen_to)
        self.session.history_changed.connect(self._offer_a_name)
        self.tour.ended.connect(self._tour_ended)

    # What is shown

    def _refresh(self) -> None:
        """Menus, title and page as things are now."""
        self.menus.refresh()
        path = self.session.casebook.path if self.session.casebook is not None else None
        self.setWindowTitle(tr("{stem} — Eager Tern", stem=path.stem) if path is not None else "Eager Tern")
        if not self.pages.is_covered:
            self._show_page()

    def _show_page(self) -> None:
        empty = not self.session.shown_presses() and not self.session.selected
        showing = LEAVES[self.tabs.currentIndex()]
        self.tabs.setVisible(self.session.casebook is not None)
        self.findings.setVisible(True)
        self._give_way()
        self.findings.show_stack(showing == "Stack" and self.session.casebook is not None)
        if self.session.casebook is None or (empty and showing == "Signal"):
            self.pages.setCurrentWidget(self.pages.start)
        else:
            self.pages.show_page(showing.lower())

    def _give_way(self) -> None:
        """The stack says the log's labels again: the log gives way to it, unless keys are pressed under it."""
        on_stack = LEAVES[self.tabs.currentIndex()] == "Stack" and not self.tabs.isHidden()
        self.left.setVisible(not on_stack or self.live.is_open or self.settings.log_beside_stack)

    def show_leaf(self, name: str) -> None:
        self.tabs.setCurrentIndex(LEAVES.index(name))
        self._show_page()

    def show_stack(self, against: str, row: int) -> None:
        """The stack, its rows held against something, and one of them in sight."""
        self.show_leaf("Stack")
        self.pages.stack.hold_against(against)
        self.pages.stack.grid.show_row(row)

    def show_keys(self) -> None:
        self._show_help(keys_page(self.commands, shown_groups(LEAVES)))

    def show_sheet_language(self) -> None:
        self._show_help(sheet_page())

    def show_about(self) -> None:
        self._show_help(about_page())

    def _show_help(self, page: HelpPage) -> None:
        page.closed.connect(self._show_page)
        self._make_room()
        self.pages.show_over(page)

    def _make_room(self) -> None:
        """For a page in place of the leaves and of what is found about them."""
        self.tabs.hide()
        self.findings.hide()
        self.left.show()

    def label_press(self) -> None:
        """Type the label of the current press: in the stack if that is in sight, else in the log."""
        if self.pages.shows("stack"):
            self.pages.stack.grid.edit_label()
        else:
            self.log.view.edit_current()

    def copy(self) -> None:
        """What is in sight to the clipboard: the stack's rows, or the frame's bits."""
        if self.pages.shows("stack"):
            self.pages.stack.copy_rows()
        else:
            self.pages.signal.copy_bits()

    def plan_wanted(self) -> None:
        """Add the presses that would settle the most to the shot list."""
        shots = self.comparison.planned_shots()
        self.shot_plan.put((*self.shot_plan.shots(), *shots), words="plan shots")
        self.notice.say(tr("{presses} added to the shot list.", presses=plural(len(shots), "press", "presses")))

    @property
    def is_night(self) -> bool:
        """Whether the night theme is in force: said, or that of the desktop."""
        if self.settings.theme != "desktop":
            return self.settings.theme == "night"
        hints = QApplication.styleHints()
        return hints is not None and hints.colorScheme() == Qt.ColorScheme.Dark

    def toggle_log(self) -> None:
        """Have the log beside the stack, too, or no longer."""
        self.settings.log_beside_stack = not self.settings.log_beside_stack
        self._show_page()

    def show_preferences(self) -> None:
        self.pages.preferences.refresh()
        self._make_room()
        self.pages.show_page("preferences")

    def _preferred(self) -> None:
        save_settings(self.settings)
        write_durations(self.settings.lengths == "us")
        self.pages.obey()
        self.apply_theme()
        self.findings.refresh()

    def toggle_night(self) -> None:
        self.settings.theme = "day" if self.is_night else "night"
        self.apply_theme()

    def apply_theme(self) -> None:
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        Theme.apply(app, NIGHT if self.is_night else DAY)
        self.pages.dress_anew()

    # Casebooks and gadgets

    def open_casebook(self, path: Path) -> None:
        self.session.open(path)

    def _opened(self) -> None:
        """Another casebook or gadget is open: what was listened to belongs to the one before."""
        if self.session.casebook is not None:
            self.settings.remember(self.session.casebook.path)
            save_settings(self.settings)
        self.log.view.setFocus()
        self._refresh()

    def open_demo(self) -> None:
        """Open the example; who has not followed the tour yet is asked to."""
        self._open_example(for_tour=False, then=self._offer_tour)

    def _offer_tour(self) -> None:
        if not self.settings.toured:
            words = tr("New here? {steps} steps show the way from a first press to the proof.", steps=len(STEPS))
            self.notice.say(words, tr("Follow them"), self.follow_tour)

    def follow_tour(self) -> None:
        """Show the way from first press to proof, on an example as it was in the beginning."""
        self.live.shut_down()
        self.session.close()
        self._open_example(for_tour=True, then=self.tour.start)

    def _open_example(self, for_tour: bool, then: Callable[[], None]) -> None:
        self.notice.say(tr("The example is being made …"))

        def made(path: Path | InputError) -> None:
            if isinstance(path, InputError):
                self.notice.say(str(path))
                return
            self.notice.hide()
            self.once_opened(then)
            self.open_casebook(path)

        make_example(self.session.inbox, for_tour, made)

    def once_opened(self, then: Callable[[], None]) -> None:
        """Do something as soon as the casebook that is being opened is there."""
        opened = self.session.opened

        def once() -> None:
            opened.disconnect(once)
            self.session.inbox.post(then)

        opened.connect(once)

    def _tour_ended(self) -> None:
        self.settings.toured = True
        save_settings(self.settings)

    def ask_new(self) -> None:
        path = ask_file_to_write(self, tr("New casebook"), CASEBOOKS, SUFFIX)
        if path is None:
            return
        if path.exists():
            self.notice.say(
                tr("{name} exists already, and stays as it is. Choose another name, or open it.", name=path.name),
                tr("Open it"),
                lambda: self.open_casebook(path),
            )
        elif name := ask_name(self, tr("New casebook"), tr("What is the first gadget called?"), tr("Handset")):
            self.live.close()
            self.session.create(path, name)

    def ask_open(self) -> None:
        if path := ask_file_to_open(self, tr("Open casebook"), CASEBOOKS):
            self.open_casebook(path)

    def ask_save_as(self) -> None:
        if path := ask_file_to_write(self, tr("Save casebook as"), CASEBOOKS, SUFFIX):
            self._or_ask(path, lambda: self.save_as(path))

    def save_as(self, path: Path) -> None:
        """A copy under another name takes the casebook's place."""
        self.live.close()
        self.session.save_as(path)

    def _or_ask(self, path: Path, write: Callable[[], None]) -> None:
        """Write a file; where one stands there, ask first."""
        if path.exists():
            self.notice.say(
                tr("{name} exists already in {parent}.", name=path.name, parent=path.parent), tr("Replace it"), write
            )
        else:
            write()

    def ask_gadget(self) -> None:
        if name := ask_name(self, tr("New gadget"), tr("What is it called?")):
            self.live.close()
            self.session.add_gadget(name)

    def ask_rename(self) -> None:
        gadget = self.session.gadget
        if gadget is not None and (name := ask_name(self, tr("Rename gadget"), tr("What is it called?"), gadget.name)):
            self.session.rename_gadget(name)

    def choose_gadget(self, gadget_id: int) -> None:
        self.live.close()
        self.session.choose_gadget(gadget_id)

    # Files in and out

    def ask_import(self) -> None:
        self.import_files(ask_files_to_open(self, tr("Import recordings"), RECORDINGS))

    def import_files(self, paths: list[Path]) -> None:
        """Read recordings into the gadget; protocol sheets are taken in, a casebook is opened instead."""
        if self.session.gadget is not None:
            for path in paths:
                if path.suffix.lower() == ".toml":
                    self.session.add_sheet(path)
            paths = [path for path in paths if path.suffix.lower() != ".toml"]
        if self.session.casebook is not None:
            paths = [path for path in paths if not is_parcel(path) or self.session.take_in_parcel(path)]
        casebooks = [path for path in paths if path.suffix.lower() == SUFFIX]
        if casebooks:
            self.open_casebook(casebooks[0])
        elif paths and self.session.gadget is None:
            self._in_some_casebook(lambda: self.import_files(paths))
        elif paths:
            self.notice.hide()
            self.imports.read([(path, asked) for path in paths if (asked := self._described(path)) is not None])

    def _described(self, path: Path) -> ReadOptions | None:
        """What the user says of a file that does not say it itself; None if the user would rather not."""
        if path.suffix.lower() not in RAW_SUFFIXES:
            return AS_FOUND
        ask = Describe(path, self)
        return ReadOptions(samples=ask.description) if ask.exec() else None

    def _show_progress(self, words: str) -> None:
        if words:
            self.notice.say(words, tr("Stop"), self.imports.stop)
            self._told_progress = words
        elif self.notice.text == self._told_progress:
            self.notice.hide()

    def take_home(self) -> None:
        """What the gadget can become, each with a preview."""
        self.pages.home.refresh()
        self._make_room()
        self.pages.show_page("home")

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if data is not None:
            self.import_files([Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()])

    # Listening

    def toggle_listening(self) -> None:
        """Start or stop, whatever asked for it."""
        if self.live.on:
            self.live.stop()
        elif self.session.casebook is None:
            self.pages.start.probing.stop()
            self._in_some_casebook(self.toggle_listening)
        elif self.header.choice is not None:
            self.notice.hide()
            self.live.start(self.header.choice, self.settings.armed)
        self._show_listening()

    def _listen_to(self, choice: SourceChoice) -> None:
        """Listen to a source of the first page at once; where nothing is open, into a casebook of the day."""
        self.pages.start.probing.stop()
        self.header.choose(choice)
        self._in_some_casebook(self.toggle_listening)

    def _in_some_casebook(self, then: Callable[[], None]) -> None:
        """Do something with a casebook open: one named by the day, if there is none."""
        if self.session.casebook is not None:
            then()
            return
        self.once_opened(then)
        self.session.create_unnamed(Path(self.settings.casebooks) if self.settings.casebooks else casebooks_folder())

    def _offer_a_name(self) -> None:
        """A first label makes an unnamed casebook worth a name."""
        if self.session.is_unnamed and not self._name_offered and self.session.history.done:
            self._name_offered = True
            path = self.session.casebook.path if self.session.casebook is not None else Path()
            self.notice.say(tr("Kept in {path}.", path=path), tr("Name the gadget …"), self.ask_rename)

    def toggle_armed(self) -> None:
        """Record from the first edge on, rather than from the moment of listening."""
        self.settings.armed = not self.settings.armed

    def toggle_ear(self) -> None:
        """Hear the source while nothing is recorded, so that the press just missed can still be had."""
        self.settings.ear = not self.settings.ear
        self.live.open_ear(self.header.choice, self.settings.ear)

    def toggle_publishing(self) -> None:
        """Tell a broker what is caught from now on, or no more."""
        if self.publishing.on:
            self.publishing.stop()
            return
        ask = AskBroker(self.settings.broker, self.settings.topics, self)
        if ask.exec():
            self.settings.broker, self.settings.topics = ask.hearer.address, ask.hearer.prefix
            self.publishing.start(ask.hearer)

    def ask_play(self) -> None:
        """Take a recording for the source: it is played as if it came in now."""
        if path := ask_file_to_open(self, tr("Play a recording as a source"), AUDIO):
            self.header.choose(SourceChoice(tr("Playing {name}", name=path.name), f"{PLAY}{path}"))

    def _source_chosen(self) -> None:
        if self.header.choice is not None and self.header.choice.device:
            self.settings.source = self.header.choice.device
        if self.settings.ear:
            self.live.open_ear(self.header.choice, True)

    def _show_listening(self) -> None:
        on = self.live.on
        self._give_way()
        self.header.show_listening(on, self.live.waiting)
        self.header.level.run(self.live.is_open)
        self.menus.refresh()
        if on and self.log.view.editor is None:
            self.log.view.setFocus()  # so that Return types a label

    def _hold_up(self, press_id: int, reason: str) -> None:
        self.notice.say(
            tr("This press was not taken for the next shot: {reason}. Press again, or keep it.", reason=reason),
            tr("Keep it"),
            lambda: self.shot_plan.take(press_id),
        )

    def _source_broke(self, reason: str) -> None:
        self.notice.say(reason, tr("Listen again"), self.toggle_listening)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        # No shortcut: where a button or an editor has the focus, Space is theirs.
        if event is not None and event.key() == Qt.Key.Key_Space:
            self.commands.do("listen")
        else:
            super().keyPressEvent(event)

    # The window itself

    def _restore(self) -> None:
        self.header.remembered = self.settings.source
        if self.settings.geometry:
            self.restoreGeometry(QByteArray.fromHex(self.settings.geometry.encode()))
        self._stay_inside()
        if self.settings.splitter:
            self.splitter.restoreState(QByteArray.fromHex(self.settings.splitter.encode()))
        write_durations(self.settings.lengths == "us")
        self.apply_theme()

    def showEvent(self, event: QShowEvent | None) -> None:
        super().showEvent(event)
        QTimer.singleShot(FIRST_PICTURE_MS, self._get_ready)

    def _get_ready(self) -> None:
        """Do what would have to be waited for otherwise as soon as it is asked for."""
        self.sources.look()
        self.session.get_ready()
        self.pages.make_in_spare_time()

    def _stay_inside(self) -> None:
        """Within the screen that is there, title bar included."""
        if (screen := self.screen()) is not None:
            self.setGeometry(inside(self.geometry(), screen.availableGeometry()))

    def closeEvent(self, event: QCloseEvent | None) -> None:
        if self.log.view.editor is not None:
            self.log.view.editor.end(keep=True)
        self.sending.stop()
        self.publishing.stop()
        self.live.shut_down()
        self.comparison.stop()
        self.settings.geometry = self.saveGeometry().toHex().data().decode()
        self.settings.splitter = self.splitter.saveState().toHex().data().decode()
        save_settings(self.settings)
        self.session.close()
        super().closeEvent(event)


def inside(window: QRect, screen: QRect) -> QRect:
    """A window's geometry within what a screen has free: smaller if need be, and where all of its frame is seen."""
    free = screen.adjusted(0, TITLE_BAR, 0, -FRAME)
    size = window.size().boundedTo(free.size())
    x = min(max(window.x(), free.x()), free.x() + free.width() - size.width())
    y = min(max(window.y(), free.y()), free.y() + free.height() - size.height())
    return QRect(QPoint(x, y), size)


def _column(widget: QWidget) -> QVBoxLayout:
    layout = QVBoxLayout(widget)
    layout.setContentsMargins(0, 0, 0, 0)
    layout.setSpacing(0)
    return layout
