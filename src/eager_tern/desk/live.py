"""Listening: the source chosen, the thread that polls it, and the simulated handset where it is one."""

from __future__ import annotations

from PyQt6.QtCore import QCoreApplication, QObject, pyqtSignal

from eager_tern.desk.document import Document
from eager_tern.desk.listener import Listener
from eager_tern.desk.simulated_handset import SimulatedHandset
from eager_tern.desk.sources import SourceChoice
from eager_tern.errors import InputError


class Live(QObject):
    """From the start of listening to its end, however it comes."""

    changed = pyqtSignal(bool)  # whether it is listening now
    said = pyqtSignal(str)  # what the source says of itself
    troubled = pyqtSignal(str)
    broken = pyqtSignal(str)  # it ended by itself, and why

    def __init__(self, document: Document, handset: SimulatedHandset) -> None:
        super().__init__()
        self._document = document
        self._handset = handset
        self._listener: Listener | None = None

    @property
    def on(self) -> bool:
        return self._listener is not None

    def start(self, choice: SourceChoice) -> None:
        """Listen to a source, into a new take of the gadget that is open."""
        if self.on or self._document.gadget is None:
            return
        device = choice.device
        try:
            if choice.simulated is not None:
                device = self._handset.start(choice.simulated)
        except InputError as error:
            self.troubled.emit(str(error))
            return
        if not self._document.start_listening(choice.name):
            self._handset.stop()
            return
        self._listener = Listener(device)
        self._listener.heard.connect(self._document.hear)
        self._listener.answered.connect(self.said)
        self._listener.troubled.connect(self.troubled)
        self._listener.ended.connect(self._ended)
        self._listener.start()
        self.changed.emit(True)

    def stop(self) -> None:
        """Stop, with everything kept that has arrived."""
        if self._listener is None:
            return
        listener, self._listener = self._listener, None
        listener.stop()
        QCoreApplication.sendPostedEvents()  # durations that arrived before it stopped
        self._document.stop_listening()
        self._handset.stop()
        self.changed.emit(False)

    def _ended(self, reason: str) -> None:
        if reason:
            self.stop()
            self.broken.emit(reason)
