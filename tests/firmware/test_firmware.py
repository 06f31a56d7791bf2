"""The recorder's firmware: its logic on this machine against the application's own line protocol, its 8-bit build."""

from __future__ import annotations

import subprocess
from pathlib import Path

import numpy as np
import pytest

from eager_tern.devices.line_protocol import Durations, Hello, checksum, decode_line

FIRMWARE = Path(__file__).parents[2] / "firmware"
STRICT = ["-std=c++11", "-Wall", "-Wextra", "-Werror"]


@pytest.fixture(scope="module")
def core(tmp_path_factory: pytest.TempPathFactory) -> Path:
    built = tmp_path_factory.mktemp("firmware") / "lines"
    sources = [str(FIRMWARE / "host/lines.cpp"), str(FIRMWARE / "tern_recorder/core.cpp")]
    subprocess.run(["g++", *STRICT, "-fsanitize=undefined", *sources, "-o", str(built)], check=True)
    return built


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
    assert decode_line(line) == Hello(1, 4, "host")
    assert said(core, "order ?") == ["1"]


def test_a_full_ring_says_so(core: Path) -> None:
    lines = said(core, "put " + " ".join(["500", "-500"] * 100))
    assert lines[-1] == "# overflowed"
    assert sum(line.signed_us.size for x in lines if isinstance(line := decode_line(x), Durations)) == 127


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
        order("! 38000 " + " ".join(["+1 -1"] * 90) + " +1"),
        order("!"),
        "order hello",
    ],
)
def test_a_damaged_order_is_refused(core: Path, bad: str) -> None:
    assert said(core, bad) == ["3"]
    assert said(core, bad, "order ?") == ["3", "1"]


def test_the_8_bit_build(tmp_path: Path) -> None:
    build = ["avr-g++", *STRICT, "-mmcu=atmega328p", "-Os", f"-I{FIRMWARE / 'host'}", "-c"]
    core, sketch = tmp_path / "core.o", tmp_path / "sketch.o"
    subprocess.run([*build, str(FIRMWARE / "tern_recorder/core.cpp"), "-o", str(core)], check=True)
    source = str(FIRMWARE / "tern_recorder/tern_recorder.ino")
    subprocess.run([*build, "-x", "c++", source, "-o", str(sketch)], check=True)
    sizes = subprocess.run(["avr-size", str(core), str(sketch)], capture_output=True, text=True, check=True).stdout
    rows = [list(map(int, line.split()[:3])) for line in sizes.splitlines()[1:]]
    assert sum(row[1] + row[2] for row in rows) < 1536  # of 2048 bytes of memory
