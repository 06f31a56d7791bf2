"""Work that comes to the session's own thread: from other threads, and long work done in slices.

The session belongs to one thread, the window's if there is one. Nothing in it waits: what takes long is done elsewhere
and posted here, or is a generator that stops between two slices, so that others come in between.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from threading import Condition, Thread
from typing import TypeVar

T = TypeVar("T")
SLICE_S = 0.02  # of work before others get their turn: a fifth of what somebody notices


class Slices:
    """Work under way in slices; it can be called off."""

    def __init__(self, work: Iterator[None]) -> None:
        self.work = work
        self.called_off = False
        self.done = False

    def call_off(self) -> None:
        self.called_off = True


class Inbox:
    """``wake`` is called, in any thread, when there is something to be handled."""

    def __init__(self, wake: Callable[[], None] = lambda: None) -> None:
        self.wake = wake
        self._posted: deque[Callable[[], None]] = deque()
        self._slices: deque[Slices] = deque()
        self._threads = 0
        self._changed = Condition()

    def post(self, work: Callable[[], None]) -> None:
        """Have something done in the session's thread. May be called from any thread."""
        with self._changed:
            self._posted.append(work)
            self._changed.notify_all()
        self.wake()

    def in_thread(self, work: Callable[[], T], then: Callable[[T | Exception], None]) -> None:
        """Have something done in a thread of its own, then its result, or what it raised, handed over here."""

        def run() -> None:
            try:
                result: T | Exception = work()
            except Exception as error:  # it is handed over
                result = error
            with self._changed:
                self._threads -= 1
            self.post(lambda: then(result))

        with self._changed:
            self._threads += 1
        Thread(target=run, daemon=True).start()

    def in_slices(self, work: Iterator[None]) -> Slices:
        """Do work slice by slice, the first at once: what is small is done when this returns."""
        slices = Slices(work)
        if self._go_on(slices, time.monotonic() + SLICE_S):
            self._slices.append(slices)
            self.wake()
        return slices

    def handle(self) -> None:
        """Do what waits, for a slice of time; where more is left, ``wake`` is called for the rest."""
        until = time.monotonic() + SLICE_S
        while time.monotonic() < until:
            with self._changed:
                work = self._posted.popleft() if self._posted else None
            if work is not None:
                work()
            elif self._slices:
                slices = self._slices.popleft()
                if self._go_on(slices, until):
                    self._slices.append(slices)
            else:
                return
        if self._posted or self._slices:
            self.wake()

    def settle(self, until: Callable[[], bool] = lambda: True, timeout_s: float = 30.0) -> None:
        """Handle what comes until nothing is under way any more and a condition holds: for whoever has no event loop.

        Raises TimeoutError.
        """
        end = time.monotonic() + timeout_s
        while True:
            self.handle()
            with self._changed:
                if not self._posted and not self._slices:
                    if not self._threads and until():
                        return
                    self._changed.wait(0.01)
            if time.monotonic() > end:
                raise TimeoutError("the session has not come to rest")

    def _go_on(self, slices: Slices, until: float) -> bool:
        """Whether there is more to do."""
        while not slices.called_off:
            if next(slices.work, self) is self:
                slices.done = True
                return False
            if time.monotonic() >= until:
                return True
        return False
