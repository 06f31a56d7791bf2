"""The recorder's firmware: its logic on this machine against the application's own line protocol, its 8-bit build."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import pytest

from eager_tern.devices.line_protocol import Durations, Hello, checksum, decode_line
from tests.firmware.build import FIRMWARE, STRICT, built


@pytest.fixture(scope="module")
def core(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return built(tmp_path_factory.mktemp("firmware"), "lines")


def said(core: Path, *lines: str) -> list[str]:
    done = subprocess.run([str(core)], input="\n".join(lines) + "\n", capture_output=True, text=True, check=True)
    return done.stdout.splitlines()


def order(text: str) -> str:
    return f"order {text} # {checksum(text):02x}"


def test_its_lines_are_understood(core: Path, rng: np.random.Generator) -> None:
    sent = [int(d) * (-1) ** i for i, d in enumerate(rng.integers(1, 100_000_000, 60))]
    decoded = [decode_line(line) for line in said(core, "put " + " ".join(map(str, sent)))]
    assert all(isinstance(line, Durations) for line in decoded)
    assert [line.number for line in decoded if isinstance(line, Durations)] == [0, 1, 2]
    assert np.concatenate([line.signed_us for line in decoded if isinstance(line, Durations)]).tolist() == sent


def test_it_says_who_it_is(core: Path) -> None:
    (line,) = said(core, "hello")
    assert decode_line(line) == Hello(2, 4, "host")
    assert said(core, "order ?") == ["1"]


def test_a_full_ring_says_so(core: Path) -> None:
    lines = said(core, "put " + " ".join(["500", "-500"] * 100))
    assert lines[-1] == "# overflowed"
    assert sum(line.signed_us.size for x in lines if isinstance(line := decode_line(x), Durations)) == 63


def test_a_frame_to_send_is_taken_in(core: Path) -> None:
    assert said(core, order("! 38000 +9000 -4500 +560")) == ["2 38000 9000 -4500 560"]
    assert said(core, order("! 455000 +5"), order("! 36000 +889 -889 +1778")) == ["2 455000 5", "2 36000 889 -889 1778"]


@pytest.mark.parametrize(
    "bad",
    [
        "order ! 38000 +9000 -4500 +560 # 00",
        "order ! 38000 +9000 -4500 +560",
        order("! 38000 +9000 -4500"),
        order("! 38000 +9000 +4500 -560"),
        order("! 38000 +9000 -4500 +0"),
        order("! 38000 +9000 -4500 +99999999999"),
        order("! 38000 " + " ".join(["+1 -1"] * 240) + " +1"),
        order("!"),
        "order hello",
    ],
)
def test_a_damaged_order_is_refused(core: Path, bad: str) -> None:
    assert said(core, bad) == (["7"] if "-1 +1 -1" in bad else ["3"])  # 7: it does not fit
    assert said(core, bad, "order ?")[1:] == ["1"]


def test_a_press_is_taken_in_pieces_and_said_with_its_repeats(core: Path) -> None:
    lines = [order("load 38000 33 7"), order(". 0 +9000 -4500 +560"), order(". 1 -70000"), order("again")]
    lines += [order(". 2 +9000 -2250 +560 -96000"), order("go 3")]
    *answers, sent = said(core, *lines)
    assert answers == ["4", "5", "5", "4", "5"]
    repeat = "9000 -2250 560"
    assert sent == f"8 38000 9000 -4500 560 -70000 {repeat} -96000 {repeat}"


def test_a_damaged_piece_is_asked_for_again_and_one_said_twice_is_taken_once(core: Path) -> None:
    lines = [order("load 0 33 3"), "order . 0 +500 -500 # 00", order(". 0 +500 -500"), order(". 0 +500 -500")]
    lines += [order(". 2 +7"), order(". 1 +600"), order("go 1")]
    assert said(core, *lines) == ["4", "6", "5", "5", "6", "5", "8 0 500 -500 600"]


def test_what_a_board_cannot_do_is_said(core: Path) -> None:
    assert said(core, order("load 455000 33 3")) == ["10"]
    pieces = [order(f". {n} " + " ".join(["+500 -500"] * 12)) for n in range(18)]
    answers = said(core, order("load 38000 33 432"), *pieces)
    assert answers[:18] == ["4"] + ["5"] * 17
    assert answers[18] == "7"


@pytest.fixture(scope="module")
def board(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return built(tmp_path_factory.mktemp("firmware"), "board")


def on_the_pin(board: Path, log: Path, carrier: int, frame: list[int], soft: bool = False) -> np.ndarray:
    """What the pin did, in signed µs, from the first mark on."""
    text = f"! {carrier} " + " ".join(f"{d:+d}" for d in frame)
    line = f"{text} # {checksum(text):02x}\n"
    environment = {"SOFT": "1"} if soft else {}
    subprocess.run([str(board), str(log)], input=line, text=True, env=environment, check=True, capture_output=True)
    return np.array(log.read_text().split()[1:], float) / 1000


def test_edges_do_not_drift_and_marks_are_whole_cycles(board: Path, tmp_path: Path) -> None:
    """docs/recorder.md states these errors."""
    frame = [9000, -4500, *[560, -1690, 560, -560] * 16, 560]
    pin = on_the_pin(board, tmp_path / "log", 38_000, frame)
    off = np.cumsum(np.abs(pin)) - np.cumsum(np.abs(frame))
    assert pin.size == len(frame)
    assert np.abs(off).max() < 30  # µs: half a cycle, two looks at a clock of 4 µs, and a pin
    assert np.abs(off[:8]).mean() == pytest.approx(np.abs(off[-8:]).mean(), abs=8)


def test_a_carrier_made_by_the_loop_keeps_its_frequency(board: Path, tmp_path: Path) -> None:
    pin = on_the_pin(board, tmp_path / "log", 36_000, [20_000], soft=True)
    rises = np.cumsum(np.abs(pin))[1::2]
    assert 1e6 / np.diff(rises).mean() == pytest.approx(36_000, rel=0.005)


def test_the_8_bit_build(tmp_path: Path) -> None:
    build = ["avr-g++", *STRICT, "-mmcu=atmega328p", "-Os", f"-I{FIRMWARE / 'host'}", "-c"]
    core, sketch = tmp_path / "core.o", tmp_path / "sketch.o"
    subprocess.run([*build, str(FIRMWARE / "tern_recorder/core.cpp"), "-o", str(core)], check=True)
    source = str(FIRMWARE / "tern_recorder/tern_recorder.ino")
    subprocess.run([*build, "-x", "c++", source, "-o", str(sketch)], check=True)
    sizes = subprocess.run(["avr-size", str(core), str(sketch)], capture_output=True, text=True, check=True).stdout
    rows = [list(map(int, line.split()[:3])) for line in sizes.splitlines()[1:]]
    assert sum(row[1] + row[2] for row in rows) < 1536  # of 2048 bytes of memory
