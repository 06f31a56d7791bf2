"""Logs of which nothing is known but that their numbers stand in like surroundings."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from eager_tern.errors import InputError
from eager_tern.formats.registry import format_of
from eager_tern.formats.timing_text import parse_noted
from tests.dressed_logs import a_dressed_log
from tests.formats.test_logs import read_right
from tests.formats.test_plausible import a_frame

FRAMES = [a_frame(seed).astype(int).tolist() for seed in (1, 2)]
PAIRS = [list(zip(frame[0::2], [*frame[1::2], 0], strict=True)) for frame in FRAMES]


def durations_in(text: str) -> list[list[int]]:
    """The bursts that are read from a text."""
    lengths = parse_noted(text, "log")[0].durations_us
    silences = np.flatnonzero(lengths >= 9e5)
    return [each[int(at > 0) :].astype(int).tolist() for at, each in enumerate(np.split(lengths, silences))]


@pytest.mark.parametrize(
    "text",
    [
        "\n".join(f"cap{i}> {{" + " / ".join(map(str, f)) + "};" for i, f in enumerate(FRAMES)),
        "\n\n".join("\n".join(f"[{k:3d}] ({us})" for k, us in enumerate(f)) for f in FRAMES),
        "\n".join("try\n" + "\n".join(f"{k:02X}: hi={m} | lo={s}" for k, (m, s) in enumerate(p)) for p in PAIRS),
        "\n".join("got\n" + "\n".join(f"t=71234 on for {m} us, off for {s} us" for m, s in p) for p in PAIRS),
        "\n".join("\n".join(f"{k:03d} {us:6d} {'#' * (us // 300)}" for k, us in enumerate(f)) + "\nok" for f in FRAMES),
        "\n".join(
            "sum\n" + "\n".join(f"{us:6d} {total:8d}" for us, total in zip(f, np.cumsum(f), strict=True))
            for f in FRAMES
        ),
        "\n".join(f"rx {len(f)}: " + ", ".join(f"({us})" for us in f) + f" in {sum(f)} us" for f in FRAMES),
        "\n\n".join(
            "\n".join(f"fall +{us} us" if k % 2 else f"rise +{us} us" for k, us in enumerate(f)) for f in FRAMES
        ),
    ],
    ids=["bars", "brackets", "hexadecimal", "a tag", "drawn", "sums", "behind", "steps"],
)
def test_durations_are_found_whatever_stands_round_them(text: str) -> None:
    assert durations_in("fw 1.12 (2026-10-04), free 31204 / 81920\n" + text) == FRAMES


def test_logs_in_any_dress(tmp_path: Path) -> None:
    logs = [a_dressed_log(np.random.default_rng(seed)) for seed in range(60)]
    assert sum(read_right(tmp_path / "log.txt", text, sent) for text, sent in logs) >= 58


@pytest.mark.parametrize(
    "text",
    [
        "\n".join(f'10.0.0.{i % 7} "GET /cam{i % 3}.jpg" 200 {17_000 + 911 * i % 60_000}' for i in range(60)),
        "\n".join(f"{i} x seed {2 + 0.73 * i:.2f}" for i in range(1, 40)),
        Path(__file__).read_text("utf-8"),
        "\n".join(
            f"2026-11-{i % 30 + 1:02d},{90 + 7 * i % 20}.{i % 10}5,{90 + 3 * i % 20}.{i % 7}1" for i in range(60)
        ),
    ],
    ids=["web server", "prices", "program", "table"],
)
def test_numbers_that_are_no_durations_are_refused(text: str) -> None:
    with pytest.raises(InputError):
        parse_noted(text, "log")


def test_what_is_timed_in_a_boot_message_is_no_unit(tmp_path: Path) -> None:
    times = 7000 + np.cumsum([0, *FRAMES[0]])
    edges = "\n".join(f"{'up' if k % 2 else 'down'}: {t}" for k, t in enumerate(times))
    path = tmp_path / "log.txt"
    path.write_text("receiver ready, timeout 15 ms\n" + edges + "\n")
    (capture,) = format_of(path).read(path)
    assert capture.edges is not None
    assert np.diff(capture.edges.times_us).astype(int).tolist() == FRAMES[0]


def test_times_before_single_levels_are_no_places_of_polls(tmp_path: Path) -> None:
    times = np.cumsum([0, *FRAMES[0], 90_000, *FRAMES[1]])
    path = tmp_path / "log.txt"
    path.write_text("\n".join(f"{t}: {'high' if k % 2 else 'low'}" for k, t in enumerate(times)) + "\n")
    (capture,) = format_of(path).read(path)
    assert capture.edges is not None
    assert np.diff(capture.edges.times_us).size >= len(FRAMES[0]) + len(FRAMES[1])


def test_a_carrier_is_no_rate_of_samples(tmp_path: Path) -> None:
    path = tmp_path / "log.txt"
    path.write_text("freq 38000 Hz\n" + "\n".join(map(str, [*FRAMES[0], 30_000, *FRAMES[1]])) + "\n")
    (capture,) = format_of(path).read(path)
    assert capture.edges is None
    assert capture.pulses is not None
    assert capture.pulses.durations_us.tolist() == [*FRAMES[0], 30_000, *FRAMES[1]]
