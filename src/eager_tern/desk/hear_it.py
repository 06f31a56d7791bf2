"""Hear it: the selected frame through the loudspeaker, with a cursor on the tape."""

from __future__ import annotations

import time
from collections.abc import Callable

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from eager_tern.devices.loudspeaker import RATE_HZ, SLOWER, Manner, Samples, audible, be_quiet, play
from eager_tern.errors import InputError
from eager_tern.signal.values import Pulses

CURSOR_MS = 30


class HearIt(QObject):
    """``moved`` tells the time within the frame (µs) that is heard now; below 0 when it is over."""

    moved = pyqtSignal(float)
    failed = pyqtSignal(str)

    def __init__(self, player: Callable[[Samples, str], None] = play) -> None:
        super().__init__()
        self._player = player
        self.through = ""  # a loudspeaker's name; the usual one
        self._began = self._lasts = 0.0
        self._slower = 1.0
        self._timer = QTimer(self)
        self._timer.setInterval(CURSOR_MS)
        self._timer.timeout.connect(self._tick)

    @property
    def on(self) -> bool:
        return self._timer.isActive()

    def start(self, pulses: Pulses, manner: Manner) -> None:
        """Play it from the beginning."""
        samples = audible(pulses, manner)
        try:
            self._player(samples, self.through)
        except InputError as error:
            self.failed.emit(str(error))
            return
        self._began, self._lasts, self._slower = time.monotonic(), samples.size / RATE_HZ, SLOWER[manner]
        self._timer.start()

    def stop(self) -> None:
        if self.on:
            be_quiet()
            self._end()

    def _tick(self) -> None:
        heard_s = time.monotonic() - self._began
        if heard_s >= self._lasts:
            self._end()
        else:
            self.moved.emit(heard_s / self._slower * 1e6)

    def _end(self) -> None:
        self._timer.stop()
        self.moved.emit(-1.0)
