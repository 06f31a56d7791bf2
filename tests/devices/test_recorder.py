"""The stand-in behind a real pseudo-terminal, read with pyserial as any port."""

from __future__ import annotations

import os
import pty
import time
import tty
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest

from eager_tern.devices.board import BoardTarget
from eager_tern.devices.line_protocol import Durations, decode_line, encode_durations, encode_hello
from eager_tern.devices.serial_port import Received, Recorder, ports
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.devices.simulated.recorder import Impairment, StandIn, impair
from eager_tern.errors import InputError
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import join, nec, sony


@pytest.fixture
def stand_in() -> Iterator[StandInProcess]:
    process = StandInProcess(speed=6.0, seed=3)
    yield process
    process.stop()


def listen(recorder: Recorder, seconds: float, enough: Callable[[Received], bool] = lambda _: False) -> list[Received]:
    """What comes within so many seconds, or until something has come that is enough."""
    until = time.monotonic() + seconds
    received = []
    while time.monotonic() < until:
        received.append(recorder.poll())
        if enough(received[-1]):
            break
    return received


def until_heard(pulses: int) -> Callable[[Received], bool]:
    """For ``listen``: whether so many pulses have come. A busy machine takes its time for them."""
    heard = 0

    def enough(received: Received) -> bool:
        nonlocal heard
        heard += sum(part.size for part in received.durations)
        return heard >= pulses

    return enough


def test_a_hold_arrives_as_it_was_sent(stand_in: StandInProcess) -> None:
    recorder = Recorder.open(stand_in.device)
    frames = nec(0x5B, 0x16, 1)
    stand_in.down(frames[:68], frames[68:])
    received = listen(recorder, 8.0, until_heard(80))  # the frame and three repeats
    stand_in.up()
    received += listen(recorder, 0.5)
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
    received = listen(recorder, 8.0, until_heard(2 * len(frame) + 1)) + listen(recorder, 0.5)
    signed = np.concatenate([part for r in received for part in r.durations])
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


def test_a_pulled_cable_is_said_and_survived(tmp_path: Path, stand_in: StandInProcess) -> None:
    port = tmp_path / "port"
    port.symlink_to(stand_in.device)
    recorder = Recorder.open(str(port))
    listen(recorder, 0.1)
    stand_in.stop()
    assert any("has disappeared; what came before it did is kept" in r.news for r in listen(recorder, 0.5))
    with pytest.raises(InputError, match="has stopped"):
        stand_in.up()
    again = StandInProcess(speed=6.0, seed=4)
    port.unlink()
    port.symlink_to(again.device)
    try:
        news = [r.news for r in listen(recorder, 8.0, lambda r: "is back" in r.news) if r.news]
        assert news[-1] == "The port is back; listening goes on."
        frame = join(sony(50, 21, 1)).tolist()
        again.down(frame, frame, 3)
        again.up()
        assert any(r.durations for r in listen(recorder, 8.0, lambda r: bool(r.durations)))
    finally:
        recorder.close()
        again.stop()


def test_a_wrong_speed_is_noticed_and_the_right_one_found() -> None:
    slow = StandInProcess(speed=6.0, seed=3, baud=57_600)
    recorder = Recorder.open(slow.device)
    frame = join(sony(50, 21, 1)).tolist()
    try:
        slow.down(frame, frame, 3)
        slow.up()
        news = [r.news for r in listen(recorder, 8.0, lambda r: "is tried" in r.news) if r.news]
        slow.down(frame, frame, 3)
        slow.up()
        received = listen(recorder, 8.0, lambda r: bool(r.durations))
    finally:
        recorder.close()
        slow.stop()
    assert "scrambled, so the speed is wrong" in news[0]
    assert any("57,600 fits" in word for word in [*news, *(r.news for r in received)])
    assert recorder.speed == 57_600
    assert any(r.durations for r in received)


@pytest.mark.parametrize(
    ("line", "durations"),
    [
        ("9000, 4500, 560, 1690, 560", [9000, -4500, 560, -1690, 560, -200_000]),
        ("raw: 9000 4500 560 1690 560", [9000, -4500, 560, -1690, 560, -200_000]),
        ("mark 9000", [9000]),
        ("space 4500", [-4500]),
    ],
)
def test_a_sketch_of_ones_own_is_understood(line: str, durations: list[float]) -> None:
    decoded = decode_line(line)
    assert isinstance(decoded, Durations)
    assert decoded.signed_us.tolist() == durations


def test_words_of_a_sketch_are_passed_over() -> None:
    assert decode_line("Ready, press a key.") is None


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


def test_a_recorder_that_is_reset_has_lost_no_lines() -> None:
    ours, theirs = pty.openpty()
    tty.setraw(theirs)
    recorder = Recorder.open(os.ttyname(theirs))
    frame = nec(1, 2)
    pieces = [np.array(frame[:20]), np.array([*frame, -200_000.0])]
    for line in (
        encode_durations(pieces[0], 0),
        "\x00\xff boot",
        encode_hello("board", 4),
        encode_durations(pieces[1], 0),
    ):
        os.write(ours, line.encode("latin-1") + b"\n")
    received = listen(recorder, 0.3)
    recorder.close()
    os.close(ours)
    os.close(theirs)
    assert sum(r.lost_lines for r in received) == 0
    signed = np.concatenate([part for r in received for part in r.durations])
    (press,) = read_pulses(pulses_from_signed(signed), library()).presses
    assert press.frames[0].reading.fields == {"address": 1, "command": 2}


def test_the_machines_ports_can_be_listed() -> None:
    assert all(port.device for port in ports())


def test_impairments_are_what_they_say(rng: np.random.Generator) -> None:
    sent = np.array([600.0, -600.0] * 2000)
    seen = impair(sent, Impairment(jitter_us=20, excess_us=45, clock=1.02), rng)
    assert np.mean(seen[::2]) == pytest.approx(600 * 1.02 + 45, abs=2)
    assert np.mean(-seen[1::2]) == pytest.approx(600 * 1.02 - 45, abs=2)
    assert np.std(seen[::2]) == pytest.approx(20 * np.sqrt(2), rel=0.1)


def test_the_stand_in_sends_and_hears_itself() -> None:
    process = StandInProcess(speed=4.0, seed=3)
    target = BoardTarget.open(process.device)
    first, repeat = np.array(nec(0x5B, 0x16)), np.array([9000.0, -2250.0, 562.5, -96_187.5])
    try:
        assert target.send([first, repeat, repeat], 38_000, lambda: False).frames == 3
        assert "none of 455 kHz" in target.cannot([first], 455_000)
        heard = [part for r in listen(target.recorder, 0.4) for part in r.durations]
    finally:
        target.close()
        process.stop()
    # What came while it answered was polled by the target; the last of it is still there, or nothing is.
    assert all(np.abs(part).min() > 0 for part in heard)


def test_a_busy_machine_makes_no_rest_within_a_press_longer(monkeypatch: pytest.MonkeyPatch) -> None:
    """A handset keeps its time, whenever the process that stands in for it gets its turn."""
    told: list[np.ndarray] = []
    monkeypatch.setattr(StandIn, "_durations", lambda _self, signed_us: told.append(signed_us))
    monkeypatch.setattr(time, "sleep", lambda s, sleep=time.sleep: sleep(s + 0.03))
    device = StandIn(-1, 6.0, np.random.default_rng(4), Impairment())
    frame = join(sony(50, 21, 1))
    for _ in range(2):
        device.press(frame, frame, 3, lambda: False)
        time.sleep(0.3)
    presses = read_pulses(pulses_from_signed(np.concatenate(told)), library()).presses
    assert [len(press.frames) for press in presses] == [3, 3]
    rests = [b.pulses.start_us - a.pulses.end_us for p in presses for a, b in zip(p.frames, p.frames[1:], strict=False)]
    assert max(rests) - min(rests) < 200


def test_a_busy_machine_brings_no_two_presses_nearer(monkeypatch: pytest.MonkeyPatch) -> None:
    """Two keys pressed half a second apart are two presses, however late the stand-in gets its turn."""
    told: list[np.ndarray] = []
    monkeypatch.setattr(StandIn, "_durations", lambda _self, signed_us: told.append(signed_us))
    device = StandIn(-1, 6.0, np.random.default_rng(4), Impairment())
    frame = join(sony(50, 21, 1))
    ordered_s = time.monotonic()
    time.sleep(0.3)  # the machine is busy
    for number in range(2):
        device.press(frame, frame, 3, lambda: False, ordered_s + number * 0.3)
    presses = read_pulses(pulses_from_signed(np.concatenate(told)), library()).presses
    assert [len(press.frames) for press in presses] == [3, 3]
    first, second = (press.frames[0].pulses for press in presses)
    assert second.start_us - first.start_us == pytest.approx(0.3 * 6.0 * 1e6, abs=50_000)
