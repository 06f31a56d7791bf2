"""The stand-in recorder as the application sees it: a serial port, and someone at the keys."""

from __future__ import annotations

import time
from collections.abc import Sequence

from eager_tern.child import Child
from eager_tern.devices.simulated.recorder import Manner, Order, serve
from eager_tern.errors import InputError

STARTS_IN_S = 20.0


class StandInProcess:
    """A running stand-in. It is there at once; keys pressed before it has started are pressed when it has."""

    def __init__(self, speed: float = 1.0, seed: int | None = None, baud: int = 115_200) -> None:
        self._child = Child(serve)
        self._device = ""
        self._child.connection.send(Manner(speed, seed, baud))

    @property
    def device(self) -> str:
        """Its serial port; waits until it is there. Raises InputError where it does not come up."""
        if not self._device:
            try:
                if not self._child.connection.poll(STARTS_IN_S):
                    raise EOFError
                self._device = str(self._child.connection.recv())
            except (EOFError, OSError):
                raise InputError("simulated recorder", "did not start") from None
        return self._device

    def down(self, first: Sequence[float], held: Sequence[float], count: int = 1) -> None:
        """Press a key: signed durations of its frames, each with the silence behind it."""
        self._order(Order(tuple(first), tuple(held), count, at_s=time.monotonic()))

    def up(self) -> None:
        self._order(Order(up=True))

    def stray(self) -> None:
        self._order(Order(stray=True))

    def stop(self) -> None:
        """End the process and with it the port."""
        self._child.end()

    def _order(self, order: Order) -> None:
        try:
            self._child.connection.send(order)
        except OSError:
            raise InputError("simulated recorder", "has stopped; start it again") from None
