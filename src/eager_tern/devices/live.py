"""Everything that can be listened to, behind one door."""

from __future__ import annotations

from typing import Protocol

from eager_tern.devices.lirc import LircDevice, lirc_devices
from eager_tern.devices.serial_port import Port, Received, Recorder, ports


class LiveDevice(Protocol):
    """An open source of durations."""

    device: str

    def poll(self) -> Received: ...

    def close(self) -> None: ...


def live_devices() -> list[Port]:
    """The serial ports and infrared devices of this machine."""
    return [*ports(), *lirc_devices()]


def open_live(device: str) -> LiveDevice:
    """Open a source by its device. Raises InputError."""
    return LircDevice.open(device) if "lirc" in device.rsplit("/", 1)[-1] else Recorder.open(device)
