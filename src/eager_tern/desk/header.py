"""The header: which gadget, which source, Listen, the level, and what is still to be caught."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QSizePolicy, QToolButton, QVBoxLayout, QWidget

from eager_tern.casebook.shots import next_shot
from eager_tern.desk.level import Level
from eager_tern.desk.qt import add_action, menu_of
from eager_tern.desk.words import Words, shortened, tool_tip
from eager_tern.session.session import Session
from eager_tern.session.shot_plan import ShotPlan
from eager_tern.session.sources import SourceChoice, Sources
from eager_tern.texts import tr


class Elided(Words):
    """Words, as much of them as there is room for, at the right."""

    def __init__(self) -> None:
        super().__init__()
        self._words = ""
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setAlignment(Qt.AlignmentFlag.AlignRight)

    def say(self, words: str) -> None:
        self._words = words
        self.setToolTip(tool_tip(words))
        self.setAccessibleName(words)
        self.setText(shortened(self.fontMetrics(), words, self.width()))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.say(self._words)


class Header(QWidget):
    """Says what the user asked for; what is done about it is the window's."""

    listen_asked = pyqtSignal(bool)
    gadget_asked = pyqtSignal(int)
    new_gadget_asked = pyqtSignal()
    rename_asked = pyqtSignal()
    source_chosen = pyqtSignal()

    def __init__(self, session: Session, plan: ShotPlan, sources: Sources) -> None:
        super().__init__()
        self.setObjectName("header")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._session = session
        self._plan = plan
        self._sources = sources
        self.choice: SourceChoice | None = None
        self._seen_before = False  # what there is to be listened to
        self.remembered = ""  # the device listened to last, to be taken again where it is found
        self.gadget = _menu_button("gadget", tr("Gadget"))
        menu_of(self.gadget).aboutToShow.connect(self._fill_gadgets)
        self.source = _menu_button("source", tr("Source"))
        for fill in (self._fill_sources, sources.look):
            menu_of(self.source).aboutToShow.connect(fill)
        self.listen = QPushButton(tr("Listen"))
        self.listen.setObjectName("listen")
        self.listen.setCheckable(True)
        self.listen.setToolTip(tr("Listen to the source (Space)"))
        self.listen.setMinimumWidth(188)
        self.listen.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.listen.clicked.connect(self.listen_asked)
        self.level = Level()
        self._progress = Words()
        self._progress.setObjectName("heading")
        self._next = Elided()
        self._next.setObjectName("next")
        for label in (self._progress, self._next):
            label.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        right = QVBoxLayout()
        right.setSpacing(0)
        right.addWidget(self._progress)
        right.addWidget(self._next)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(10, 5, 16, 7)
        layout.setSpacing(14)
        for widget in (self.gadget, self.source, self.listen, self.level):
            layout.addWidget(widget)
        layout.addLayout(right, 1)
        session.opened.connect(self._reopened)
        session.presses_changed.connect(self.refresh)
        session.press_changed.when(self.refresh)
        session.presses_added.when(self.refresh)
        plan.changed.connect(self.refresh)
        sources.changed.connect(self._seen)
        self.show_listening(False)
        self._reopened()

    def _reopened(self) -> None:
        name = self._session.gadget.name if self._session.gadget is not None else ""
        if self.choice is None or self.choice.simulated is not None:
            choices = self._sources.choices(name)
            self.choose(next((each for each in choices if each.device == self.remembered), choices[0]))
        self.refresh()

    def _seen(self) -> None:
        """The first look tells which source to take; what is plugged in later is for the user to choose."""
        if not self._seen_before:
            self._seen_before = True
            self._reopened()
        if menu_of(self.source).isVisible():
            self._fill_sources()

    def refresh(self) -> None:
        gadget = self._session.gadget
        self.gadget.setText(f"{gadget.name} ▾" if gadget is not None else tr("Nothing open"))
        self.gadget.setEnabled(gadget is not None)
        shots = self._plan.shots()
        at = next_shot(shots)
        if at is not None:
            done = sum(not shot.open for shot in shots)
            self._progress.setText(tr("next shot · {done} of {shots} taken", done=done, shots=len(shots)))
            self._next.say(shots[at].spoken)
            return
        keys = self._session.key_table()
        missing = [key.name for key in keys if key.best is None]
        self._progress.setText(
            tr("{caught} of {keys} keys caught", caught=len(keys) - len(missing), keys=len(keys)) if keys else ""
        )
        self._next.say(
            tr("next: {missing}", missing=missing[0]) if missing else tr("every key is caught") if keys else ""
        )

    def choose(self, choice: SourceChoice) -> None:
        """Take this source."""
        self.choice = choice
        self.source.setText(f"{choice.name} ▾")
        self.source_chosen.emit()

    def show_listening(self, on: bool, waiting: bool = False) -> None:
        self.listen.setChecked(on)
        self.listen.setText(
            (tr("Waiting · Space to stop") if waiting else tr("Listening · Space to stop")) if on else tr("Listen")
        )
        self.source.setEnabled(not on)

    def _fill_gadgets(self) -> None:
        menu = menu_of(self.gadget)
        menu.clear()
        for gadget in self._session.gadgets():
            action = add_action(menu, gadget.name)
            action.setCheckable(True)
            action.setChecked(self._session.gadget is not None and gadget.id == self._session.gadget.id)
            action.triggered.connect(partial(self.gadget_asked.emit, gadget.id))
        menu.addSeparator()
        add_action(menu, tr("Rename …")).triggered.connect(lambda: self.rename_asked.emit())
        add_action(menu, tr("New gadget …")).triggered.connect(lambda: self.new_gadget_asked.emit())

    def _fill_sources(self) -> None:
        menu = menu_of(self.source)
        menu.clear()
        name = self._session.gadget.name if self._session.gadget is not None else ""
        choices = self._sources.choices(name)
        if not any(choice.device for choice in choices):
            add_action(menu, tr("No serial port found; plug a recorder in"), enabled=False)
            menu.addSeparator()
        for choice in choices:
            add_action(menu, choice.name).triggered.connect(partial(self.choose, choice))


def _menu_button(name: str, accessible: str) -> QToolButton:
    button = QToolButton()
    button.setObjectName(name)
    button.setAccessibleName(accessible)
    button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
    button.setMenu(QMenu(button))
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    return button
