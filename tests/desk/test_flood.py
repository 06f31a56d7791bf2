"""A port that says everything at once: what is a frame in it is read, and listening can be ended."""

from __future__ import annotations

import os
import pty
import time
import tty
from threading import Event, Thread

import numpy as np
from pytestqt.qtbot import QtBot

from eager_tern.desk.window import Window
from eager_tern.devices.line_protocol import encode_durations
from eager_tern.session.sources import SourceChoice
from tests.handsets import nec, record


class Flood:
    """A serial line that says valid lines, rubbish, lines without end and giant numbers, as fast as they are taken."""

    def __init__(self, rng: np.random.Generator) -> None:
        self._line, other = pty.openpty()
        tty.setraw(other)
        os.set_blocking(self._line, False)
        self.device = os.ttyname(other)
        self.said = 0
        self._over = Event()
        self._lines = [(encode_durations(record([*nec(5, n), -25_000.0], rng), n) + "\n").encode() for n in range(100)]
        self._thread = Thread(target=self._say, daemon=True)
        self._thread.start()

    def _say(self) -> None:
        rubbish = np.random.default_rng(1).integers(0, 256, 20_000).astype(np.uint8).tobytes()
        giant = b"+" + b"9" * 9000 + b"\n# tern-recorder " + b"1" * 4310 + b" tick 4 us, x # 00\n"
        until = time.monotonic() + 30
        number = 0
        while not self._over.is_set() and time.monotonic() < until:
            self._write(self._lines[number % 100])
            if number % 50 == 49:
                for part in (rubbish, giant, b"x" * 30_000):
                    self._write(part)
            number += 1

    def _write(self, data: bytes) -> None:
        """All of it, unless the flood is over: nobody takes the rest then."""
        while data and not self._over.is_set():
            try:
                written = os.write(self._line, data)
            except BlockingIOError:
                time.sleep(0.001)
                continue
            self.said += written
            data = data[written:]

    def stop(self) -> None:
        self._over.set()
        self._thread.join()
        os.close(self._line)


def test_a_port_that_floods_and_stopping(window: Window, qtbot: QtBot, rng: np.random.Generator) -> None:
    flood = Flood(rng)
    presses = len(window.session.shown_presses())
    window.header.choose(SourceChoice("flood", flood.device))
    window.toggle_listening()
    qtbot.waitUntil(lambda: flood.said > 400_000 and len(window.session.shown_presses()) > presses, timeout=120_000)
    window.toggle_listening()
    assert window.header.listen.text() == "Listen"
    flood.stop()
    assert "went wrong" not in window.notice.text
