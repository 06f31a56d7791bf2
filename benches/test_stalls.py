"""The window goes on answering, whatever goes on.

What is measured is the processor time of the window's thread between two turns of its event loop, so that other work on
the machine counts for little, beside what sorting a million numbers takes in the same run.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QTimer
from pytestqt.qtbot import QtBot
from tests.desk.conftest import settle
from tests.desk.test_flood import Flood
from tests.handsets import join, nec, record
from tests.protocol.test_sheets import SHEET

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PressReading
from eager_tern.desk.window import Window
from eager_tern.session.sources import SourceChoice

LONGEST = 9.0  # times sorting a million numbers: about a tenth of a second
MANY = 50_000
TAKES = 10


def bare_s() -> float:
    """What sorting a million numbers takes just now: the thread's time, s."""
    numbers = np.random.default_rng(0).random(1_000_000)
    begun = time.thread_time()
    np.sort(numbers)
    return time.thread_time() - begun


class Watchdog:
    """The longest turn of the event loop, s: how long it kept the window's thread busy."""

    def __init__(self) -> None:
        self.longest_s = 0.0
        self._last = time.thread_time()
        self._timer = QTimer()
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._tick)
        self._timer.start()

    def _tick(self) -> None:
        now = time.thread_time()
        self.longest_s = max(self.longest_s, now - self._last)
        self._last = now
        time.sleep(0.001)  # others want the interpreter, too

    def stop(self) -> None:
        self._timer.stop()


@contextmanager
def no_stalls(what: str) -> Iterator[None]:
    before = bare_s()
    watchdog = Watchdog()
    yield
    watchdog.stop()
    ratio = watchdog.longest_s / max(before, bare_s())  # the machine may have become slower meanwhile
    print(f"\n{what}: the window's longest silence {watchdog.longest_s * 1e3:.0f} ms, {ratio:.2f} times a bare sort")
    assert ratio < LONGEST


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
    with no_stalls("opening 50,000 presses"):
        window.open_casebook(copy)
        wait(qtbot, lambda: window.log.model.rowCount() == MANY)
    with no_stalls("filtering them"):
        window.log.filter.setText("key 17")
        wait(qtbot, lambda: 0 < window.log.model.rowCount() < MANY)
        window.log.filter.setText("")
        wait(qtbot, lambda: window.log.model.rowCount() == MANY)
    hour = np.concatenate([record([*nec(9, n % 250), -200_000.0], rng, jitter_us=20) for n in range(4000)])
    (tmp_path / "hour.txt").write_text(" ".join(f"{d:+.0f}" for d in hour))
    with no_stalls("importing 4,000"):
        window.import_files([tmp_path / "hour.txt"])
        wait(qtbot, lambda: not window.imports.busy and len(session.shown_presses()) == MANY + 4000)


def test_reading_everything_again(window: Window, qtbot: QtBot, tmp_path: Path, rng: np.random.Generator) -> None:
    session = window.session
    many = np.concatenate([record([*nec(9, n % 250), -200_000.0], rng, jitter_us=20) for n in range(1500)])
    (tmp_path / "many.txt").write_text(" ".join(f"{d:+.0f}" for d in many))
    window.import_files([tmp_path / "many.txt"])
    settle(window)
    (tmp_path / "own.toml").write_text(SHEET)
    with no_stalls("reading 1,500 presses again"):
        window.import_files([tmp_path / "own.toml"])
        wait(qtbot, lambda: not session.incoming.reading_again)
        session.undo()
        wait(qtbot, lambda: not session.incoming.reading_again)


def test_comparing(window: Window, qtbot: QtBot) -> None:
    session = window.session
    session.choose_gadget(next(g.id for g in session.gadgets() if g.name == "Climate cabinet"))
    settle(window)
    window.show_leaf("Stack")
    settle(window)
    with no_stalls("comparing"):
        window.commands.do("search")
        wait(qtbot, lambda: window.comparison.proof is not None)


def test_a_port_that_floods_and_stopping(window: Window, qtbot: QtBot, rng: np.random.Generator) -> None:
    flood = Flood(rng)
    presses = len(window.session.shown_presses())
    with no_stalls("a port that floods"):
        window.header.choose(SourceChoice("flood", flood.device))
        window.toggle_listening()
        wait(qtbot, lambda: flood.said > 1_000_000 and len(window.session.shown_presses()) > presses)
        window.toggle_listening()
        assert window.header.listen.text() == "Listen"
        qtbot.wait(200)
    flood.stop()
