"""Reading files."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
import soundfile
from tests.files import audio_line
from tests.handsets import evening
from tests.radio import code_24, on_off, save_sigmf, two_tones, with_noise

from benches.conftest import in_turn, process
from eager_tern.formats.registry import read_captures
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import Pulses

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
    """Aim: at most 4 times a bare threshold-and-diff pass, and 4 times the samples as float32."""
    wav = tmp_path / "ten.wav"
    size = write_evening(wav, 10, every_s)
    bare = script("bare.py", BARE)
    ours, theirs, ratio = in_turn(process("-m", "eager_tern", "read", "--json", wav), process(bare, wav), 3)
    peak = float(process(script("peak.py", PEAK), wav)())
    print(
        f"\n10 minutes, a press every {every_s} s: {ours:.2f} s, bare pass {theirs:.2f} s, ratio {ratio:.1f}; "
        f"peak {peak:.0f} MiB, {peak * 2**20 / (4 * size):.2f} times the samples"
    )


TABLES = {
    "durations, many a line": (8.0, "{mark} {space} ", ""),
    "durations, one a line": (8.0, "{mark}\n{space}\n", ""),
    "edges, seconds": (12.0, "{up_s:.9f},1\n{down_s:.9f},0\n", "Time [s],Channel 0\n"),
    "edges, microseconds": (12.0, "{up},1\n{down},0\n", "time_us,level\n"),
    "edges, no header": (12.0, "{up} 1\n{down} 0\n", ""),
}


@pytest.mark.parametrize("kind", TABLES)
def test_text(tmp_path: Path, kind: str) -> None:
    """Aims: 8 times a bare pass for durations, 12 for edges; here with half of that again, for a machine's moods."""
    aim, line, header = TABLES[kind]
    signed = np.abs(np.array(evening(np.random.default_rng(5), 1000, ("nec",), jitter_us=20).signed)).round()[1:]
    times = np.concatenate(([0], np.cumsum(signed))).astype(int).tolist()
    lengths = signed.astype(int).tolist()
    path = tmp_path / "take.txt"
    path.write_text(
        header
        + "".join(
            line.format(mark=mark, space=space, up=up, down=down, up_s=up / 1e6, down_s=down / 1e6)
            for mark, space, up, down in zip(lengths[0::2], lengths[1::2], times[0::2], times[1::2], strict=False)
        )
    )
    ours, _, ratio = in_turn(
        lambda: read_captures(path),
        lambda: np.array(path.read_text().removeprefix(header).replace(",", " ").split(), float),
        3,
    )
    print(f"\n{kind}: {ours:.2f} s, {ratio:.1f} times a bare pass (aim {aim:.0f})")
    assert ratio < 1.5 * aim


def test_time_grows_with_length(tmp_path: Path) -> None:
    times = []
    for minutes in (5, 10, 20):
        write_evening(tmp_path / "w.wav", minutes, 10.0)
        run = process("-m", "eager_tern", "read", "--json", tmp_path / "w.wav")
        times.append(in_turn(run, run, 2)[0])
    print(f"\n5, 10, 20 minutes: {times[0]:.2f}, {times[1]:.2f}, {times[2]:.2f} s")


def test_a_minute_of_chatter() -> None:
    """Aim: no false frame; a few seconds."""
    rng = np.random.default_rng(4)
    for name, d in (("exponential", 30 + rng.exponential(150, 330_000)), ("even", rng.uniform(50, 600, 184_000))):
        pulses = Pulses(d[: d.size - 1 + d.size % 2])
        found = read_pulses(pulses, library())
        run = lambda pulses=pulses: read_pulses(pulses, library())  # noqa: E731
        bare = lambda d=d: np.flatnonzero(np.abs(np.diff(d)) < 0.4 * d[1:])  # noqa: E731
        ours, _, ratio = in_turn(run, bare, 2)
        told = f"{name}, {d.sum() / 1e6:.0f} s: {len(found.frames)} frames"
        print(f"\n{told}, {ours:.2f} s, {ratio:.0f} times a diff")


@pytest.mark.parametrize(("keying", "db"), [("ook", 10.0), ("ook", 8.0), ("fsk", 7.6), ("fsk", 6.0)])
def test_faint_radio_frames(tmp_path: Path, keying: str, db: float) -> None:
    """Aim: half of them at 10 dB (on-off) and 7.6 dB (two tones), a unit's energy over the noise's density."""
    rng = np.random.default_rng(9)
    signed, codes = [-120_000.0], []
    for _ in range(30):
        bits = rng.integers(0, 2, 24).tolist()
        codes.append("".join(map(str, bits)))
        signed += [*code_24(bits, 350), -120_000.0]
    clean = on_off(signed, 250_000, 31_234) if keying == "ook" else two_tones(signed, 250_000, 31_234, 20_000)
    path = save_sigmf(tmp_path / "a.sigmf-meta", with_noise(clean, rng, 250_000, 350, db), 250_000, "cu8")
    start = time.perf_counter()
    takes = read_file(path, library())
    took = time.perf_counter() - start
    got = {"".join(map(str, f.best.bits)) for take in takes for f in take.take.frames if f.best is not None}
    samples = np.fromfile(path.with_suffix(".sigmf-data"), np.uint8)
    start = time.perf_counter()
    np.abs(np.fft.fft(samples[: samples.size // 256 * 256].reshape(-1, 256).astype(np.float32)))
    bare = time.perf_counter() - start
    told = f"{keying} at {db} dB: {len(got & set(codes))} of 30 right"
    print(f"\n{told}, {took:.1f} s, {took / bare:.0f} times a bare FFT pass")
