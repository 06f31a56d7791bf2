"""The simulated gadget: keys to click and hold, or a shot list to play, for whoever has no hardware at hand."""

from __future__ import annotations

import time
from functools import partial

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from eager_tern.casebook.shots import next_shot
from eager_tern.demo.gadgets import DemoKey
from eager_tern.demo.handset import Handset, planned_turn
from eager_tern.demo.planned import PlannedGadget
from eager_tern.demo.playing import SimulatedGadget
from eager_tern.desk.face import Face
from eager_tern.desk.words import Words
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.errors import InputError
from eager_tern.session.live import Live
from eager_tern.session.sending import Sending
from eager_tern.session.shot_plan import ShotPlan
from eager_tern.signal.values import Floats
from eager_tern.texts import tr

BETWEEN_MS = 900
LOST_S = 6.0  # a shot of which nothing was heard for so long is sent once more
NEXT, ALL = tr("Send the next shot"), tr("Send all that are left")


class SimulatedHandset(QWidget):
    """A panel of keys; each is sent by the stand-in recorder for as long as it is held."""

    failed = pyqtSignal(str)

    def __init__(self, live: Live, plan: ShotPlan, sending: Sending) -> None:
        super().__init__()
        self.setObjectName("margin")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._live = live
        self._plan = plan
        self._sending = sending
        self._gadget = ""
        self._stand_in: StandInProcess | None = None
        self._handset: Handset | None = None
        self._planned: PlannedGadget | None = None
        self._all = QTimer(self)
        self._all.setInterval(BETWEEN_MS)
        self._all.timeout.connect(self.send_next)
        self._sent: tuple[int, float] | None = None  # the shot sent last, and when
        self._heard = False  # whether something came since
        self.buttons: dict[str, QPushButton] = {}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 12, 12)
        layout.setSpacing(7)
        self._heading = Words()
        self._heading.setObjectName("heading")
        layout.addWidget(self._heading)
        self._grid = QGridLayout()
        self._grid.setSpacing(5)
        layout.addLayout(self._grid)
        self.face = Face()
        layout.addWidget(self.face)
        sending.reacted.when(self._show_face)
        self.hide()
        live.changed.connect(self._follow)
        live.pulses_heard.when(self._hear)

    def _follow(self) -> None:
        """Show the keys of the simulated gadget that is listened to, if it is one."""
        stand_in, choice = self._live.stand_in, self._live.choice
        if stand_in is self._stand_in:
            return
        self._put_away()
        if stand_in is not None and choice is not None and choice.simulated is not None:
            self._stand_in = stand_in
            self._gadget = choice.simulated.name
            self._show_face()
            self._show_keys(choice.simulated)

    def _show_keys(self, gadget: SimulatedGadget) -> None:
        if isinstance(gadget, PlannedGadget):
            self._heading.setText(tr("SIMULATED · sends what the shot list asks for"))
            self._planned = gadget
            self._button(NEXT, 0, 0).clicked.connect(self.send_shot)
            self._button(ALL, 0, 1).clicked.connect(self.send_all)
        else:
            self._handset = Handset(gadget)
            self._heading.setText(tr("SIMULATED HANDSET · click or hold a key"))
            for key in gadget.keys:
                button = self._button(key.name, key.row, key.col)
                button.pressed.connect(partial(self._down, key))
                button.released.connect(self._up)
        self.show()

    def _button(self, name: str, row: int, column: int) -> QPushButton:
        button = QPushButton(name)
        button.setAccessibleName(
            name if self._handset is None else tr("Press {name} on the simulated handset", name=name)
        )
        button.setStyleSheet("padding: 4px 1px; font-size: 11px")
        button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self._grid.addWidget(button, row, column)
        self._grid.setColumnStretch(column, 1)
        self.buttons[name] = button
        return button

    def _put_away(self) -> None:
        self.hide()
        self._all.stop()
        for column in range(self._grid.columnCount()):
            self._grid.setColumnStretch(column, 0)
        for button in self.buttons.values():
            self._grid.removeWidget(button)
            button.hide()
            button.deleteLater()
        self.buttons.clear()
        self._stand_in = self._handset = self._planned = None
        self._gadget = ""
        self._show_face()

    def _show_face(self) -> None:
        """What the gadget itself shows: it hears its handset, and whatever else is said to it."""
        self.face.show_gadget(self._sending.gadgets.get(self._gadget))

    def send_next(self) -> None:
        """The next of all shots, once the one before it is taken. What a busy machine has yet to read is not lost."""
        if self._sent is not None and self._sent[0] == next_shot(self._plan.shots()):
            lost = not self._heard and time.monotonic() - self._sent[1] >= LOST_S
            if not lost:
                return
        self.send_shot()

    def _hear(self) -> None:
        self._heard = True

    def send_shot(self) -> None:
        """Send what the next shot asks for, if there is one and the gadget has such a thing."""
        shots = self._plan.shots()
        at = next_shot(shots)
        if at is None or self._planned is None:
            self._all.stop()
            self.failed.emit(tr("Every shot of the list is taken; plan more on the Shots leaf."))
            return
        try:
            turn = planned_turn(self._planned.sent_for(shots[at]))
        except InputError as error:
            self._all.stop()
            self.failed.emit(
                tr("The simulated gadget cannot send “{spoken}”: {error}", spoken=shots[at].spoken, error=error)
            )
            return
        self._sent, self._heard = (at, time.monotonic()), False
        self._send(*turn)
        self._up()  # at once: a press is not held longer because the window was busy

    def send_all(self) -> None:
        """Send one shot after the other; a second click stops."""
        if self._all.isActive():
            self._all.stop()
        else:
            self._all.start()
            self._sent = None
            self.send_shot()

    def _down(self, key: DemoKey) -> None:
        if self._handset is not None:
            self._send(*self._handset.press(key))

    def _send(self, first: Floats, held: Floats, count: int) -> None:
        if self._stand_in is not None:
            try:
                self._stand_in.down(first.tolist(), held.tolist(), count)
                self._sending.heard_from_handset(self._gadget, [first] * count)
            except InputError as error:
                self.failed.emit(str(error))

    def _up(self) -> None:
        if self._stand_in is not None:
            try:
                self._stand_in.up()
            except InputError as error:
                self.failed.emit(str(error))
