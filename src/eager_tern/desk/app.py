"""Starting the desk."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path

from PyQt6.QtCore import QTimer, QUrl
from PyQt6.QtGui import QDesktopServices
from PyQt6.QtWidgets import QApplication

from eager_tern.casebook.signature import SUFFIX
from eager_tern.desk.one_window import Doorway, hand_over
from eager_tern.desk.settings import load_settings
from eager_tern.desk.theme import load_fonts, text_font
from eager_tern.desk.window import Window
from eager_tern.faults import catch, start_log
from eager_tern.places import log_path
from eager_tern.texts import tr

NAME = "Eager Tern"
SIGNALS_MS = 300  # how soon Python sees an interrupt while Qt waits


def application() -> QApplication:
    """The one application object, with the shipped typefaces."""
    app = QApplication.instance()
    if not isinstance(app, QApplication):
        os.environ.setdefault("QT_SCALE_FACTOR", str(load_settings().size / 100))
        app = QApplication(sys.argv[:1])
    if app.applicationName() == NAME:
        return app
    app.setApplicationName(NAME)
    app.setDesktopFileName("eager-tern")
    load_fonts()
    app.setStyle("Fusion")
    app.setFont(text_font())
    return app


def say_faults(window: Window) -> None:
    """Errors that nobody expected are said in the window, from whatever thread, with the log at hand."""

    def show_log() -> None:
        QDesktopServices.openUrl(QUrl.fromLocalFile(str(log_path())))

    catch(lambda words: window.session.inbox.post(lambda: window.notice.say(words, tr("Show the log"), show_log)))


def _open(window: Window, paths: list[Path], recent: list[Path]) -> None:
    """A casebook, then recordings into it; what was open last where no casebook is named."""
    casebooks = [path for path in paths if path.suffix.lower() == SUFFIX]
    recordings = [path for path in paths if path not in casebooks]
    if casebooks or recent:
        if recordings:
            window.once_opened(lambda: window.import_files(recordings))
        window.open_casebook((casebooks or recent)[0])
    elif recordings:
        window.import_files(recordings)


def run(*paths: Path) -> int:
    """Open the window on a casebook or some recordings, until it is closed; or in the window that is open already."""
    start_log()
    app = application()
    if hand_over(list(paths)):
        return 0
    window = Window()
    say_faults(window)
    window.show()
    recent = [path for path in map(Path, window.settings.recent[:1]) if path.exists()]
    _open(window, list(paths), recent)

    def take_in(more: list[Path]) -> None:
        _open(window, more, [])
        window.raise_()
        window.activateWindow()

    doorway = Doorway(lambda more: window.session.inbox.post(lambda: take_in(more)))
    app.aboutToQuit.connect(doorway.close)
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: window.close())
    interrupts = QTimer()
    interrupts.start(SIGNALS_MS)
    interrupts.timeout.connect(lambda: None)
    return app.exec()
