"""Take a picture of each main view, on the demo casebook: ``make screenshots``."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import soundfile

from eager_tern.protocol.making import press_frames
from eager_tern.protocol.schema import Sheet

if TYPE_CHECKING:
    from eager_tern.desk.window import Window

SIZE = (1280, 800)


def sound_card_recording(folder: Path, sheets: Sequence[Sheet]) -> Path:
    """A press as a sound card with a coupling capacitor would have recorded it."""
    rng = np.random.default_rng(5)
    rate = 48_000
    nec = next(sheet for sheet in sheets if sheet.id == "nec")
    frames = np.concatenate([[-60_000.0], *press_frames(nec, {"address": 0x5B, "command": 0x16}, 2)])
    ends = np.cumsum(np.abs(frames)) * rate / 1e6
    at = np.minimum(np.searchsorted(ends, np.arange(int(ends[-1])), side="right"), frames.size - 1)
    line = np.where(frames[at] > 0, -0.6, 0.6)
    sag = np.empty_like(line)
    level = line[0]
    for i, value in enumerate(line):
        level += (value - level) * 0.0006
        sag[i] = level
    path = folder / "projector-next.wav"
    soundfile.write(path, line - sag + rng.normal(0, 0.012, line.size), rate)
    return path


def believe_what_is_possible(window: Window, spin: Callable[[float], None]) -> None:
    """Accept findings that few presses speak for, as somebody would who knows the gadget."""
    for card in [card for card in window.findings.cards if card.accept]:
        window.comparison.accept(card.accept)
    while window.comparison.proof is None:
        spin(0.1)


def main(folder: Path) -> None:
    """Pictures of all views into ``folder``."""
    home = tempfile.mkdtemp()
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME"):
        os.environ[name] = home
    os.environ["TZ"] = "UTC"
    time.tzset()

    from eager_tern.demo.recipe import make_demo_casebook
    from eager_tern.desk.app import application
    from eager_tern.desk.window import Window

    app = application()
    window = Window()
    window.resize(*SIZE)
    window.show()

    def spin(seconds: float) -> None:
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            app.processEvents()
            time.sleep(0.005)

    def settle() -> None:
        window.session.inbox.settle(lambda: not (window.session.incoming.reading_again or window.imports.busy))

    def shoot(name: str) -> None:
        settle()
        spin(0.15)
        window.grab().save(str(folder / f"{name}.png"))

    def press(key: str, hold_s: float) -> None:
        button = window.handset_panel.buttons[key]
        button.pressed.emit()
        spin(hold_s)
        button.released.emit()
        spin(0.55)

    def say(routine: str, seconds: float) -> None:
        """Send the first line of a routine, and wait for its echo."""
        window.pages.send.editor.setPlainText(routine)
        window.pages.send.read()
        window.pages.send.send_line()
        spin(seconds)

    def until(done: Callable[[], bool]) -> None:
        while not done():
            spin(0.1)

    def sweep_over(routine: str) -> None:
        """A sweep until the gadget reacts, and the first half of the last few said again."""
        window.pages.send.editor.setPlainText(routine)
        window.pages.send.read()
        window.sweeping.start()
        gadget = window.sending.gadgets["Audio guide"]
        while gadget.state["key"] != "Play":
            spin(0.02)
        window.sweeping.it_reacted()
        spin(5.0)

    until(lambda: window.sources.devices is not None)
    shoot("start")
    casebook = Path(home) / "skarvholm.tern"
    make_demo_casebook(casebook)
    window.open_casebook(casebook)
    settle()
    session = window.session
    presses = session.shown_presses()
    edges = session.frame_pulses(presses[0]).edge_times_us
    session.select((presses[0].id,))
    window.pages.signal.calipers.set_edge(float(edges[0]))
    window.pages.signal.calipers.set_edge(float(edges[1]))
    session.hovered_bit.emit(19)
    shoot("one-frame")
    session.select(tuple(press.id for press in presses[:7]))
    shoot("several-frames")
    window.show_leaf("Timing")
    shoot("timing")
    session.select((presses[2].id,))
    window.show_leaf("Sheet")
    window.pages.sheet.describe()
    shoot("sheet")
    window.pages.sheet.text.clear()
    window.show_leaf("Signal")
    session.select((presses[3].id,))
    window.pages.signal.wrap.click()
    shoot("whole-take")
    window.pages.signal.wrap.click()
    window.show_leaf("Handset")
    session.select((presses[-1].id,))
    shoot("handset")
    window.take_home()
    settle()
    window.pages.home.kinds.setCurrentRow(3)
    settle()
    shoot("take-home")
    window.pages.home.closed.emit()
    window.show_leaf("Signal")
    window.toggle_listening()
    spin(0.5)
    press("Menu", 0.05)
    session.label(session.selected[0], "Menu")
    press("Zoom +", 0.5)
    shoot("listening")
    window.toggle_listening()
    settle()
    window.import_files([sound_card_recording(Path(home), session.sheets)])
    settle()
    session.select((session.shown_presses()[-1].id,))
    shoot("samples")
    window.show_leaf("Shots")
    window.pages.shots.plan.setPlainText("temperature 16..24, mode cool dry\nblower low middle high")
    window.pages.shots.add.click()
    for caught in presses[:3]:
        window.shot_plan.take(caught.id)
    window.shot_plan.skip()
    window.pages.shots.plan.setPlainText("Power\nhumidity 40..60 by 5")
    shoot("shots")
    window.show_leaf("Signal")
    window.choose_gadget(2)
    settle()
    shoot("audio-guide")
    window.choose_gadget(4)
    window.show_leaf("Stack")
    settle()
    window.commands.do("search")
    until(lambda: window.comparison.proof is not None)
    grid = window.pages.stack.grid
    for bar, place in ((grid.horizontalScrollBar(), 135), (grid.verticalScrollBar(), 320)):
        assert bar is not None
        bar.setValue(place)
    shoot("stack")
    window.tour.start()
    for _ in range(3):
        window.tour.go_on()
        settle()
    shoot("tour")
    window.tour.stop()
    window.notice.hide()
    believe_what_is_possible(window, spin)
    window.commands.do("keep_found")
    settle()
    window.show_leaf("Send")
    window.commands.do("listen")
    until(lambda: (window.live.condition() or [""])[0].startswith("stand-in"))
    say(
        "temperature 17.5, mode dry, blower 3, power on\npause 1 s\ntemperature 16..30 every 1.5 s\nhumidity 40..70/5",
        2.5,
    )
    shoot("send")
    window.commands.do("listen")
    window.choose_gadget(2)
    settle()
    sweep_over("command 45..60 every 0.2 s")
    shoot("sweep")
    window.sweeping.end()
    spin(0.5)
    window.choose_gadget(6)
    settle()
    window.show_leaf("Stack")
    window.pages.stack.show_over_time()
    shoot("over-time")
    window.show_leaf("Signal")
    window.choose_gadget(3)
    settle()
    window.toggle_night()
    shoot("night")
    window.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
