"""Take a picture of each main view, on the demo casebook: ``make screenshots``."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path

SIZE = (1280, 800)


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

    def shoot(name: str) -> None:
        spin(0.15)
        window.grab().save(str(folder / f"{name}.png"))

    def press(key: str, hold_s: float) -> None:
        button = window.handset_panel.buttons[key]
        button.pressed.emit()
        spin(hold_s)
        button.released.emit()
        spin(0.55)

    shoot("start")
    casebook = Path(home) / "skarvholm.tern"
    make_demo_casebook(casebook)
    window.open_casebook(casebook)
    document = window.document
    presses = document.shown_presses()
    edges = document.frame_pulses(presses[0]).edge_times_us
    document.select((presses[0].id,))
    window.signal.calipers.set_edge(float(edges[0]))
    window.signal.calipers.set_edge(float(edges[1]))
    document.hovered_bit.emit(19)
    shoot("one-frame")
    document.select(tuple(press.id for press in presses[:7]))
    shoot("several-frames")
    document.select((presses[3].id,))
    window.signal.wrap.click()
    shoot("whole-take")
    window.signal.wrap.click()
    window.show_leaf("Handset")
    document.select((presses[-1].id,))
    shoot("handset")
    window.show_leaf("Signal")
    window.toggle_listening()
    spin(0.5)
    press("Menu", 0.05)
    document.label(document.selected[0], "Menu")
    press("Zoom +", 0.5)
    shoot("listening")
    window.toggle_listening()
    window.choose_gadget(2)
    shoot("audio-guide")
    window.choose_gadget(3)
    window.toggle_night()
    shoot("night")
    window.close()


if __name__ == "__main__":
    main(Path(sys.argv[1]))
