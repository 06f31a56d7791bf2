"""Between the session, which knows no window, and Qt's event loop."""

from __future__ import annotations

from PyQt6.QtCore import QObject, Qt, pyqtSignal

from eager_tern.session.inbox import Inbox


class _Waker(QObject):
    """Brings the inbox its turn in the window's thread, from whatever thread it was asked for."""

    woken = pyqtSignal()


def inbox_in_event_loop(owner: QObject) -> Inbox:
    """An inbox that Qt's event loop handles, between all else that it does, for as long as its owner lives."""
    inbox = Inbox()
    waker = _Waker(owner)
    waiting = False

    def wake() -> None:
        nonlocal waiting
        if not waiting:
            waiting = True
            waker.woken.emit()

    def handle() -> None:
        nonlocal waiting
        waiting = False
        inbox.handle()

    waker.woken.connect(handle, type=Qt.ConnectionType.QueuedConnection)  # type: ignore[call-arg]  # PyQt takes it
    inbox.wake = wake
    return inbox
