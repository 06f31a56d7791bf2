"""Whatever can send: one shape for boards, the kernel's device, sound, files and simulated gadgets."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Protocol

import numpy as np
from msgspec import Struct, field

from eager_tern.errors import InputError
from eager_tern.formats.registry import write_pulses, writer_of
from eager_tern.signal.values import Floats, pulses_from_signed

USUAL_CARRIER_HZ = 38_000  # what most receivers are made for, and what drivers send with that cannot change it
DUTY_PERCENT = 33  # what receivers and diodes are made for
LOOK_S = 0.02  # how often it is asked whether to stop


class Went(Struct, frozen=True):
    """How many frames went out whole, and what a simulated gadget did (None: nothing, and ``why`` not)."""

    frames: int
    obeyed: Mapping[str, object] | None = None
    why: str = ""


class Target(Protocol):
    """An open target. Frames are signed durations (µs), each with the silence behind it."""

    @property
    def id(self) -> str: ...

    def cannot(self, frames: Sequence[Floats], carrier_hz: float | None) -> str:
        """Why these frames cannot be sent; empty where they can."""
        ...

    def send(self, frames: Sequence[Floats], carrier_hz: float | None, stopped: Callable[[], bool]) -> Went:
        """Send frames and wait until they are out, the silence behind the last one not included. Raises InputError."""
        ...

    def rest(self, seconds: float, stopped: Callable[[], bool]) -> None:
        """Be silent for so long, or until it is stopped."""
        ...

    def now_s(self) -> float:
        """The target's clock."""
        ...

    def close(self) -> None:
        """Be silent and let go of it. A file is written now. Raises InputError."""
        ...


def wait(seconds: float, stopped: Callable[[], bool]) -> None:
    """Wait, or until it is stopped."""
    until = time.monotonic() + seconds
    while (left := until - time.monotonic()) > 0 and not stopped():
        time.sleep(min(left, LOOK_S))


class RealTime(Struct):
    """What all targets have in common that speak in their own time."""

    def rest(self, seconds: float, stopped: Callable[[], bool]) -> None:
        wait(seconds, stopped)

    def now_s(self) -> float:
        return time.monotonic()


def length_s(frame: Floats) -> float:
    """How long a frame takes, the silence behind it included."""
    return float(np.abs(frame).sum()) / 1e6


class FileTarget(Struct):
    """A file of any format that can be written: it gets everything that is said, with the silences between."""

    path: Path
    _signed: list[Floats] = field(default_factory=list)
    _now_us: float = 0.0
    _carriers: set[float | None] = field(default_factory=set)

    @classmethod
    def open(cls, path: Path) -> FileTarget:
        """Raises InputError where no format writes such a file."""
        writer_of(path)
        if not path.absolute().parent.is_dir():
            raise InputError(path, "its folder does not exist")
        return cls(path)

    @property
    def id(self) -> str:
        return str(self.path)

    def cannot(self, frames: Sequence[Floats], carrier_hz: float | None) -> str:
        return ""

    def send(self, frames: Sequence[Floats], carrier_hz: float | None, stopped: Callable[[], bool]) -> Went:
        self._signed += [*frames[:-1], frames[-1][:-1]]
        self._now_us += sum(float(np.abs(frame).sum()) for frame in self._signed[-len(frames) :])
        self._carriers.add(carrier_hz)
        return Went(len(frames))

    def rest(self, seconds: float, stopped: Callable[[], bool]) -> None:
        if seconds > 0:
            self._signed.append(np.array([-seconds * 1e6]))
            self._now_us += seconds * 1e6

    def now_s(self) -> float:
        return self._now_us / 1e6

    def close(self) -> None:
        if not self._signed:
            return
        carrier = next(iter(self._carriers)) if len(self._carriers) == 1 else None
        write_pulses(self.path, pulses_from_signed(np.concatenate(self._signed), 0.0, carrier))
