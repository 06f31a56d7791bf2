"""The window goes on answering, whatever goes on: no step of its own thread takes a tenth of a second.

What is measured is the processor time of the window's thread between two turns of its event loop, so that other work on
the machine counts for nothing.
"""

from __future__ import annotations

import os
import pty
import time
import tty
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from threading import Event, Thread

import numpy as np
import pytest
from PyQt6.QtCore import QTimer
from pytestqt.qtbot import QtBot

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PressReading
from eager_tern.desk.window import Window
from eager_tern.devices.line_protocol import encode_durations
from eager_tern.session.sources import SourceChoice
from tests.desk.conftest import settle
from tests.handsets import join, nec, record
from tests.protocol.test_sheets import SHEET

LONGEST_S = 0.1  # on a machine that does the fixed work below in FIXED_S
FIXED_S = 0.026
SLOWEST = 2.5  # times: a machine that is slower yet is no place for this
MANY = 50_000
TAKES = 10


def slowness() -> float:
    """By how much this machine is slower just now than the one that the limit is for; 1 where it is faster."""
    begun = time.thread_time()
    sum(i * i for i in range(300_000))
    return min(max((time.thread_time() - begun) / FIXED_S, 1.0), SLOWEST)


class Watchdog:
    """How long each turn of the event loop kept the window's thread busy, s."""

    def __init__(self) -> None:
        self.stalls: list[float] = []
        self.limit_s = LONGEST_S * slowness()
        self._last = time.thread_time()
        self._timer = QTimer()
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._tick)
        self._timer.start()

    def _tick(self) -> None:
        now = time.thread_time()
        if now - self._last > self.limit_s:
            self.stalls.append(round(now - self._last, 3))
        self._last = now
        time.sleep(0.001)  # others want the interpreter, too

    def stop(self) -> None:
        self._timer.stop()


@contextmanager
def no_stalls() -> Iterator[None]:
    watchdog = Watchdog()
    yield
    watchdog.stop()
    limit = LONGEST_S * slowness()  # it may have become slower meanwhile
    assert [stall for stall in watchdog.stalls if stall > limit] == []


@pytest.fixture(scope="module")
def large(tmp_path_factory: pytest.TempPathFactory) -> Path:
    book = Casebook.create(tmp_path_factory.mktemp("large") / "large.tern")
    gadget = book.add_gadget("Projector")
    frames = [np.concatenate((join(nec(0x5B, c))[:-1], [-2e5])) for c in range(40)]
    starts = np.concatenate(([0.0], np.cumsum([np.abs(frames[n % 40]).sum() for n in range(MANY // TAKES)])))
    with book.changing():
        for _ in range(TAKES):
            take = book.add_take(gadget, "test", "recorder")
            book.append_durations(take, np.concatenate([frames[n % 40] for n in range(MANY // TAKES)]))
            for n in range(MANY // TAKES):
                reading = PressReading(
                    frames=((68 * n, 68 * n + 66),), start_us=float(starts[n]), held_us=67_000, protocol="nec",
                    kind="full", bits="10" * 16, fields={"address": 0x5B, "command": n % 40}, confidence=0.99,
                    check_count=2,
                )  # fmt: skip
                book.put_press(take, reading, caught_at=float(n), label=f"Key {n % 40}" if n % 3 else "")
    book.close()
    return book.path


def wait(qtbot: QtBot, until: Callable[[], bool]) -> None:
    qtbot.waitUntil(until, timeout=120_000)


def test_opening_filtering_and_importing_among_thousands(
    empty_window: Window, qtbot: QtBot, large: Path, tmp_path: Path, rng: np.random.Generator
) -> None:
    window, session = empty_window, empty_window.session
    copy = tmp_path / "large.tern"
    copy.write_bytes(large.read_bytes())
    with no_stalls():
        window.open_casebook(copy)
        wait(qtbot, lambda: window.log.model.rowCount() == MANY)
    with no_stalls():
        window.log.filter.setText("key 17")
        wait(qtbot, lambda: 0 < window.log.model.rowCount() < MANY)
        window.log.filter.setText("")
        wait(qtbot, lambda: window.log.model.rowCount() == MANY)
    hour = np.concatenate([record([*nec(9, n % 250), -200_000.0], rng, jitter_us=20) for n in range(4000)])
    (tmp_path / "hour.txt").write_text(" ".join(f"{d:+.0f}" for d in hour))
    with no_stalls():
        window.import_files([tmp_path / "hour.txt"])
        wait(qtbot, lambda: not window.imports.busy and len(session.shown_presses()) == MANY + 4000)


def test_reading_everything_again(window: Window, qtbot: QtBot, tmp_path: Path, rng: np.random.Generator) -> None:
    session = window.session
    many = np.concatenate([record([*nec(9, n % 250), -200_000.0], rng, jitter_us=20) for n in range(1500)])
    (tmp_path / "many.txt").write_text(" ".join(f"{d:+.0f}" for d in many))
    window.import_files([tmp_path / "many.txt"])
    settle(window)
    (tmp_path / "own.toml").write_text(SHEET)
    with no_stalls():
        window.import_files([tmp_path / "own.toml"])
        wait(qtbot, lambda: not session.reading_again)
        session.undo()
        wait(qtbot, lambda: not session.reading_again)


def test_comparing(window: Window, qtbot: QtBot) -> None:
    session = window.session
    session.choose_gadget(next(g.id for g in session.gadgets() if g.name == "Climate cabinet"))
    settle(window)
    window.show_leaf("Stack")
    settle(window)
    with no_stalls():
        window.commands.do("search")
        wait(qtbot, lambda: window.comparison.proof is not None)


class Flood:
    """A serial line that says valid lines, rubbish, lines without end and giant numbers, as fast as they are taken."""

    def __init__(self, rng: np.random.Generator) -> None:
        self._line, other = pty.openpty()
        tty.setraw(other)
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
            self.said += os.write(self._line, self._lines[number % 100])
            if number % 50 == 49:
                for part in (rubbish, giant, b"x" * 30_000):
                    self.said += os.write(self._line, part)
            number += 1

    def stop(self) -> None:
        self._over.set()
        os.close(self._line)


def test_a_port_that_floods_and_stopping(window: Window, qtbot: QtBot, rng: np.random.Generator) -> None:
    flood = Flood(rng)
    presses = len(window.session.shown_presses())
    with no_stalls():
        window.header.choose(SourceChoice("flood", flood.device))
        window.toggle_listening()
        wait(qtbot, lambda: flood.said > 1_000_000 and len(window.session.shown_presses()) > presses)
        window.toggle_listening()
        assert window.header.listen.text() == "Listen"
        qtbot.wait(200)
    flood.stop()
    assert "went wrong" not in window.notice.text
