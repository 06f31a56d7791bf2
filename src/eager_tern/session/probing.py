"""Which source hears: every source of this machine listened to at once, while nothing else is open."""

from __future__ import annotations

import time
from collections.abc import Callable
from threading import Event as Flag
from threading import Thread

from eager_tern.devices.live import LiveDevice, open_live
from eager_tern.errors import InputError
from eager_tern.session.events import Event
from eager_tern.session.inbox import Inbox
from eager_tern.session.sources import SourceChoice

ENDS_IN_S = 2.0
LEAST_PULSES = 20  # of a press: a receiver's chatter has fewer in one look


class Probing:
    """An ear at each source. What they hear is not kept; a source that is to be recorded has to be let go of first."""

    def __init__(self, inbox: Inbox, open_device: Callable[[str], LiveDevice] = open_live) -> None:
        self.heard: Event[[str, int]] = Event()  # a device, and how many pulses came
        self.failed: Event[[str, str]] = Event()  # a device, and why it cannot be heard
        self._inbox = inbox
        self._open_device = open_device
        self._stopping = Flag()
        self._threads: list[Thread] = []

    @property
    def on(self) -> bool:
        return bool(self._threads)

    def start(self, choices: list[SourceChoice]) -> None:
        """Listen to all of them that are devices."""
        self.stop()
        self._stopping = Flag()
        for choice in choices:
            if choice.device:
                thread = Thread(target=self._listen, args=(choice.device, self._stopping), daemon=True)
                self._threads.append(thread)
                thread.start()

    def give_up(self) -> None:
        """Let go of all of them, as soon as each looks up; nobody waits for it."""
        self._stopping.set()
        self._threads.clear()

    def stop(self) -> None:
        """Let go of all of them, and return when that is done: one of them is to be opened."""
        self._stopping.set()
        until = time.monotonic() + ENDS_IN_S
        for thread in self._threads:
            thread.join(max(until - time.monotonic(), 0.0))
        self._threads.clear()

    def _listen(self, device: str, stopping: Flag) -> None:
        opened: LiveDevice | None = None
        try:
            opened = self._open_device(device)
            while not stopping.is_set():
                pulses = sum(int(part.size) for part in opened.poll().durations)
                if pulses:
                    self._post(stopping, lambda pulses=pulses: self.heard.emit(device, pulses))  # type: ignore[misc]
        except InputError as error:
            reason = error.reason
            self._post(stopping, lambda: self.failed.emit(device, reason))
        finally:
            if opened is not None:
                opened.close()

    def _post(self, stopping: Flag, tell: Callable[[], None]) -> None:
        self._inbox.post(lambda: None if stopping.is_set() else tell())
