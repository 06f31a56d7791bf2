"""The kernel's infrared device, by a pipe that carries its samples."""

from __future__ import annotations

import os
import struct
import threading
from pathlib import Path

import numpy as np
import pytest

from eager_tern.devices.lirc import CAN_SEND_PULSE, LircDevice, LircTarget, decode_samples, lirc_devices
from eager_tern.devices.live import open_live
from eager_tern.errors import InputError
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import join, nec


def words_of(signed: list[float]) -> bytes:
    return b"".join(struct.pack("I", (0x01000000 if d > 0 else 0) | round(abs(d))) for d in signed)


def test_samples_become_durations_carrier_and_overflows() -> None:
    words = np.array([0x01002328, 0x00001194, 0x02000000 | 38000, 0x03000000 | 50000, 0x04000000], np.uint32)
    signed, carriers, overflows = decode_samples(words)
    assert signed.tolist() == [9000, -4500, -50000]
    assert carriers == [38000]
    assert overflows == 1


def test_a_press_is_received(tmp_path: Path) -> None:
    path = tmp_path / "lirc0"
    os.mkfifo(path)
    device = open_live(str(path))
    assert isinstance(device, LircDevice)
    writer = os.open(path, os.O_WRONLY)
    data = words_of(join([-30_000, *nec(0x5B, 0x16), -60_000]).tolist())
    parts = []
    for piece in (data[:7], data[7:]):  # a sample may come in two reads
        os.write(writer, piece)
        parts += device.poll().durations
    signed = np.concatenate(parts)
    (press,) = read_pulses(pulses_from_signed(signed), library()).presses
    assert press.lead.best is not None
    assert press.lead.best.fields == {"address": 0x5B, "command": 0x16}
    assert device.poll().durations == ()
    os.close(writer)
    with pytest.raises(InputError, match="has ended; what came before it did is kept"):
        device.poll()
    device.close()


def test_a_frame_is_sent_as_pulses_and_spaces(tmp_path: Path) -> None:
    path = tmp_path / "lirc1"
    os.mkfifo(path)
    got: list[bytes] = []
    reader = threading.Thread(target=lambda: got.append(path.read_bytes()))
    reader.start()
    target = LircTarget.open(str(path))
    frame = np.array([9000.0, -4500.4, 560.0, -20_000.0])
    went = target.send([frame, frame], 38_000, lambda: False)
    target.close()
    reader.join(2)
    assert went.frames == 2
    assert np.frombuffer(got[0], np.uint32).tolist() == [9000, 4500, 560] * 2  # a frame at a time, without its silence


def test_what_a_driver_cannot_do_is_said_before() -> None:
    target = LircTarget("/dev/lirc0", CAN_SEND_PULSE, -1)
    long = np.array([500.0, -500.0] * 600)
    assert "1023 pulses at a time, this frame has 1200" in target.cannot([long], 38_000)
    assert "cannot change the carrier to 56 kHz" in target.cannot([long[:10]], 56_000)
    assert not target.cannot([long[:10]], None)


def test_devices_are_listed_and_missing_ones_told(tmp_path: Path) -> None:
    (tmp_path / "lirc3").touch()
    (tmp_path / "other").touch()
    assert [port.device for port in lirc_devices(tmp_path)] == [str(tmp_path / "lirc3")]
    with pytest.raises(InputError, match="no such device"):
        LircDevice.open(str(tmp_path / "lirc9"))
    with pytest.raises(InputError, match="no such device"):
        LircTarget.open(str(tmp_path / "lirc9"))
