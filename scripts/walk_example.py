"""Walk the example in a real window, as a newcomer does, and fail where it does not work.

Listen, press a key, label it, look at every leaf, follow the tour to its end. Needs nothing but the packages of the
run-time lock file.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QApplication, QWidget

from eager_tern.desk.app import application
from eager_tern.desk.commands import LEAVES
from eager_tern.desk.tour import STEPS
from eager_tern.desk.window import Window
from eager_tern.faults import catch

PATIENCE_S = 90.0


def main() -> int:
    """Zero if all of it worked."""
    app = application()
    window = Window()
    faults: list[str] = []
    catch(faults.append)
    window.show()

    def wait(until: Callable[[], bool], what: str) -> None:
        end = time.monotonic() + PATIENCE_S
        while not until():
            app.processEvents()
            time.sleep(0.01)
            if time.monotonic() > end:
                raise SystemExit(f"walk_example: {what} did not happen; the window says: {window.notice.text}")

    def key(widget: QWidget, code: Qt.Key, text: str = "") -> None:
        for kind in (QEvent.Type.KeyPress, QEvent.Type.KeyRelease):
            QApplication.sendEvent(widget, QKeyEvent(kind, code, Qt.KeyboardModifier.NoModifier, text))

    window.pages.start.demo.click()
    wait(lambda: bool(window.session.shown_presses()), "opening the example")
    count = len(window.session.shown_presses())
    window.header.listen.click()
    wait(lambda: "Menu" in window.handset_panel.buttons, "the simulated handset")
    button = window.handset_panel.buttons["Menu"]
    button.pressed.emit()
    button.released.emit()
    wait(lambda: len(window.session.shown_presses()) > count, "the first press")
    press = window.session.selected_presses()[0]
    key(window.log.view, Qt.Key.Key_Return)
    editor = window.log.view.editor
    assert editor is not None
    for letter in "Menu":
        key(editor, Qt.Key.Key_unknown, letter)
    key(editor, Qt.Key.Key_Return)
    wait(lambda: window.session.press(press.id).label == "Menu", "the label")  # type: ignore[union-attr]
    window.header.listen.click()
    for gadget in window.session.gadgets():
        window.choose_gadget(gadget.id)
        wait(lambda: bool(window.session.shown_presses()), f"opening {gadget.name}")
        for leaf in LEAVES:
            window.commands.do(leaf)
            window.grab()
    window.commands.do("keys")
    window.grab()
    window.follow_tour()
    wait(lambda: window.tour.at == 0, "the tour")
    wait(lambda: len(window.session.shown_presses()) > 40, "the cabinet's presses")
    while window.tour.at < len(STEPS) - 1:
        at = window.tour.at
        (window.tour.act if STEPS[at].doing else window.tour.next).click()
        wait(lambda at=at: window.tour.at > at, f"step {at + 1} of the tour")
    window.close()
    for fault in faults:
        print(f"walk_example: {fault}", file=sys.stderr)
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
