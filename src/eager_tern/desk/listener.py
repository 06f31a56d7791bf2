"""Listening to a source in a thread of its own."""

from __future__ import annotations

from PyQt6.QtCore import QThread, pyqtSignal

from eager_tern.devices.live import open_live
from eager_tern.errors import InputError


class Listener(QThread):
    """Polls a source until it is told to stop, or the source is gone."""

    received = pyqtSignal(object)
    ended = pyqtSignal(str)  # why, empty if asked to

    def __init__(self, device: str) -> None:
        super().__init__()
        self._device = device
        self._stopping = False

    def run(self) -> None:
        try:
            source = open_live(self._device)
        except InputError as error:
            self.ended.emit(str(error))
            return
        reason = ""
        try:
            while not self._stopping:
                self.received.emit(source.poll())
        except InputError as error:
            reason = str(error)
        finally:
            source.close()
        self.ended.emit(reason)

    def stop(self) -> None:
        """Ask it to stop, and wait until it has."""
        self._stopping = True
        self.wait(2000)
