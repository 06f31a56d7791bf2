"""Everything that can be sent to, behind one door."""

from __future__ import annotations

import stat
from pathlib import Path

from eager_tern.devices.board import BoardTarget
from eager_tern.devices.lirc import LircTarget, lirc_devices
from eager_tern.devices.serial_port import Port, ports
from eager_tern.devices.sound import is_sound
from eager_tern.devices.sound_output import SoundTarget, sound_outputs
from eager_tern.devices.targets import FileTarget, Target


def live_targets() -> list[Port]:
    """The serial ports, infrared devices and sound outputs of this machine."""
    return [*ports(), *lirc_devices(), *sound_outputs()]


def open_sender(target_id: str) -> Target:
    """A device or a file by its name. Raises InputError."""
    if is_sound(target_id):
        return SoundTarget.open(target_id)
    if "lirc" in target_id.rsplit("/", 1)[-1]:
        return LircTarget.open(target_id)
    path = Path(target_id)
    if target_id.startswith("/dev/") or (path.exists() and stat.S_ISCHR(path.stat().st_mode)):
        return BoardTarget.open(target_id)
    return FileTarget.open(path)
