"""A radio receiver's data line through a sound card: full-swing noise between frames, softened, drooping, clipped."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library
from tests.files import audio_line, write_audio
from tests.handsets import fixed_code

RATE = 44_100


def noise_pulses(rng: np.random.Generator, soft_hz: float, length_us: float) -> list[float]:
    """Where noise of a bandwidth crosses its middle: what the receiver's comparator makes of it."""
    per_us = 2 * soft_hz / 1e6
    values = rng.normal(size=int(length_us * per_us) + 8)
    at = np.arange(int(length_us / 5)) * 5.0
    line = np.interp(at, np.arange(values.size) / per_us, values) > 0
    turns = np.flatnonzero(np.diff(line.astype(np.int8)))
    lengths = np.diff(at[turns])
    return (lengths * np.where(np.arange(lengths.size) % 2, -1, 1)).tolist()


def recording(rng: np.random.Generator, soft_hz: float) -> tuple[np.ndarray, list[tuple[float, str]]]:
    signed: list[float] = []
    sent = []
    for _ in range(4):
        signed += [*noise_pulses(rng, soft_hz, 2.5e6), -250.0]
        digits = rng.choice(["00", "11", "01"], 12)
        code = int("".join(digits), 2)
        start = float(np.abs(signed).sum()) / 1e6
        sent.append((start, "".join({"00": "0", "11": "1", "01": "F"}[d] for d in digits)))
        frames = fixed_code(code, float(rng.uniform(320, 450)), int(rng.integers(4, 9)))
        signed += (np.array(frames) * rng.normal(1, 0.01, len(frames))).tolist()
    return np.array([*signed, *noise_pulses(rng, soft_hz, 1e6)]), sent


@pytest.mark.parametrize(
    ("soft_hz", "droop_hz", "mark_high", "amplitude"),
    [
        (12_000, 0.0, True, 0.6),
        (2_000, 20.0, True, 0.5),
        (4_000, 60.0, False, 0.5),
        (8_000, 0.0, False, 2.0),
        (70_000, 0.0, True, 0.4),  # faster than the sound card: it comes out as loud Gaussian noise
        (70_000, 20.0, False, 0.03),
    ],
)
def test_presses_are_found_in_full_swing_noise(
    tmp_path: Path, rng: np.random.Generator, soft_hz: float, droop_hz: float, mark_high: bool, amplitude: float
) -> None:
    signed, sent = recording(rng, soft_hz)
    line = audio_line(signed, RATE, rng, mark_high=mark_high, amplitude=amplitude, noise=0.01, coupling_hz=droop_hz)
    write_audio(tmp_path / "noise.wav", np.clip(line, -0.98, 0.98), RATE)
    (found,) = read_file(tmp_path / "noise.wav", library())
    assert found.polarity == ("mark-high" if mark_high else "mark-low")
    read = [(p.start_us / 1e6, p.lead.reading.fields.get("tristate")) for p in found.take.presses]
    right = sum(any(abs(at - start) < 0.4 and said == code for at, said in read) for start, code in sent)
    wrong = sum(all(said != code for _, code in sent) for _, said in read)
    assert right == len(sent)
    assert wrong <= 1
