"""How a live source does: what is wrong with it, and what to try."""

from __future__ import annotations

from collections import deque

import numpy as np
from msgspec import Struct, field

from eager_tern.devices.serial_port import Received
from eager_tern.signal.order import median
from eager_tern.signal.quality import CHATTER_US, FEWEST_PULSES, FEWEST_SAMPLES

SILENT_FROM_THE_START_S = 3.0
SILENT_S = 30.0
LATELY_S = 10.0
SCRAMBLED_LINES = 2
BUSY = 200  # marks a second, of a receiver that hears nothing
PULSES_KEPT = 400


class Trouble(Struct, frozen=True):
    """What is wrong, and what to try."""

    what: str
    remedy: str


class Health(Struct):
    """Fed with all that comes from a source; times are seconds of any clock."""

    since: float
    name: str = ""  # what it says of itself
    _tick_us: float = 0.0
    _last_mark: float | None = None
    _marks: deque[tuple[float, int]] = field(default_factory=deque)
    _scrambled: deque[tuple[float, int]] = field(default_factory=deque)
    _lost: deque[tuple[float, int]] = field(default_factory=deque)
    _pulses: deque[float] = field(default_factory=lambda: deque(maxlen=PULSES_KEPT))
    _last_press: float | None = None
    _level: float | None = None

    def take_in(self, received: Received, now: float) -> None:
        """Take in what one look at the source brought."""
        if received.hello is not None:
            self.name, self._tick_us = received.hello.name, received.hello.tick_us
        for signed_us in received.durations:
            marks = int(np.sum(signed_us > 0))
            if marks:
                self._last_mark = now
                self._marks.append((now, marks))
                self._pulses.extend(np.abs(signed_us).tolist())
        for count, kept in ((received.scrambled, self._scrambled), (received.lost_lines, self._lost)):
            if count:
                kept.append((now, count))
        self._level = received.level

    def caught(self, now: float) -> None:
        """A press was read."""
        self._last_press = now

    def state(self, now: float) -> str:
        """One line: who it is and when it was heard last."""
        heard = (
            "nothing heard yet" if self._last_mark is None else f"last pulse {max(now - self._last_mark, 0):.0f} s ago"
        )
        tick = f", tick {self._tick_us:g} µs" if self._tick_us else ""
        return f"{self.name}{tick} · {heard}" if self.name else heard[:1].upper() + heard[1:]

    def troubles(self, now: float) -> list[Trouble]:
        """What is wrong now, the worst first."""
        found = []
        for kept in (self._marks, self._scrambled, self._lost):
            while kept and kept[0][0] < now - LATELY_S:
                kept.popleft()
        answers = bool(self.name) or self._last_mark is not None or self._level is not None
        scrambled, lost = _count(self._scrambled), _count(self._lost)
        if scrambled >= SCRAMBLED_LINES:
            found.append(Trouble(f"{scrambled} lines came scrambled", "another speed is tried; press a key meanwhile"))
        elif not answers and now - self.since > SILENT_FROM_THE_START_S:
            found.append(Trouble("It does not answer", "is it the right one, and does its recorder run?"))
        elif now - (self._last_mark or self.since) > SILENT_S:
            found.append(Trouble("No signal for a while", "point the handset at the receiver; try fresh batteries"))
        if lost:
            found.append(Trouble(f"{lost} lines were lost", "a shorter cable or fewer programs; the takes show gaps"))
        pulses = np.array(self._pulses)
        short = float(np.quantile(pulses, 0.2)) if pulses.size >= FEWEST_PULSES else np.inf
        if self._tick_us and short < FEWEST_SAMPLES * self._tick_us:
            words = f"Too coarse: about {short / self._tick_us:.0f} ticks a pulse"
            found.append(Trouble(words, "use a recorder with a finer clock"))
        recent = self._last_press is not None and now - self._last_press < LATELY_S
        if _count(self._marks) > BUSY * LATELY_S / 2 and not recent and median(pulses) < CHATTER_US:
            found.append(Trouble("Chatter without a frame", "the receiver hears nothing: bring the gadget nearer"))
        return found


def _count(kept: deque[tuple[float, int]]) -> int:
    return sum(count for _, count in kept)
