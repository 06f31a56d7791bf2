"""Reading files."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.files import audio_line
from tests.handsets import evening

from benches.conftest import in_turn, process
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed

RATE = 48_000
BARE = """
import sys, numpy as np, soundfile
x, rate = soundfile.read(sys.argv[1], dtype="float32")
print(np.flatnonzero(np.diff(x > x.mean())).size)
"""
PEAK = """
import resource, subprocess, sys
command = [sys.executable, "-m", "eager_tern", "read", "--json", sys.argv[1]]
subprocess.run(command, stdout=subprocess.DEVNULL, check=True)
print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024)
"""


def write_evening(path: Path, minutes: int, every_s: float) -> int:
    """A recording of so many minutes with a press now and then; gives the number of samples."""
    rng = np.random.default_rng(7)
    size = minutes * 60 * RATE
    line = rng.normal(-0.5, 0.008, size).astype(np.float32)
    some = [audio_line(np.array(evening(rng, 1, jitter_us=20).signed), RATE, rng, noise=0.008) for _ in range(12)]
    for number, start in enumerate(range(0, size - 2 * RATE, int(every_s * RATE))):
        part = some[number % len(some)]
        line[start : start + part.size] = part
    soundfile.write(path, line, RATE, subtype="PCM_16")
    return size


@pytest.mark.parametrize("every_s", [1.5, 10.0])
def test_ten_minutes_of_wav(tmp_path: Path, script: Callable[[str, str], Path], every_s: float) -> None:
    """Aim: at most 6 times a bare threshold-and-diff pass, and 4 times the samples as float32."""
    wav = tmp_path / "ten.wav"
    size = write_evening(wav, 10, every_s)
    bare = script("bare.py", BARE)
    ours, theirs, ratio = in_turn(process("-m", "eager_tern", "read", "--json", wav), process(bare, wav), 3)
    peak = float(process(script("peak.py", PEAK), wav)())
    print(
        f"\n10 minutes, a press every {every_s} s: {ours:.2f} s, bare pass {theirs:.2f} s, ratio {ratio:.1f}; "
        f"peak {peak:.0f} MiB, {peak * 2**20 / (4 * size):.2f} times the samples"
    )


def test_time_grows_with_length(tmp_path: Path) -> None:
    times = []
    for minutes in (5, 10, 20):
        write_evening(tmp_path / "w.wav", minutes, 10.0)
        run = process("-m", "eager_tern", "read", "--json", tmp_path / "w.wav")
        times.append(in_turn(run, run, 2)[0])
    print(f"\n5, 10, 20 minutes: {times[0]:.2f}, {times[1]:.2f}, {times[2]:.2f} s")


def test_frames_a_second() -> None:
    pulses = pulses_from_signed(np.array(evening(np.random.default_rng(3), 400, jitter_us=20).signed))
    d = pulses.durations_us
    frames = len(read_pulses(pulses, library()).frames)
    ours, _, ratio = in_turn(lambda: read_pulses(pulses, library()), lambda: np.flatnonzero(d[1::2] > 15_000), 3)
    print(f"\n{frames} frames in {ours:.2f} s, {frames / ours:.0f} a second ({ratio:.0f} times finding the gaps)")
