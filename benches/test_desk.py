"""The window: how soon it is there, and how it bears much."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from tests.handsets import join, nec

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PressReading
from eager_tern.desk.app import application
from eager_tern.desk.calipers import Calipers
from eager_tern.desk.strip import StripTape
from eager_tern.desk.window import Window
from eager_tern.session.session import Session


def large_casebook(path: Path, presses: int) -> None:
    casebook = Casebook.create(path)
    frame = join(nec(0x5B, 0x16))
    with casebook.changing():
        take = casebook.add_take(casebook.add_gadget("Slide projector"), "bench", "recorder")
        casebook.append_durations(take, np.tile(frame, presses))
        for n in range(presses):
            first = 68 * n
            reading = PressReading(
                frames=((first, first + 66),), start_us=108_000.0 * n, held_us=67_500.0, protocol="nec", kind="full",
                bits="11011010001001010110100010010111", fields={"address": 91, "command": 22}, confidence=0.99,
                check_count=2,
            )  # fmt: skip
            casebook.put_press(take, reading, caught_at=float(n), label=f"Key {n % 40}")
    casebook.close()


def longest(app: QApplication, *steps: Callable[[], object], until: Callable[[], bool] = lambda: True) -> float:
    """The longest that the window answers to nothing, ms: the largest gap between the ticks of a timer."""
    beats = [time.perf_counter()]
    timer = QTimer()
    timer.timeout.connect(lambda: beats.append(time.perf_counter()))
    timer.start(0)
    for step in steps:
        step()
        app.processEvents()
    while not until():
        app.processEvents()
    for _ in range(20):
        app.processEvents()
    timer.stop()
    return float(np.diff([*beats, time.perf_counter()]).max()) * 1e3


@pytest.mark.parametrize("presses", [5_000, 50_000])
def test_many_presses(tmp_path: Path, presses: int) -> None:
    """Aim: no freeze over 100 ms."""
    large_casebook(tmp_path / "l.tern", presses)
    app = application()
    window = Window()
    window.show()
    app.processEvents()
    rows = window.log.model.rowCount
    opening = longest(app, lambda: window.open_casebook(tmp_path / "l.tern"), until=lambda: rows() == presses)
    bar = window.log.view.verticalScrollBar()
    assert bar is not None
    top = bar.maximum()
    scrolling = longest(app, *[lambda y=y: bar.setValue(y) for y in np.linspace(0, top, 60).astype(int).tolist()])
    filtering = longest(
        app,
        *[lambda t=t: window.log.filter.setText(t) for t in ("K", "Ke", "Key 1", "Key 17", "")],
        until=lambda: rows() == presses,
    )
    ids = [press.id for press in window.session.shown_presses()]
    selecting = longest(app, *[lambda i=i: window.session.select((i,)) for i in ids[:: presses // 10]])
    labelling = longest(app, lambda: window.session.label(ids[100], "Another"))
    stacking = longest(app, lambda: window.show_leaf("Stack"))
    window.close()
    print(
        f"\n{presses:,} presses, the window's longest silence: opening {opening:.0f} ms, scrolling {scrolling:.0f} ms, "
        f"filtering {filtering:.0f} ms, selecting {selecting:.0f} ms, labelling {labelling:.0f} ms, "
        f"stacking {stacking:.0f} ms"
    )


def test_a_million_edges() -> None:
    """Aim: 30 frames a second and more."""
    app = application()
    strip = StripTape(Session(), Calipers())
    strip.resize(900, 150)
    rng = np.random.default_rng(1)
    for count in (1_000_000, 10_000_000):
        edges = np.cumsum(rng.uniform(200, 1800, count))
        strip.show_take(edges, [], (float(edges[0]), float(edges[-1])))
        strip.show()
        app.processEvents()
        start, frames = time.perf_counter(), 0
        while frames < 120:
            strip.zoom(0.8 if frames % 40 < 30 else 2.0, float(edges[count // 3]))
            strip.repaint()
            frames += 1
        rate = frames / (time.perf_counter() - start)
        start = time.perf_counter()
        np.diff(edges)
        bare = time.perf_counter() - start
        print(f"\n{count:,} edges: {rate:.0f} frames a second, a frame in {1 / rate / bare:.2f} times a bare np.diff")
