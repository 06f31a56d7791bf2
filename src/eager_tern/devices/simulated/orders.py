"""The sending half of the stand-in: orders of version 2, as docs/recorder.md has them, said with a simulated diode."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct, field

from eager_tern.devices.line_protocol import decode_order
from eager_tern.signal.values import Floats

ROOM = 420  # durations, as the firmware has
CARRIERS_HZ = (30_000, 60_000)


class Orders(Struct):
    """``say`` sends a frame, the silence behind it included; ``answer`` tells the other side."""

    answer: Callable[[str], None]
    say: Callable[[Floats], None]
    stopped: Callable[[], bool]
    _first: list[float] = field(default_factory=list)
    _held: list[float] | None = None
    _next_piece: int = 0

    def take(self, line: str) -> None:
        """One line of the other side's, which is no question."""
        if line.strip() == "stop":
            self.answer("# stopped")
            return
        body = decode_order(line)
        words = (body or "").split()
        if not words:
            piece = line.startswith(".")
            self.answer(f"# again {self._next_piece}" if piece else "# order not understood")
            return
        match words:
            case ["load", carrier, _, _] if int(carrier) and not CARRIERS_HZ[0] <= int(carrier) <= CARRIERS_HZ[1]:
                self.answer("# cannot make this carrier")
            case ["load", _, _, _]:
                self._first, self._held, self._next_piece = [], None, 0
                self.answer(f"# ready {ROOM}")
            case ["again"]:
                self._held = []
                self.answer(f"# ready {ROOM}")
            case [".", number, *durations]:
                self._piece(int(number), durations)
            case ["go", count]:
                self._go(int(count))
            case ["!", _, *durations]:
                self.say(np.array([*map(float, durations), -1.0]))
                self.answer("# sent")
            case _:
                self.answer("# order not understood")

    def _piece(self, number: int, durations: Sequence[str]) -> None:
        if number == self._next_piece:
            part = self._first if self._held is None else self._held
            if len(self._first) + len(self._held or []) + len(durations) > ROOM:
                self.answer(f"# full {ROOM}")
                return
            part += map(float, durations)
            self._next_piece += 1
        self.answer(f"# got {number}" if number < self._next_piece else f"# again {self._next_piece}")

    def _go(self, count: int) -> None:
        for said in range(count):
            if self.stopped():
                self.answer("# stopped")
                return
            self.say(np.array(self._held if said and self._held else self._first))
            self.answer(f"# said {said + 1}")
        self.answer("# sent")
