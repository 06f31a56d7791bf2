"""Listening to a source in a thread of its own."""

from __future__ import annotations

from PyQt6.QtCore import QThread, pyqtSignal

from eager_tern.devices.live import open_live
from eager_tern.errors import InputError

QUIET_POLLS = 60  # about three seconds without an answer


class Listener(QThread):
    """Polls a recorder until it is told to stop, or the port is gone."""

    heard = pyqtSignal(object)  # signed durations
    answered = pyqtSignal(str)  # who it is
    troubled = pyqtSignal(str)  # something is wrong with what comes
    ended = pyqtSignal(str)  # why, empty if asked to

    def __init__(self, device: str) -> None:
        super().__init__()
        self._device = device
        self._stopping = False

    def run(self) -> None:
        try:
            recorder = open_live(self._device)
        except InputError as error:
            self.ended.emit(str(error))
            return
        reason, polls, known, scrambled = "", 0, False, 0
        try:
            while not self._stopping:
                received = recorder.poll()
                polls += 1
                known |= received.hello is not None or bool(received.durations)
                if received.hello is not None:
                    self.answered.emit(f"{received.hello.name} answers, tick {received.hello.tick_us} µs")
                if received.news:
                    self.troubled.emit(received.news)
                scrambled += received.scrambled
                if received.lost_lines:
                    self.troubled.emit(f"{received.lost_lines} lines were lost on the way; the takes show a gap there.")
                if polls == QUIET_POLLS and not known and not scrambled:
                    self.troubled.emit("Nothing comes from this port. Is it the right one, and the recorder running?")
                for signed_us in received.durations:
                    self.heard.emit(signed_us)
        except InputError as error:
            reason = str(error)
        finally:
            recorder.close()
        self.ended.emit(reason)

    def stop(self) -> None:
        """Ask it to stop, and wait until it has."""
        self._stopping = True
        self.wait(2000)
