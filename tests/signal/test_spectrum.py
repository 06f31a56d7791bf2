"""Signals found in a spectrum over time: where they are, beside which noise, and nothing where there is none."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.signal.recording import Recording
from eager_tern.signal.spectrum import find_patches

RATE = 250_000


def noise(rng: np.random.Generator, seconds: float, sigma: float = 0.05) -> np.ndarray:
    size = int(seconds * RATE)
    return (rng.normal(0, sigma, size) + 1j * rng.normal(0, sigma, size)).astype(np.complex64)


def as_recording(line: np.ndarray) -> Recording:
    return Recording(RATE, line.size, lambda first, last: line[first:last])


def with_tone(line: np.ndarray, hz: float, first_s: float, last_s: float, amplitude: float) -> np.ndarray:
    at = np.arange(int(first_s * RATE), int(last_s * RATE))
    line[at] += amplitude * np.exp(2j * np.pi * hz / RATE * at)
    return line


def test_noise_holds_no_signal(rng: np.random.Generator) -> None:
    assert find_patches(as_recording(noise(rng, 2.0))) == []


@pytest.mark.parametrize("hz", [-80_000.0, -3_000.0, 31_000.0, 110_000.0])
def test_a_carrier_is_found_in_time_and_frequency(rng: np.random.Generator, hz: float) -> None:
    line = with_tone(noise(rng, 1.5), hz, 0.4, 0.6, 0.05)
    (patch,) = find_patches(as_recording(line))
    assert patch.low_hz < hz < patch.high_hz
    assert patch.first / RATE == pytest.approx(0.4, abs=0.01)
    assert patch.last / RATE == pytest.approx(0.6, abs=0.01)
    assert patch.noise == pytest.approx(2 * 0.05**2 / RATE, rel=0.2)


def test_two_carriers_at_once_are_two_and_parts_of_one_burst_are_one(rng: np.random.Generator) -> None:
    line = with_tone(noise(rng, 1.5), -60_000, 0.4, 0.6, 0.1)
    line = with_tone(line, 40_000, 0.5, 0.52, 0.1)
    line = with_tone(line, 40_000, 0.54, 0.6, 0.1)
    found = find_patches(as_recording(line))
    assert [round((p.low_hz + p.high_hz) / 2e4) for p in found] == [-6, 4]


def test_a_strong_carriers_spill_is_none(rng: np.random.Generator) -> None:
    line = noise(rng, 1.0, 0.002)
    for first in np.arange(0.3, 0.5, 0.002):
        line = with_tone(line, 10_000, float(first), float(first) + 0.001, 0.9)
    (patch,) = find_patches(as_recording(line))
    assert patch.low_hz < 10_000 < patch.high_hz
