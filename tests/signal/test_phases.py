"""Edges between samples: the recorder's own shape is taken off them, and nothing where there is none."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.signal.phases import evenly_phased
from eager_tern.signal.threshold import edges_of_samples
from tests.files import audio_line
from tests.handsets import evening, join

RATE = 48_000


def rms_us(rng: np.random.Generator, presses: int, noise: float) -> float:
    """Of the durations found in a recording of a handset whose clock is a little off."""
    signed = join(evening(rng, presses, clock=1.004).signed)
    line = audio_line(signed, RATE, rng, noise=noise)
    found = np.diff(edges_of_samples([line.astype(np.float32)], RATE).times_us)
    return float(np.std(found - np.abs(signed[1:-1])))


def test_a_duration_is_as_close_as_the_noise_lets_it(rng: np.random.Generator) -> None:
    assert rms_us(rng, 40, 0.5 * 10 ** (-25 / 20)) < 1.2
    assert rms_us(rng, 40, 0.002) < 0.6


def test_a_few_edges_are_left_as_they_are(rng: np.random.Generator) -> None:
    places = np.sort(rng.uniform(0, 1000, 60))
    rising = np.arange(60) % 2 == 0
    assert evenly_phased(places, rising).tolist() == places.tolist()
    assert evenly_phased(places[:0], rising[:0]).size == 0


def test_even_phases_are_left_nearly_as_they_are(rng: np.random.Generator) -> None:
    places = np.sort(rng.uniform(0, 50_000, 4000))
    moved = evenly_phased(places, np.arange(4000) % 2 == 0) - places
    assert np.abs(moved).max() < 0.02


@pytest.mark.parametrize("parts", [[0.5], [0.25, 0.75]])
def test_a_line_of_two_levels_is_no_shape_of_an_edge(rng: np.random.Generator, parts: list[float]) -> None:
    places = np.cumsum(rng.integers(10, 60, 4000)) + rng.choice(parts, 4000)
    assert np.array_equal(evenly_phased(places, np.arange(4000) % 2 == 0), places)


def test_pulses_of_whole_samples_say_little_of_the_recorder(rng: np.random.Generator) -> None:
    """Each press begins on another part of a sample and stays there."""
    places = np.cumsum(rng.integers(10, 60, 3200)) + np.repeat(rng.uniform(0, 1, 20), 160)
    moved = evenly_phased(places, np.arange(3200) % 2 == 0) - places
    assert np.abs(moved).max() < 0.12
