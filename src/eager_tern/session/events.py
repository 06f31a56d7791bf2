"""Things that happen, told to whoever wants to know."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Generic, ParamSpec

What = ParamSpec("What")


class Event(Generic[What]):
    """Listeners are called at once and in the order in which they came."""

    def __init__(self) -> None:
        self._listeners: list[Callable[What, object]] = []

    def connect(self, listener: Callable[What, object]) -> None:
        self._listeners.append(listener)

    def when(self, act: Callable[[], object]) -> None:
        """Have something done that asks for nothing but that it happened."""
        self._listeners.append(lambda *_, **__: act())

    def disconnect(self, listener: Callable[What, object]) -> None:
        """Forget a listener; nothing happens where it is none."""
        self._listeners = [each for each in self._listeners if each != listener]

    def emit_one_by_one(self, *args: What.args, **kwargs: What.kwargs) -> Iterator[None]:
        """The same, with a stop behind each listener."""
        for listener in tuple(self._listeners):
            listener(*args, **kwargs)
            yield

    def emit(self, *args: What.args, **kwargs: What.kwargs) -> None:
        for listener in tuple(self._listeners):
            listener(*args, **kwargs)
