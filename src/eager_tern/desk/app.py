"""Starting the desk."""

from __future__ import annotations

import logging
import signal
import sys
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from eager_tern.casebook.store import SUFFIX
from eager_tern.desk.theme import load_fonts, text_font
from eager_tern.desk.window import Window

NAME = "Eager Tern"


def application() -> QApplication:
    """The one application object, with the shipped typefaces."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    if app.applicationName() == NAME:
        return app
    app.setApplicationName(NAME)
    app.setDesktopFileName("eager-tern")
    load_fonts()
    app.setStyle("Fusion")
    app.setFont(text_font())
    return app


def run(*paths: Path) -> int:
    """Open the window on a casebook or some recordings, until it is closed."""
    logging.basicConfig(level=logging.WARNING, format="%(name)s: %(message)s")
    app = application()
    window = Window()
    window.show()
    casebooks = [path for path in paths if path.suffix.lower() == SUFFIX]
    if casebooks:
        window.open_casebook(casebooks[0])
    elif window.settings.recent and Path(window.settings.recent[0]).exists():
        window.open_casebook(Path(window.settings.recent[0]))
    window.import_files([path for path in paths if path not in casebooks])
    signal.signal(signal.SIGINT, lambda *_: window.close())
    breathe = QTimer()  # lets Python see the interrupt
    breathe.start(300)
    breathe.timeout.connect(lambda: None)
    return app.exec()
