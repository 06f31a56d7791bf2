"""The first minute: which source hears, what can be dropped here, and where the example is."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, QTimer, pyqtBoundSignal, pyqtSignal
from PyQt6.QtGui import QHideEvent, QShowEvent
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QPushButton, QScrollArea, QVBoxLayout, QWidget

from eager_tern.desk.level import Level
from eager_tern.desk.links import link
from eager_tern.desk.wiring import Wiring
from eager_tern.desk.words import Words
from eager_tern.session.probing import LEAST_PULSES, Probing
from eager_tern.session.session import Session
from eager_tern.session.sources import SourceChoice, Sources
from eager_tern.texts import tr

WIDEST = 620
LOOK_MS = 3000  # how often it is looked for sources that were plugged in meanwhile
MOST_SIMULATED = 3  # of the simulated gadgets, the first ones: the others stand in the header's list
PRESS_ANY = tr("Point a remote at a receiver and press any button: the source that hears it says so.")
NOTHING_THERE = tr(
    "No receiver was found on this machine. The simulated gadgets need none; below is how a receiver is connected."
)
LOOKING = tr("Looking for receivers on this machine …")
DROP = tr(
    "Or drop a recording here: timing text, CSV, VCD, audio, IQ, a casebook. Whatever comes is kept from the first "
    "pulse, in a casebook named by the day; name it when it is worth a name."
)
NO_PRESS = tr("Press Listen, then a key on the handset: it arrives in the log. Or drop a recording here.")


class Start(QScrollArea):
    """Shown with nothing open, and for a gadget without a press. Sources are heard only while it is in sight."""

    new_asked = pyqtSignal()
    open_asked = pyqtSignal()
    demo_asked = pyqtSignal()
    tour_asked = pyqtSignal()
    import_asked = pyqtSignal()
    listen_asked = pyqtSignal(object)  # to a source
    said = pyqtSignal(str)

    def __init__(self, session: Session, sources: Sources) -> None:
        super().__init__()
        self._session = session
        self._sources = sources
        self.probing = Probing(session.inbox)
        self.probing.heard.connect(self._heard)
        self.probing.failed.connect(self._failed)
        self._title = Words()
        self._title.setObjectName("title")
        self._text = Words()
        self._drop = Words(DROP)
        for words in (self._text, self._drop):
            words.setWordWrap(True)
            words.setMaximumWidth(WIDEST)
        self._drop.setObjectName("aside")
        self._rows = QWidget()
        self._rows.setMaximumWidth(WIDEST)
        self._grid = QGridLayout(self._rows)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setHorizontalSpacing(14)
        self._grid.setVerticalSpacing(8)
        self._grid.setColumnStretch(0, 1)
        self._choices: list[SourceChoice] = []
        self.levels: dict[str, Level] = {}
        self.states: dict[str, Words] = {}
        self.listens: list[QPushButton] = []
        self.demo = _button(tr("Open the example"), self.demo_asked)
        self.tour = _button(tr("Show me how"), self.tour_asked)
        self.new = link(tr("new casebook …"), tr("New casebook"), self.new_asked.emit)
        self.open = link(tr("open a casebook …"), tr("Open a casebook"), self.open_asked.emit)
        self.bring = link(tr("import a recording …"), tr("Import a recording"), self.import_asked.emit)
        self.wire = link(tr("how is a receiver connected?"), tr("How a receiver is connected"), self._toggle_wiring)
        self.wiring = Wiring()
        self.wiring.hide()
        self.wiring.said.connect(self.said)
        buttons = QHBoxLayout()
        buttons.setSpacing(10)
        links = QHBoxLayout()
        links.setSpacing(18)
        for row, several in ((buttons, (self.tour, self.demo)), (links, (self.open, self.new, self.bring, self.wire))):
            for button in several:
                row.addWidget(button)
            row.addStretch(1)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        page = QWidget()
        self.setWidget(page)
        layout = QVBoxLayout(page)
        layout.setContentsMargins(60, 48, 40, 24)
        layout.setSpacing(14)
        for widget in (self._title, self._text, self._rows, self._drop):
            layout.addWidget(widget)
        layout.addSpacing(4)
        layout.addLayout(buttons)
        layout.addLayout(links)
        layout.addWidget(self.wiring, 1)
        layout.addStretch(1)
        self._timer = QTimer(self)
        self._timer.setInterval(LOOK_MS)
        self._timer.timeout.connect(sources.look)
        sources.changed.connect(self.refresh)
        session.opened.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        has_casebook = self._session.casebook is not None
        for button in (self.tour, self.demo, self.new, self.open):
            button.setVisible(not has_casebook)
        self._drop.setVisible(not has_casebook)
        if self.isVisible():
            self._show_choices()

    def showEvent(self, event: QShowEvent | None) -> None:
        self._timer.start()
        self._show_choices(anew=True)

    def hideEvent(self, event: QHideEvent | None) -> None:
        self._timer.stop()
        self.probing.give_up()

    def _show_choices(self, anew: bool = False) -> None:
        """What can be listened to now; what was plugged in meanwhile, too."""
        gadget = self._session.gadget.name if self._session.gadget is not None else ""
        every, looked = self._sources.choices(gadget), self._sources.devices is not None
        real = [choice for choice in every if choice.device]
        choices = [*real, *[choice for choice in every if not choice.device][:MOST_SIMULATED]]
        has_casebook = self._session.casebook is not None
        title = (
            tr("Get the first press in") if has_casebook else tr("Press any button") if real else tr("Where to begin")
        )
        self._title.setText(title)
        nothing_real = NOTHING_THERE if looked else LOOKING
        self._text.setText(NO_PRESS if has_casebook else PRESS_ANY if real else nothing_real)
        if looked and not real and not has_casebook and self.isVisible() and not self.wiring.isVisible():
            self._toggle_wiring()
        if choices == self._choices and not anew:
            return
        self._choices = choices
        self._lay_out(choices, not has_casebook)
        if self.isVisible() and not has_casebook:
            self.probing.start(real)

    def _lay_out(self, choices: list[SourceChoice], heard: bool) -> None:
        while self._grid.count():
            item = self._grid.takeAt(0)
            if item is not None and (old := item.widget()) is not None:
                old.deleteLater()
        self.levels, self.states, self.listens = {}, {}, []
        for row, choice in enumerate(choices):
            name, state = Words(choice.name), Words("" if choice.device else tr("obeys and sends without any hardware"))
            state.setObjectName("aside")
            listen = QPushButton(tr("Listen"))
            listen.setAccessibleName(tr("Listen to {name}", name=choice.name))
            listen.setCursor(Qt.CursorShape.PointingHandCursor)
            listen.clicked.connect(partial(self.listen_asked.emit, choice))
            self.listens.append(listen)
            self._grid.addWidget(name, row, 0)
            if choice.device and heard:
                level = Level()
                level.run(True)
                self._grid.addWidget(level, row, 1)
                self.levels[choice.device], self.states[choice.device] = level, state
            self._grid.addWidget(state, row, 2)
            self._grid.addWidget(listen, row, 3)

    def _heard(self, device: str, pulses: int) -> None:
        if (level := self.levels.get(device)) is not None:
            level.add(pulses)
        if pulses >= LEAST_PULSES and (state := self.states.get(device)) is not None:
            state.setText(tr("this one hears it"))
            state.setObjectName("proven")
            state.style().polish(state)  # type: ignore[union-attr]

    def _failed(self, device: str, reason: str) -> None:
        if (state := self.states.get(device)) is not None:
            state.setText(reason)
            state.setWordWrap(True)

    def _toggle_wiring(self) -> None:
        self.wiring.setVisible(not self.wiring.isVisible())


def _button(text: str, signal: pyqtBoundSignal) -> QPushButton:
    button = QPushButton(text)
    button.setCursor(Qt.CursorShape.PointingHandCursor)
    button.clicked.connect(lambda: signal.emit())
    return button
