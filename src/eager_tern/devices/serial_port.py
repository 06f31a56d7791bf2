"""A recorder at a serial port."""

from __future__ import annotations

from dataclasses import dataclass, field

import serial
from serial.tools import list_ports

from eager_tern.devices.line_protocol import IDENTIFY, Durations, Hello, LineSplitter, Scrambled, decode_line
from eager_tern.errors import InputError
from eager_tern.signal.values import Floats

SPEED = 115_200


@dataclass(frozen=True)
class Port:
    """A serial port of this machine."""

    device: str
    description: str


def ports() -> list[Port]:
    """The serial ports of this machine that have hardware behind them."""
    return [Port(p.device, p.description or p.device) for p in list_ports.comports() if p.hwid != "n/a"]


@dataclass(frozen=True)
class Received:
    """What one look at the port brought."""

    durations: tuple[Floats, ...] = ()
    hello: Hello | None = None
    scrambled: int = 0
    lost_lines: int = 0


@dataclass
class Recorder:
    """An open port. ``poll`` is called again and again; it waits a little for something to come."""

    device: str
    _port: serial.Serial
    _splitter: LineSplitter = field(default_factory=LineSplitter)
    _next: int | None = None

    @classmethod
    def open(cls, device: str, speed: int = SPEED) -> Recorder:
        """Open a port and ask who is there. Raises InputError."""
        try:
            port = serial.Serial(device, speed, timeout=0.05)
            recorder = cls(device, port)
            port.write(IDENTIFY)
        except (serial.SerialException, OSError, ValueError) as error:
            raise InputError(device, _why(error)) from None
        return recorder

    def poll(self) -> Received:
        """What has come since the last call. Raises InputError where the port is gone."""
        try:
            data = self._port.read(1)
            data += self._port.read(self._port.in_waiting)
        except (serial.SerialException, OSError, TypeError) as error:
            raise InputError(self.device, _why(error, gone=True)) from None
        durations: list[Floats] = []
        hello, scrambled, lost = None, 0, 0
        for line in self._splitter.feed(data):
            match decode_line(line):
                case Durations(signed_us, number):
                    if number is not None:
                        lost += (number - self._next) % 256 if self._next is not None else 0
                        self._next = (number + 1) % 256
                    durations.append(signed_us)
                case Hello() as found:
                    hello = found
                case Scrambled():
                    scrambled += 1
        return Received(tuple(durations), hello, scrambled, lost)

    def close(self) -> None:
        self._port.close()


def _why(error: Exception, gone: bool = False) -> str:
    if gone:
        return "the port has disappeared; what came before it did is kept"
    number = getattr(error, "errno", None)
    if number == 2:
        return "there is no such port; is the recorder plugged in?"
    if number == 13:
        return "may not be opened by this user (on Debian, members of the group dialout may)"
    if number == 16:
        return "is in use by another program"
    return f"cannot be opened ({str(error).split(':')[0]})"
