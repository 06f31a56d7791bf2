"""The kernel's infrared device, /dev/lirc*: its documented ioctls and 32-bit samples (linux/lirc.h)."""

from __future__ import annotations

import fcntl
import os
import select
import struct
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from msgspec import Struct, field

from eager_tern.devices.serial_port import Port, Received
from eager_tern.devices.targets import DUTY_PERCENT, USUAL_CARRIER_HZ, RealTime, Went, wait
from eager_tern.errors import InputError
from eager_tern.signal.values import Floats

# Kinds of sample, in the upper eight bits; the lower 24 are µs, or Hz.
SPACE, PULSE, FREQUENCY, TIMEOUT, OVERFLOW = 0x00, 0x01, 0x02, 0x03, 0x04
VALUE = 0x00FFFFFF

# ioctl numbers: direction, size of an unsigned 32-bit number, type "i", number.
GET_FEATURES = 0x80046900
SET_SEND_MODE, SET_REC_MODE = 0x40046911, 0x40046912
SET_SEND_CARRIER, SET_SEND_DUTY_CYCLE = 0x40046913, 0x40046915
SET_REC_TIMEOUT, SET_REC_TIMEOUT_REPORTS = 0x40046918, 0x40046919
SET_MEASURE_CARRIER_MODE = 0x4004691D
MODE_PULSE, MODE_MODE2 = 0x00000002, 0x00000004
CAN_SEND_PULSE, CAN_REC_MODE2 = 0x00000002, 0x00040000
CAN_SET_SEND_CARRIER, CAN_SET_SEND_DUTY_CYCLE = 0x00000100, 0x00000200
CAN_MEASURE_CARRIER = 0x02000000
TIMEOUT_US = 50_000
LONGEST_WAIT_S = 0.05
# What the kernel's drivers take at once: LIRCBUF_SIZE of drivers/media/rc, and half a second of IR_MAX_DURATION.
MOST_SENT, LONGEST_SENT_US = 1023, 500_000.0


def lirc_devices(folder: Path = Path("/dev")) -> list[Port]:
    """The kernel's infrared devices of this machine."""
    return [Port(str(path), "infrared device of the kernel") for path in sorted(folder.glob("lirc[0-9]*"))]


def decode_samples(words: np.ndarray) -> tuple[Floats, list[float], int]:
    """Signed durations (µs), the carrier reports (Hz) and the number of overflows in samples, dtype uint32."""
    kinds, values = words >> 24, (words & VALUE).astype(np.float64)
    timed = np.isin(kinds, (SPACE, PULSE, TIMEOUT)) & (values > 0)
    signed = np.where(kinds == PULSE, values, -values)[timed]
    return signed, values[kinds == FREQUENCY].tolist(), int(np.sum(kinds == OVERFLOW))


class LircDevice(Struct):
    """An open infrared device. ``poll`` is that of a recorder; ``carrier_hz`` is what it last measured."""

    device: str
    features: int | None
    _file: int
    _rest: bytes = b""
    carrier_hz: float | None = field(default=None)

    @classmethod
    def open(cls, device: str) -> LircDevice:
        """Open for receiving raw timings. Raises InputError."""
        try:
            file = os.open(device, os.O_RDONLY | os.O_NONBLOCK)
        except OSError as error:
            raise InputError(device, _why(error)) from None
        features = _ask(file, GET_FEATURES)
        if features is not None and not features & CAN_REC_MODE2:
            os.close(file)
            raise InputError(device, "cannot give raw timings, only key codes")
        _tell(file, SET_REC_MODE, MODE_MODE2)
        _tell(file, SET_REC_TIMEOUT, TIMEOUT_US)
        _tell(file, SET_REC_TIMEOUT_REPORTS, 1)
        if features is not None and features & CAN_MEASURE_CARRIER:
            _tell(file, SET_MEASURE_CARRIER_MODE, 1)
        return cls(device, features, file)

    def poll(self) -> Received:
        """What has come since the last call. Raises InputError where the device is gone."""
        ready, _, _ = select.select([self._file], [], [], LONGEST_WAIT_S)
        if not ready:
            return Received()
        try:
            data = self._rest + os.read(self._file, 4096)
        except BlockingIOError:
            return Received()
        except OSError:
            raise InputError(self.device, "the device has disappeared; what came before it did is kept") from None
        if len(data) == len(self._rest):
            raise InputError(self.device, "the device has ended; what came before it did is kept")
        whole = len(data) // 4 * 4
        self._rest = data[whole:]
        signed, carriers, overflows = decode_samples(np.frombuffer(data[:whole], dtype=np.uint32))
        if carriers:
            self.carrier_hz = carriers[-1]
        news = "The device was too slow and lost pulses; the take shows a gap there." if overflows else ""
        return Received((signed,) if signed.size else (), news=news, lost_lines=overflows)

    def close(self) -> None:
        os.close(self._file)


class LircTarget(RealTime):
    """An infrared device that sends: a frame at a time, the driver waits until it is out."""

    id: str
    features: int | None
    _file: int

    @classmethod
    def open(cls, device: str) -> LircTarget:
        """Open for sending raw timings. Raises InputError."""
        try:
            file = os.open(device, os.O_WRONLY)
        except OSError as error:
            raise InputError(device, _why(error)) from None
        features = _ask(file, GET_FEATURES)
        if features is not None and not features & CAN_SEND_PULSE:
            os.close(file)
            raise InputError(device, "its driver receives only and cannot send")
        _tell(file, SET_SEND_MODE, MODE_PULSE)
        return cls(device, features, file)

    def cannot(self, frames: Sequence[Floats], carrier_hz: float | None) -> str:
        longest = max(frame.size for frame in frames)
        if longest > MOST_SENT:
            return f"its driver takes {MOST_SENT} pulses at a time, this frame has {longest}"
        if max(float(np.abs(frame[:-1]).sum()) for frame in frames) > LONGEST_SENT_US:
            return f"its driver takes frames of {LONGEST_SENT_US / 1e6:g} s at the most"
        usual = carrier_hz is None or round(carrier_hz) == USUAL_CARRIER_HZ
        if self.features is not None and not self.features & CAN_SET_SEND_CARRIER and not usual:
            return f"its driver cannot change the carrier to {(carrier_hz or 0) / 1000:g} kHz"
        return ""

    def send(self, frames: Sequence[Floats], carrier_hz: float | None, stopped: Callable[[], bool]) -> Went:
        if carrier_hz is not None:
            _tell(self._file, SET_SEND_CARRIER, round(carrier_hz))
        if self.features is not None and self.features & CAN_SET_SEND_DUTY_CYCLE:
            _tell(self._file, SET_SEND_DUTY_CYCLE, DUTY_PERCENT)
        went = 0
        for number, frame in enumerate(frames):
            if stopped():
                break
            begun = time.monotonic()
            marks = np.abs(frame if frame.size % 2 else frame[:-1])
            try:
                os.write(self._file, np.rint(marks).astype(np.uint32).tobytes())
            except OSError as error:
                raise InputError(self.id, f"did not take the frame ({error.strerror})") from None
            went += 1
            if number < len(frames) - 1:
                wait(float(np.abs(frame).sum()) / 1e6 - (time.monotonic() - begun), stopped)
        return Went(went)

    def close(self) -> None:
        os.close(self._file)


def _ask(file: int, request: int) -> int | None:
    """The device's answer, or None from a stand-in, which is a pipe and knows no requests."""
    buffer = bytearray(4)
    try:
        fcntl.ioctl(file, request, buffer)
    except OSError:
        return None
    return int(struct.unpack("I", buffer)[0])


def _tell(file: int, request: int, value: int) -> bool:
    """Whether the device took a setting; an older one may not know it."""
    try:
        fcntl.ioctl(file, request, struct.pack("I", value))
    except OSError:
        return False
    return True


def _why(error: OSError) -> str:
    if error.errno == 2:
        return "there is no such device; is the receiver plugged in?"
    if error.errno == 13:
        return "may not be opened by this user (on Debian, members of the group video may)"
    return f"cannot be opened ({error.strerror})"
