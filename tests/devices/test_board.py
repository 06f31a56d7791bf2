"""A board as a transmitter at a pseudo-terminal: the firmware's own core behind it, and boards that misbehave."""

from __future__ import annotations

import os
import pty
import select
import subprocess
import threading
import time
import tty
from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest

from eager_tern.devices import board as board_module
from eager_tern.devices.board import BoardTarget
from eager_tern.devices.line_protocol import checksum
from eager_tern.errors import InputError
from tests.firmware.build import built
from tests.handsets import join, nec, sony

NEVER = lambda: False  # noqa: E731


@pytest.fixture(scope="module")
def firmware(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return built(tmp_path_factory.mktemp("firmware"), "board")


@pytest.fixture
def real(firmware: Path, tmp_path: Path) -> Iterator[tuple[str, Path]]:
    """The port of the firmware, and the log of its pin."""
    line, other = pty.openpty()
    tty.setraw(other)
    tty.setraw(line)
    log = tmp_path / "pin"
    process = subprocess.Popen([str(firmware), str(log), "heard"], stdin=line, stdout=line)
    yield os.ttyname(other), log
    process.terminate()
    process.wait()
    os.close(line)
    os.close(other)


def on_the_pin(log: Path) -> list[np.ndarray]:
    return [np.array(row.split()[1:], float) / 1000 for row in log.read_text().splitlines()]


def frames_of(signed: list[float], count: int) -> list[np.ndarray]:
    whole = join(signed)
    size = whole.size // count
    return [whole[i * size : (i + 1) * size] for i in range(count)]


def test_a_long_frame_goes_out_whole(real: tuple[str, Path], rng: np.random.Generator) -> None:
    port, log = real
    frame = np.round(rng.uniform(400, 1800, 372)) * np.where(np.arange(372) % 2, -1, 1)
    frame[-1] = -80_000
    target = BoardTarget.open(port)
    assert target.version == 2
    assert target.send([frame], 38_000, NEVER).frames == 1
    target.close()
    (pin,) = on_the_pin(log)
    assert pin.size == 371
    assert np.abs(np.cumsum(np.abs(pin)) - np.cumsum(np.abs(frame[:-1]))).max() < 40  # µs: marks in whole cycles


def test_a_hold_is_repeated_by_the_board(real: tuple[str, Path]) -> None:
    port, log = real
    first, repeat = np.array(nec(1, 2)), np.array([9000.0, -2250.0, 562.5, -96_187.5])
    target = BoardTarget.open(port)
    assert target.send([first, repeat, repeat, repeat], 38_000, NEVER).frames == 4
    target.close()
    (pin,) = on_the_pin(log)
    assert pin.size == 67 + 1 + 3 * 4 - 1
    starts = np.concatenate(([0.0], np.cumsum(np.abs(pin))))[[0, 68, 72, 76]]
    assert np.diff(starts) == pytest.approx([108_000] * 3, abs=60)


def test_what_was_sent_is_heard_at_the_same_port(real: tuple[str, Path]) -> None:
    port, _ = real
    target = BoardTarget.open(port)
    recorder, over = target.heard_by_others(), threading.Event()
    heard: list[np.ndarray] = []

    def listen() -> None:
        while not over.is_set():
            heard.extend(recorder.poll().durations)

    thread = threading.Thread(target=listen)
    thread.start()
    target.send(frames_of(sony(50, 21, 3), 3), None, NEVER)
    time.sleep(0.4)
    over.set()
    thread.join()
    target.close()
    signed = np.concatenate(heard)
    assert signed[0] == pytest.approx(2400, abs=30)
    assert np.count_nonzero(np.abs(signed - 2400) < 30) == 3


def test_radio_has_no_carrier_and_impossible_ones_are_said_before(real: tuple[str, Path]) -> None:
    port, _ = real
    target = BoardTarget.open(port)
    frame = np.array([350.0, -1050.0, 350.0])
    assert not target.cannot([frame], 0)
    assert "30 to 60 kHz, and none of 455 kHz" in target.cannot([frame], 455_000)
    target.close()


def test_a_press_that_is_too_long_for_the_memory_is_refused(real: tuple[str, Path]) -> None:
    port, _ = real
    target = BoardTarget.open(port)
    with pytest.raises(InputError, match="its memory takes 420 pulses of a press, this one has 500"):
        target.send([np.array([500.0, -500.0] * 250)], 38_000, NEVER)
    target.close()


class Board:
    """A board in Python that may be slow, deaf, wrong or gone."""

    def __init__(
        self, answer: Callable[[str, int], list[str]], hello: str = "# tern-recorder 2 tick 4 us, odd"
    ) -> None:
        self.line, self.other = pty.openpty()
        tty.setraw(self.other)
        self.port = os.ttyname(self.other)
        self.got: list[str] = []
        self._answer, self._hello = answer, hello
        self._closing = threading.Event()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self) -> None:
        rest = b""
        try:
            while not self._closing.is_set():
                if not select.select([self.line], [], [], 0.02)[0]:
                    continue
                data = os.read(self.line, 512)
                *lines, rest = (rest + data).split(b"\n")
                for line in lines:
                    text = line.decode()
                    if text == "?":
                        said = [f"{self._hello} # {checksum(self._hello):02x}"] if self._hello else []
                    else:
                        self.got.append(text)
                        said = self._answer(text, self.got.count(text))
                    for one in said:
                        os.write(self.line, (one + "\n").encode())
        except OSError:
            return

    def close(self) -> None:
        self._closing.set()
        self._thread.join()  # or it would answer for the next board, whose line may have the same number
        os.close(self.other)
        os.close(self.line)


def obliging(text: str, _: int) -> list[str]:
    verb = text.split()[0]
    if verb == ".":
        return [f"# got {text.split()[1]}"]
    return {"load": ["# ready 420"], "again": ["# ready 420"], "go": ["# said 1", "# sent"]}.get(verb, [])


@pytest.fixture(autouse=True)
def impatient(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(board_module, "ANSWER_S", 0.2)
    monkeypatch.setattr(board_module, "STARTS_IN_S", 1.0)


FRAME = [np.array([9000.0, -4500.0, 560.0, -40_000.0])]


def test_a_piece_that_was_not_understood_is_said_again() -> None:
    def answer(text: str, times: int) -> list[str]:
        if text.startswith(". 0") and times < 3:
            return ["# again 0"] if times == 1 else []
        return obliging(text, times)

    board = Board(answer)
    target = BoardTarget.open(board.port)
    assert target.send(FRAME, 38_000, NEVER).frames == 1
    assert sum(text.startswith(". 0") for text in board.got) == 3
    target.close()
    board.close()


@pytest.mark.parametrize(
    ("answer", "words"),
    [
        (lambda text, _: [], 'does not answer to "load'),
        (lambda text, _: ["# purple 7"], 'does not answer to "load'),
        (lambda text, n: ["# again 0"] if text[0] == "." else obliging(text, n), "did not understand piece 0"),
        (lambda text, n: ["# full 9"] if text[0] == "." else obliging(text, n), "its memory is full after 9 pulses"),
        (lambda text, _: ["# cannot make this carrier"], "the board says: cannot make this carrier"),
        (lambda text, n: ["# said 1"] if text[:2] == "go" else obliging(text, n), "1 of 1 are sure"),
    ],
)
def test_a_board_that_misbehaves_is_told_of(answer: Callable[[str, int], list[str]], words: str) -> None:
    board = Board(answer)
    target = BoardTarget.open(board.port)
    with pytest.raises(InputError, match=words):
        target.send(FRAME, 38_000, NEVER)
    target.close()
    board.close()


def test_nobody_answers() -> None:
    board = Board(lambda text, _: [], hello="")
    with pytest.raises(InputError, match="nobody answers as a recorder board does"):
        BoardTarget.open(board.port)
    board.close()


def test_a_board_of_version_1_gets_a_frame_in_one_order() -> None:
    board = Board(lambda text, _: ["# sent"], hello="# tern-recorder 1 tick 4 us, old")
    target = BoardTarget.open(board.port)
    assert target.send(FRAME * 2, 40_000, NEVER).frames == 2
    assert board.got == ["! 40000 +9000 -4500 +560 # " + f"{checksum('! 40000 +9000 -4500 +560'):02x}"] * 2
    assert "cannot send without a carrier" in target.cannot(FRAME, 0)
    assert "takes 160 pulses a frame, this one has 200" in target.cannot([np.array([5.0, -5.0] * 100)], None)
    target.close()
    board.close()


def test_stop_is_said_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    began: list[float] = []

    def answer(text: str, n: int) -> list[str]:
        if text[:2] == "go":
            began.append(time.monotonic())
            return ["# said 1"]
        return ["# stopped"] if text == "stop" else obliging(text, n)

    monkeypatch.setattr(board_module, "STARTS_IN_S", 10.0)  # a busy machine may be late in greeting
    board = Board(answer)
    target = BoardTarget.open(board.port)
    long = [np.array([9000.0, -4500.0, 560.0, -400_000.0])] * 20
    assert target.send(long, 38_000, lambda: bool(began) and time.monotonic() - began[0] > 0.3).frames == 1
    assert time.monotonic() - began[0] < 2
    assert "stop" in board.got
    target.close()
    board.close()


def test_a_port_that_goes_is_told() -> None:
    board = Board(obliging)
    target = BoardTarget.open(board.port)
    board.close()
    with pytest.raises(InputError, match="the port has disappeared"):
        target.send(FRAME, 38_000, NEVER)
    target.close()
