"""Listening: the source chosen, the thread that polls it, and the simulated handset where it is one."""

from __future__ import annotations

import time

from PyQt6.QtCore import QCoreApplication, QObject, pyqtSignal

from eager_tern.desk.document import Document
from eager_tern.desk.listener import Listener
from eager_tern.desk.simulated_handset import SimulatedHandset
from eager_tern.desk.sources import SourceChoice
from eager_tern.devices.serial_port import Received
from eager_tern.errors import InputError
from eager_tern.intake.arming import Arming, Ring
from eager_tern.intake.health import Health
from eager_tern.signal.values import Floats


class Live(QObject):
    """A source is open while it is recorded, waited for, or merely heard with an ear open."""

    changed = pyqtSignal()
    troubled = pyqtSignal(str)
    broken = pyqtSignal(str)  # it ended by itself, and why
    levelled = pyqtSignal(float)  # of a source that has samples: the highest, as a part of full scale

    def __init__(self, document: Document, handset: SimulatedHandset) -> None:
        super().__init__()
        self._document = document
        self._handset = handset
        self._listener: Listener | None = None
        self._arming: Arming | None = None
        self._choice: SourceChoice | None = None
        self.on = False  # whether what comes is recorded, or will be from the first edge on
        self.ear_open = False
        self.ring = Ring()
        self.health: Health | None = None
        document.caught.connect(self._caught)

    @property
    def is_open(self) -> bool:
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
        if self.on or self._document.gadget is None or not self._open(choice):
            return
        self._arming = Arming() if armed else None
        self.on = armed or self._document.start_listening(choice.name)
        if not self.on and not self.ear_open:
            self._close()
        self.changed.emit()

    def stop(self) -> None:
        """Stop, with everything kept that has arrived. An open ear goes on hearing."""
        if self.ear_open and self.on:
            self._end_take()
            self.changed.emit()
        else:
            self._close()

    def open_ear(self, choice: SourceChoice | None, on: bool) -> None:
        """Hear a source without recording it, so that a press just missed can still be had; or no longer."""
        self.ear_open = on
        if on and choice is not None and not self.on and self._document.gadget is not None:
            self._open(choice)
            self.changed.emit()
        elif not on and not self.on:
            self._close()

    def have_missed(self) -> None:
        """Make a take of what was heard lately while nothing was recorded."""
        if self.on or self._choice is None or not self.ring.heard:
            return
        if self._document.start_listening(f"{self._choice.name}, heard before"):
            self._document.hear(self.ring.empty())
            self._document.stop_listening()
        self.changed.emit()

    def _open(self, choice: SourceChoice) -> bool:
        if self._listener is not None:
            if choice == self._choice:
                return True
            self._close()
        device = choice.device
        try:
            if choice.simulated is not None:
                device = self._handset.start(choice.simulated)
        except InputError as error:
            self.troubled.emit(str(error))
            return False
        self._choice, self.ring, self.health = choice, Ring(), Health(time.monotonic())
        self._listener = Listener(device)
        self._listener.received.connect(self._receive)
        self._listener.ended.connect(self._ended)
        self._listener.start()
        return True

    def _close(self) -> None:
        if self._listener is None:
            return
        listener, self._listener = self._listener, None
        listener.stop()
        QCoreApplication.sendPostedEvents()  # durations that arrived before it stopped
        self._end_take()
        self.health = None
        self._handset.stop()
        self.changed.emit()

    def _end_take(self) -> None:
        self._document.stop_listening()
        self._arming, self.on = None, False

    def _receive(self, received: Received) -> None:
        if self.health is not None:
            self.health.hear(received, time.monotonic())
        if received.news:
            self.troubled.emit(received.news)
        if received.level is not None:
            self.levelled.emit(received.level)
        for signed_us in received.durations:
            self._hear(signed_us)

    def _caught(self, _: int) -> None:
        if self.health is not None:
            self.health.caught(time.monotonic())

    def _hear(self, signed_us: Floats) -> None:
        """Durations to the take, to what waits for the first edge, or to the ring."""
        arming = self._arming
        if not self.on:
            missed = self.ring.heard
            self.ring.hear(signed_us)
            if self.ring.heard != missed:
                self.changed.emit()
            return
        if arming is None:
            self._document.hear(signed_us)
            return
        waited = not arming.recording
        recorded = arming.hear(signed_us)
        if recorded.size:
            if waited and self._choice is not None and not self._document.start_listening(self._choice.name):
                arming.rest()
                return
            self._document.hear(recorded)
        if waited != self.waiting:
            self.changed.emit()
        if arming.quiet:
            arming.rest()
            self._document.stop_listening()
            self.changed.emit()

    def _ended(self, reason: str) -> None:
        if reason:
            self._close()
            self.broken.emit(reason)
