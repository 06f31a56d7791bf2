"""A recorder at a serial port: its speed found, its cable pulled and put back."""

from __future__ import annotations

import time
from collections import deque

import numpy as np
import serial
from msgspec import Struct, field
from serial.tools import list_ports

from eager_tern.devices.line_protocol import (
    IDENTIFY,
    UNKNOWN_SILENCE_US,
    Durations,
    Hello,
    LineSplitter,
    Remark,
    Scrambled,
    decode_line,
)
from eager_tern.errors import InputError
from eager_tern.signal.values import Floats

SPEED = 115_200
# In the order in which they are tried: the most common first.
SPEEDS = (115_200, 9_600, 57_600, 38_400, 19_200, 230_400, 250_000, 500_000, 1_000_000, 921_600, 74_880, 2_000_000)
SCRAMBLED_LINES = 2  # in a row that make another speed worth a try
LONGEST_TRY_S = 1.5
AGAIN_EVERY_S = 0.4
MOST_ANSWERS = 64
GONE = "The port has disappeared; what came before it did is kept. It is looked for."


class Port(Struct, frozen=True):
    """A serial port of this machine."""

    device: str
    description: str


def ports() -> list[Port]:
    """The serial ports of this machine that have hardware behind them."""
    return [Port(p.device, p.description or p.device) for p in list_ports.comports() if p.hwid != "n/a"]


class Received(Struct, frozen=True):
    """What one look at the source brought.

    ``news`` says in words what happened to the line itself; ``level`` is its highest sample, as a part of full scale,
    where there are samples.
    """

    durations: tuple[Floats, ...] = ()
    hello: Hello | None = None
    scrambled: int = 0
    lost_lines: int = 0
    news: str = ""
    level: float | None = None


class Recorder(Struct):
    """An open port. ``poll`` is called again and again; it waits a little for something to come.

    Where nothing but scrambled text comes, other speeds are tried in turn; where the port disappears, it is opened
    again as soon as it is back.
    """

    device: str
    speed: int
    _port: serial.Serial | None
    _splitter: LineSplitter = field(default_factory=LineSplitter)
    _next: int | None = None
    _scrambled_in_a_row: int = 0
    _untried: list[int] = field(default_factory=list)
    _understood: bool = False
    _since: float = 0.0
    # To orders, as they come; where nobody asks, the last ones only.
    answers: deque[str] = field(default_factory=lambda: deque(maxlen=MOST_ANSWERS))
    hello: Hello | None = None

    @classmethod
    def open(cls, device: str, speed: int = SPEED) -> Recorder:
        """Open a port and ask who is there. Raises InputError."""
        try:
            port = serial.Serial(device, speed, timeout=0.05)
            recorder = cls(device, speed, port, _untried=[s for s in SPEEDS if s != speed], _since=time.monotonic())
            port.write(IDENTIFY)
        except (serial.SerialException, OSError, ValueError) as error:
            raise InputError(device, _why(error)) from None
        return recorder

    def poll(self) -> Received:
        """What has come since the last call."""
        if self._port is None:
            return self._look_for_it()
        try:
            data = self._port.read(1)
            data += self._port.read(self._port.in_waiting)
        except (serial.SerialException, OSError, TypeError):
            self.close()
            silence = np.array([-UNKNOWN_SILENCE_US])  # so that what came last is read
            return Received((silence,), news=GONE)
        received = self._decoded(data)
        if received.durations or received.hello is not None:
            self._scrambled_in_a_row = 0
            if not self._understood:
                self._understood = True
                if self.speed != SPEED:
                    return Received(
                        received.durations, received.hello, 0, received.lost_lines,
                        f"The text was scrambled at {SPEED:,} baud; {self.speed:,} fits and is used from here on.",
                    )  # fmt: skip
            return received
        self._scrambled_in_a_row += received.scrambled
        waited = time.monotonic() - self._since > LONGEST_TRY_S
        trying = self.speed != SPEED and not self._understood
        if self._scrambled_in_a_row >= SCRAMBLED_LINES or (trying and waited and self._scrambled_in_a_row):
            return self._try_another_speed(received)
        return received

    def _decoded(self, data: bytes) -> Received:
        durations: list[Floats] = []
        hello, scrambled, lost = None, 0, 0
        for line in self._splitter.feed(data):
            match decode_line(line):
                case Durations(signed_us, number):
                    if number is not None and self._next is not None and (number + 1) % 256 == self._next:
                        continue  # the line before, said twice
                    if number is not None:
                        lost += (number - self._next) % 256 if self._next is not None else 0
                        self._next = (number + 1) % 256
                    durations.append(signed_us)
                case Hello() as found:
                    hello = self.hello = found
                    if self._next is not None:  # it was reset: it counts anew, and what it heard meanwhile is not known
                        self._next = None
                        durations.append(np.array([-UNKNOWN_SILENCE_US]))
                case Remark(text):
                    self.answers.append(text)
                case Scrambled():
                    scrambled += 1
        return Received(tuple(durations), hello, scrambled, lost)

    def _try_another_speed(self, received: Received) -> Received:
        assert self._port is not None
        self._scrambled_in_a_row = 0
        if self._understood or not self._untried:
            return received
        self.speed, *self._untried = self._untried
        self._splitter, self._since = LineSplitter(), time.monotonic()
        try:
            self._port.baudrate = self.speed
            self._port.reset_input_buffer()
            self._port.write(b"\n" + IDENTIFY)
        except (serial.SerialException, OSError, ValueError):
            return self._try_another_speed(received)
        left = "" if self._untried else " That is the last one known here: is this a recorder at all?"
        return Received(
            scrambled=received.scrambled,
            news=f"The text is scrambled, so the speed is wrong; {self.speed:,} baud is tried now. Press a key.{left}",
        )

    def _look_for_it(self) -> Received:
        time.sleep(AGAIN_EVERY_S)
        try:
            self._port = serial.Serial(self.device, self.speed, timeout=0.05)
            self._port.write(IDENTIFY)
        except (serial.SerialException, OSError, ValueError):
            self._port = None
            return Received()
        self._splitter, self._next = LineSplitter(), None
        return Received(news="The port is back; listening goes on.")

    def write(self, text: str) -> None:
        """Send a line. Raises InputError where the port is gone."""
        try:
            if self._port is None:
                raise OSError
            self._port.write((text + "\n").encode("ascii"))
        except (serial.SerialException, OSError, TypeError):
            raise InputError(self.device, "the port has disappeared, and with it the board") from None

    def close(self) -> None:
        if self._port is not None:
            self._port.close()
            self._port = None


def _why(error: Exception) -> str:
    number = getattr(error, "errno", None)
    if number == 2:
        return "there is no such port; is the recorder plugged in?"
    if number == 13:
        return "may not be opened by this user (on Debian, members of the group dialout may)"
    if number == 16:
        return "is in use by another program"
    return f"cannot be opened ({str(error).split(':')[0]})"
