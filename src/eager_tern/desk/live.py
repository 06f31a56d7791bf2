"""Listening: the source chosen, the thread that polls it, and the simulated handset where it is one."""

from __future__ import annotations

from PyQt6.QtCore import QCoreApplication, QObject, pyqtSignal

from eager_tern.desk.document import Document
from eager_tern.desk.listener import Listener
from eager_tern.desk.simulated_handset import SimulatedHandset
from eager_tern.desk.sources import SourceChoice
from eager_tern.errors import InputError
from eager_tern.intake.arming import Arming
from eager_tern.signal.values import Floats


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
        self._arming: Arming | None = None
        self._source = ""

    @property
    def on(self) -> bool:
        return self._listener is not None

    @property
    def waiting(self) -> bool:
        """Whether it listens but records nothing yet."""
        return self._arming is not None and not self._arming.recording

    def start(self, choice: SourceChoice, armed: bool = False) -> None:
        """Listen to a source, into a new take of the gadget that is open.

        ``armed``: the take begins with the first edge, and ends when nothing has come for a while; then the next is
        waited for.
        """
        if self.on or self._document.gadget is None:
            return
        device = choice.device
        try:
            if choice.simulated is not None:
                device = self._handset.start(choice.simulated)
        except InputError as error:
            self.troubled.emit(str(error))
            return
        self._source = choice.name
        self._arming = Arming() if armed else None
        if not armed and not self._document.start_listening(choice.name):
            self._handset.stop()
            return
        self._listener = Listener(device)
        self._listener.heard.connect(self._hear)
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
        self._arming = None
        self._handset.stop()
        self.changed.emit(False)

    def _hear(self, signed_us: Floats) -> None:
        """Durations to the take, or to what waits for the first edge."""
        arming = self._arming
        if arming is None:
            self._document.hear(signed_us)
            return
        waited = not arming.recording
        recorded = arming.hear(signed_us)
        if recorded.size:
            if waited and not self._document.start_listening(self._source):
                arming.rest()
                return
            self._document.hear(recorded)
        if waited != self.waiting:
            self.changed.emit(True)
        if arming.quiet:
            arming.rest()
            self._document.stop_listening()
            self.changed.emit(True)

    def _ended(self, reason: str) -> None:
        if reason:
            self.stop()
            self.broken.emit(reason)
