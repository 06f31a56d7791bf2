"""The simulated handset: keys to click and hold, for whoever has no hardware at hand."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLabel, QPushButton, QSizePolicy, QVBoxLayout, QWidget

from eager_tern.demo.gadgets import DemoGadget
from eager_tern.demo.handset import Handset
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.errors import InputError


class SimulatedHandset(QWidget):
    """A panel of keys; each is sent by the stand-in recorder for as long as it is held."""

    failed = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("margin")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._stand_in: StandInProcess | None = None
        self._handset: Handset | None = None
        self.buttons: dict[str, QPushButton] = {}
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 12, 12)
        layout.setSpacing(7)
        self._heading = QLabel()
        self._heading.setObjectName("heading")
        layout.addWidget(self._heading)
        self._grid = QGridLayout()
        self._grid.setSpacing(5)
        layout.addLayout(self._grid)
        self.hide()

    def start(self, gadget: DemoGadget) -> str:
        """Start the stand-in and show the gadget's keys. Gives its serial port; raises InputError."""
        self._stand_in = StandInProcess.start()
        self._handset = Handset(gadget)
        self._heading.setText("SIMULATED HANDSET · click or hold a key")
        for key in gadget.keys:
            button = QPushButton(key.name)
            button.setAccessibleName(f"Press {key.name} on the simulated handset")
            button.setStyleSheet("padding: 4px 1px; font-size: 11px")
            button.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
            button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
            button.pressed.connect(lambda key=key: self._down(key))
            button.released.connect(self._up)
            self._grid.addWidget(button, key.row, key.col)
            self.buttons[key.name] = button
        for column in range(3):
            self._grid.setColumnStretch(column, 1)
        self.show()
        return self._stand_in.device

    def stop(self) -> None:
        """Put it away."""
        self.hide()
        for button in self.buttons.values():
            self._grid.removeWidget(button)
            button.deleteLater()
        self.buttons.clear()
        if self._stand_in is not None:
            self._stand_in.stop()
        self._stand_in = self._handset = None

    def _down(self, key: object) -> None:
        if self._stand_in is None or self._handset is None:
            return
        first, held, count = self._handset.press(key)
        try:
            self._stand_in.down(first.tolist(), held.tolist(), count)
        except InputError as error:
            self.failed.emit(str(error))

    def _up(self) -> None:
        if self._stand_in is not None:
            try:
                self._stand_in.up()
            except InputError as error:
                self.failed.emit(str(error))
