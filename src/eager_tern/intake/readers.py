"""Reading processes: what each is asked waits its turn, what it answers comes to the thread that asked."""

from __future__ import annotations

from collections.abc import Callable
from queue import SimpleQueue
from threading import Thread

from msgspec import Struct, field

from eager_tern.child import Child
from eager_tern.intake.reading_process import Answer, Request, serve

MOST_IDLE = 2  # readers kept for the next work


def _nobody(_: Answer | None) -> None:
    """Takes what a reader still answers when its work is over."""


class Reader(Struct):
    """A reading process. What it is asked waits in ``asked``: one that is only starting, or busy, takes nothing, and
    whoever asks waits for nobody. ``answered`` gets None when there will be no more answers.
    """

    child: Child
    answered: Callable[[Answer | None], None] = _nobody
    asked: SimpleQueue[Request | None] = field(default_factory=SimpleQueue)


class Readers:
    """Readers at work and idle ones. ``post`` brings a reader's answer to the thread that they work for."""

    def __init__(self, post: Callable[[Callable[[], None]], None]) -> None:
        self._post = post
        self._idle: list[Reader] = []

    def take(self) -> Reader:
        """A reader that has nothing to do."""
        if self._idle:
            return self._idle.pop()
        reader = Reader(Child(serve))
        Thread(target=self._pass_on, args=(reader,), name="answers", daemon=True).start()
        Thread(target=_ask_in_turn, args=(reader,), name="questions", daemon=True).start()
        return reader

    def give_back(self, reader: Reader) -> None:
        """Keep a reader for the next work: a new one takes half a second to start."""
        if len(self._idle) >= MOST_IDLE:
            self.end(reader)
        else:
            reader.answered = _nobody
            self._idle.append(reader)

    def end(self, reader: Reader) -> None:
        """Stop a reader, whatever it is doing."""
        reader.answered = _nobody
        reader.asked.put(None)
        reader.child.end()

    def end_idle(self) -> None:
        """Stop those that wait for work."""
        while self._idle:
            self.end(self._idle.pop())

    def _pass_on(self, reader: Reader) -> None:
        answer: Answer | None = None
        while True:
            try:
                answer = reader.child.connection.recv()
            except (EOFError, OSError, TypeError):
                answer = None
            self._post(lambda answer=answer: reader.answered(answer))  # type: ignore[misc]
            if answer is None:
                return


def _ask_in_turn(reader: Reader) -> None:
    """Bring what a reader is asked to its process. One that is gone answers so itself."""
    while (request := reader.asked.get()) is not None:
        try:
            reader.child.connection.send(request)
        except (OSError, ValueError, TypeError):
            return
