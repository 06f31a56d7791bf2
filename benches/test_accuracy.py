"""How right the readings are, on signals made without the code under test."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from tests.files import audio_line, write_audio, write_changes_csv, write_samples_csv, write_text
from tests.handsets import Recording, evening

from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.threshold import edges_of_samples
from eager_tern.signal.values import pulses_from_signed

RATE = 48_000
Writer = Callable[[Path, np.ndarray, np.random.Generator], None]


def sound(rate: int) -> Writer:
    return lambda path, signed, rng: write_audio(path, audio_line(signed, rate, rng), rate)


KINDS: dict[str, Writer] = {
    "a.txt": lambda path, signed, rng: write_text(path, signed, "signed"),
    "b.csv": lambda path, signed, rng: write_changes_csv(path, signed, "s"),
    "c.csv": lambda path, signed, rng: write_samples_csv(path, signed, 40_000, 0.1, 3.2),
    "d.wav": sound(48_000),
    "e.flac": sound(22_050),
}


def right(recording: Recording, presses: list) -> int:
    read = [(p.lead.best.protocol, p.lead.best.fields, len(p.frames)) for p in presses if p.lead.best]
    return sum((s.protocol, s.fields, s.frames) in read for s in recording.presses)


@pytest.mark.parametrize("name", KINDS)
def test_clean_files(tmp_path: Path, name: str) -> None:
    """Aim: 99 % of presses right."""
    rng = np.random.default_rng(3)
    good = sent = 0
    for _ in range(10):
        recording = evening(rng, 20)
        KINDS[name](tmp_path / name, np.array(recording.signed), rng)
        (found,) = read_file(tmp_path / name, library())
        good, sent = good + right(recording, list(found.take.presses)), sent + 20
    print(f"\n{name}: {good} of {sent} presses right")


def test_tolerances() -> None:
    """Aim: 97 % of presses right at 60 µs of jitter, 140 µs of excess and 15 % of clock together."""
    rng = np.random.default_rng(4)
    good = 0
    for n in range(40):
        sign, clock = (1, 1.15) if n % 2 else (-1, 0.85)
        recording = evening(rng, 10, jitter_us=60, excess_us=140 * sign, clock=clock)
        good += right(recording, list(read_pulses(pulses_from_signed(np.array(recording.signed)), library()).presses))
    print(f"\n{good} of 400 presses right at all tolerances")


@pytest.mark.parametrize("clock", [1.0, 1.004])
def test_thresholds(clock: float) -> None:
    """Aim: durations within 1.2 µs rms at 48 kHz and 25 dB (bound 0.84), for a handset whose clock is its own; one
    whose pulses are whole samples long, as of a signal that was computed, tells less of the recorder's edges.
    """
    rng = np.random.default_rng(5)
    recording = evening(rng, 40, clock=clock)
    signed = np.array(recording.signed)
    amplitude = 0.5
    line = audio_line(signed, RATE, rng, noise=amplitude * 10 ** (-25 / 20))
    found = edges_of_samples([line.astype(np.float32)], RATE).times_us
    truth = pulses_from_signed(signed).edge_times_us
    nearest = truth[np.clip(np.searchsorted(truth, found), 1, truth.size - 1)]
    nearest = np.where(np.abs(found - nearest) > 300, truth[np.searchsorted(truth, found) - 1], nearest)
    error = np.diff(found) - np.diff(nearest)
    error = error[np.abs(error) < 200]
    print(f"\n{found.size} of {truth.size} edges, durations within {np.std(error):.2f} µs rms")
