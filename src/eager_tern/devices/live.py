"""Everything that can be listened to, behind one door."""

from __future__ import annotations

from typing import Protocol

from eager_tern.devices.lirc import LircDevice, lirc_devices
from eager_tern.devices.serial_port import Port, Received, Recorder, ports
from eager_tern.devices.sound import SoundInput, is_sound, sound_inputs


class LiveDevice(Protocol):
    """An open source of durations."""

    device: str

    def poll(self) -> Received: ...

    def close(self) -> None: ...


def live_devices() -> list[Port]:
    """The serial ports, infrared devices and sound inputs of this machine."""
    return [*ports(), *lirc_devices(), *sound_inputs()]


def open_live(device: str) -> LiveDevice:
    """Open a source by its device. Raises InputError."""
    if is_sound(device):
        return SoundInput.open(device)
    return LircDevice.open(device) if "lirc" in device.rsplit("/", 1)[-1] else Recorder.open(device)
