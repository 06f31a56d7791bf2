"""Logs of practitioners' own sketches, in every style that they print."""

from __future__ import annotations

from pathlib import Path
from unittest.mock import patch

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import astuple

from eager_tern.errors import InputError
from eager_tern.formats.capture import ReadOptions
from eager_tern.formats.rows import numbered_lines, rows_of
from eager_tern.intake.files import FileTake, read_file
from eager_tern.protocol.loading import library
from tests.handsets import jvc, nec, record

BOOT = "rst:0x1 (POWERON_RESET),boot:0x13 (SPI_FAST_FLASH_BOOT)\nmode:DIO, clock div:1\nlogger v0.3 ready on pin 14\n"


def edges(rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Times (µs) and the levels behind them, of a receiver that rests high and gives a mark low."""
    signed = record([-4e5, *nec(0, 0x45, 1), -3e5, *nec(0, 0x12), -3e5], rng, jitter_us=15, excess_us=60)
    times = np.concatenate(([0.0], np.cumsum(np.abs(signed))))[1:-1]
    return np.rint(times / 4) * 4 + 12_034_560, (signed[1:] < 0).astype(int)


def commands(takes: list[FileTake]) -> list[object]:
    return [press.lead.reading.fields["command"] for take in takes for press in take.take.presses]


STYLES = {
    "bare.txt": "{t} {v}\n",
    "comma.csv": "{t},{v}\n",
    "named.txt": "t={t} lvl={v}\n",
    "arrow.txt": "edge {t} -> {w}\n",
    "stamped.log": "14:21:04.014 -> {t} {v}\n",
}


@pytest.mark.parametrize("boot", [False, True])
@pytest.mark.parametrize("name", STYLES)
def test_edges_with_levels(tmp_path: Path, rng: np.random.Generator, name: str, boot: bool) -> None:
    times, levels = edges(rng)
    rows = [STYLES[name].format(t=int(t), v=v, w=("LOW", "HIGH")[v]) for t, v in zip(times, levels, strict=True)]
    if boot:
        rows.insert(20, "[W][wifi] reconnecting\n")
    (tmp_path / name).write_text(BOOT * boot + "".join(rows))
    (take,) = takes = read_file(tmp_path / name, library())
    assert commands(takes) == [0x45, 0x12]
    assert take.take.presses[0].start_us == pytest.approx(0.0, abs=1.0)
    assert bool(take.capture.warnings) == boot


@pytest.mark.parametrize("header", ["micros,level", "us,lvl", "time_us,level"])
def test_a_counter_of_32_bits_begins_anew(tmp_path: Path, rng: np.random.Generator, header: str) -> None:
    times, levels = edges(rng)
    wrapped = (times + (1 << 32) - times[40]).astype(np.int64) % (1 << 32)
    rows = [f"{t},{v}\n" for t, v in zip(wrapped, levels, strict=True)]
    (tmp_path / "w.csv").write_text(header + "\n" + "".join(rows))
    assert commands(read_file(tmp_path / "w.csv", library())) == [0x45, 0x12]


def test_a_clock_in_milliseconds_is_said_and_nothing_invented(tmp_path: Path, rng: np.random.Generator) -> None:
    times, levels = edges(rng)
    rows = [f"{int(t) // 1000} {v}\n" for t, v in zip(times, levels, strict=True)]
    (tmp_path / "ms.txt").write_text("".join(rows))
    (take,) = read_file(tmp_path / "ms.txt", library())
    assert (take.take.frames, take.capture.resolution_us) == ([], 1000.0)
    assert "1 ms" in take.capture.warnings[0]


def test_time_that_runs_backwards_is_named(tmp_path: Path, rng: np.random.Generator) -> None:
    times, levels = edges(rng)
    times[50] -= 40_000
    (tmp_path / "b.txt").write_text("".join(f"{int(t)} {v}\n" for t, v in zip(times, levels, strict=True)))
    with pytest.raises(InputError, match="backwards"):
        read_file(tmp_path / "b.txt", library())


@pytest.mark.parametrize(("address", "command"), [(255, 223), (255, 255), (0, 0), (1, 0)])
def test_falling_edges_of_frames_with_hardly_any_of_one_bit(
    tmp_path: Path, rng: np.random.Generator, address: int, command: int
) -> None:
    times = np.cumsum(np.abs(record(jvc(address, command, 1)[:-1], rng, jitter_us=10, excess_us=40)))
    falling = np.concatenate(([0], times[1::2])).astype(int)
    (tmp_path / "f.txt").write_text("falling edges, us\n" + "\n".join(map(str, falling)) + "\n")
    (take,) = read_file(tmp_path / "f.txt", library())
    (press,) = take.take.presses
    assert press.lead.reading.protocol == "jvc"
    assert dict(press.lead.reading.fields) == {"address": address, "command": command}


@pytest.mark.parametrize("intervals", [False, True])
def test_falling_edges_alone(tmp_path: Path, rng: np.random.Generator, intervals: bool) -> None:
    times, levels = edges(rng)
    falling = times[levels == 0].astype(int)
    numbers = np.diff(falling) if intervals else falling
    (tmp_path / "f.txt").write_text("falling edges, us\n" + "\n".join(map(str, numbers)) + "\n")
    (take,) = takes = read_file(tmp_path / "f.txt", library())
    assert commands(takes) == [0x45, 0x12]
    assert take.capture.falling_us is not None
    assert [len(press.frames) for press in take.take.presses] == [2, 1]


@pytest.mark.parametrize(
    ("head", "in_rows", "rate"),
    [("polling every 50 us\n", False, None), ("# 20 kHz\n", True, None), ("", True, 20_000.0)],
)
def test_levels_once_a_poll(
    tmp_path: Path, rng: np.random.Generator, head: str, in_rows: bool, rate: float | None
) -> None:
    times, levels = edges(rng)
    at = np.arange(times[0] - 3e5, times[-1] + 3e5, 50.0)
    polled = "".join(map(str, np.append(1, levels)[np.searchsorted(times, at, side="right")]))
    rows = [polled[i : i + (80 if in_rows else 1)] for i in range(0, len(polled), 80 if in_rows else 1)]
    (tmp_path / "p.txt").write_text(head + "\n".join(rows))
    assert commands(read_file(tmp_path / "p.txt", library(), ReadOptions(rate_hz=rate))) == [0x45, 0x12]
    if rate:
        with pytest.raises(InputError, match="--rate"):
            read_file(tmp_path / "p.txt", library())


def test_samples_in_one_column(tmp_path: Path, rng: np.random.Generator) -> None:
    times, levels = edges(rng)
    at = np.arange(times[0] - 3e5, times[-1] + 3e5, 40.0)
    volts = 3.3 * np.append(1, levels)[np.searchsorted(times, at, side="right")] + rng.normal(0, 0.05, at.size)
    (tmp_path / "v.txt").write_text("# rate 25000\n" + "\n".join(f"{v:.3f}" for v in volts))
    assert commands(read_file(tmp_path / "v.txt", library())) == [0x45, 0x12]


@given(
    st.lists(
        st.tuples(st.integers(0, 9_999_999), st.sampled_from(["mark", "SPACE", "0", "1"])), min_size=5, max_size=30
    ),
    st.sampled_from([" ", ", ", ";", "\t"]),
    st.sampled_from(["", "time us;level\n", "boot 7\n\n"]),
    st.sampled_from(["", "\n", "\n\n \n"]),
)
def test_a_table_read_at_once_is_what_its_lines_are(
    rows: list[tuple[int, str]], between: str, before: str, behind: str
) -> None:
    words = [level for _, level in rows if not level.isdigit()]
    kind = str.isalpha if len(words) * 2 > len(rows) else str.isdigit
    said = [(level, time) for time, level in rows if kind(level)]
    lines = numbered_lines(before + "\n".join(f"{a}{between}{b}" for a, b in said) + behind)
    at_once = rows_of(lines)
    with patch("eager_tern.formats.rows._all_at_once", return_value=None):
        by_line = rows_of(lines)
    assert (at_once is None) == (by_line is None)
    if at_once is not None and by_line is not None:
        for one, other in zip(astuple(at_once), astuple(by_line), strict=True):
            np.testing.assert_equal(one, other)
