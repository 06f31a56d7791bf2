"""Radio frames that hardly stand out of the noise, each sent once: how many are read, and how sure of the others."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from tests.radio import code_24, on_off, save_sigmf, two_tones, with_noise

from benches.baseline import held
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library

FRAMES = 8  # of each setting
SURE = 0.97
# Rate, samples, deviation, offset and drift (Hz, Hz a second).
SETTINGS = [
    (rate, samples, deviation, *moved)
    for rate, samples in ((250e3, "cu8"), (1e6, "cf32_le"))
    for deviation in (5e3, 20e3, 60e3)
    for moved in ((30e3, 0.0), (-15e3, 3e3))
]


@pytest.mark.parametrize(("keying", "db"), [("two tones", 6.57), ("on-off", 8.0)])
def test_faint_frames(tmp_path: Path, keying: str, db: float) -> None:
    """Aim for two tones: half at 6.57 dB, 2 more than the ideal detector needs (energy of a unit over the density)."""
    right = sure = sure_and_right = 0
    for setting, (rate, samples, deviation, offset, drift) in enumerate(SETTINGS):
        for number in range(FRAMES):
            rng = np.random.default_rng([51, setting, number])
            bits, unit_us = rng.integers(0, 2, 24).tolist(), float(rng.uniform(250, 500))
            signed = [-40_000.0, *code_24(bits, unit_us)[:-1], -60_000.0]
            kind = two_tones(signed, rate, offset, deviation) if keying == "two tones" else on_off(signed, rate, offset)
            moved = kind * np.exp(1j * np.pi * drift * (np.arange(kind.size) / rate) ** 2)
            path = save_sigmf(tmp_path / "a.sigmf-meta", with_noise(moved, rng, rate, unit_us, db), rate, samples)
            said = [frame.best for take in read_file(path, library()) for frame in take.take.frames]
            are_right = [best.bits.tolist() == bits for best in said if best is not None and best.confidence > SURE]
            right += any(best is not None and best.bits.tolist() == bits for best in said)
            sure, sure_and_right = sure + len(are_right), sure_and_right + sum(are_right)
    held(f"faint, {keying}, right", right, FRAMES * len(SETTINGS))
    held(f"faint, {keying}, right where sure", sure_and_right, sure)
