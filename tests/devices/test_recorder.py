"""The stand-in behind a real pseudo-terminal, read with pyserial as any port."""

from __future__ import annotations

import os
import pty
import time
import tty
from collections.abc import Iterator

import numpy as np
import pytest

from eager_tern.devices.line_protocol import encode_durations
from eager_tern.devices.serial_port import Received, Recorder, ports
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.devices.simulated.recorder import Impairment, impair
from eager_tern.errors import InputError
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import join, nec, sony


@pytest.fixture
def stand_in() -> Iterator[StandInProcess]:
    process = StandInProcess.start(speed=6.0, seed=3)
    yield process
    process.stop()


def listen(recorder: Recorder, seconds: float) -> list[Received]:
    until = time.monotonic() + seconds
    received = []
    while time.monotonic() < until:
        received.append(recorder.poll())
    return received


def test_a_hold_arrives_as_it_was_sent(stand_in: StandInProcess) -> None:
    recorder = Recorder.open(stand_in.device)
    frames = nec(0x5B, 0x16, 1)
    stand_in.down(frames[:68], frames[68:])
    time.sleep(0.1)
    stand_in.up()
    received = listen(recorder, 0.5)
    recorder.close()
    assert any(r.hello is not None and r.hello.name == "stand-in" for r in received)
    assert not any(r.scrambled or r.lost_lines for r in received)
    signed = np.concatenate([part for r in received for part in r.durations])
    (press,) = read_pulses(pulses_from_signed(signed), library()).presses
    assert press.lead.best is not None
    assert press.lead.best.fields == {"address": 0x5B, "command": 0x16}
    assert 3 <= len(press.frames) <= 9


def test_the_obligatory_frames_are_sent_for_a_tap(stand_in: StandInProcess) -> None:
    recorder = Recorder.open(stand_in.device)
    frame = join(sony(50, 21, 1)).tolist()
    stand_in.down(frame, frame, 3)
    stand_in.up()
    signed = np.concatenate([part for r in listen(recorder, 0.4) for part in r.durations])
    recorder.close()
    (press,) = read_pulses(pulses_from_signed(signed), library()).presses
    assert len(press.frames) == 3


def test_a_stray_is_a_lone_pulse(stand_in: StandInProcess) -> None:
    recorder = Recorder.open(stand_in.device)
    stand_in.stray()
    signed = np.concatenate([part for r in listen(recorder, 0.3) for part in r.durations])
    recorder.close()
    take = read_pulses(pulses_from_signed(signed), library())
    assert take.presses == ()
    assert len(take.noise) == 1


def test_a_port_that_disappears_is_said(stand_in: StandInProcess) -> None:
    recorder = Recorder.open(stand_in.device)
    listen(recorder, 0.1)
    stand_in.stop()
    with pytest.raises(InputError, match="has disappeared; what came before it did is kept"):
        listen(recorder, 1.0)
    recorder.close()
    with pytest.raises(InputError, match="has stopped"):
        stand_in.up()


@pytest.mark.parametrize(
    ("device", "words"), [("/dev/no-such-port", "no such port"), ("/etc/hostname", "cannot be opened")]
)
def test_a_port_that_cannot_be_opened_is_said(device: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        Recorder.open(device)


def test_lost_and_scrambled_lines_are_counted() -> None:
    ours, theirs = pty.openpty()
    tty.setraw(theirs)
    recorder = Recorder.open(os.ttyname(theirs))
    for number in (3, 4, 7, 8):
        os.write(ours, (encode_durations(np.array([500.0, -600.0]), number) + "\n").encode())
    os.write(ours, b"\x80\x13scrambled\n")
    received = listen(recorder, 0.3)
    recorder.close()
    os.close(ours)
    os.close(theirs)
    assert sum(r.lost_lines for r in received) == 2
    assert sum(r.scrambled for r in received) == 1
    assert sum(len(r.durations) for r in received) == 4


def test_the_machines_ports_can_be_listed() -> None:
    assert all(port.device for port in ports())


def test_impairments_are_what_they_say(rng: np.random.Generator) -> None:
    sent = np.array([600.0, -600.0] * 2000)
    seen = impair(sent, Impairment(jitter_us=20, excess_us=45, clock=1.02), rng)
    assert np.mean(seen[::2]) == pytest.approx(600 * 1.02 + 45, abs=2)
    assert np.mean(-seen[1::2]) == pytest.approx(600 * 1.02 - 45, abs=2)
    assert np.std(seen[::2]) == pytest.approx(20 * np.sqrt(2), rel=0.1)
