"""A line followed as it comes says what the whole recording says."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.signal.following import LineFollower, block_size
from eager_tern.signal.quality import clips
from eager_tern.signal.threshold import edges_of_samples
from eager_tern.signal.values import pulses_from_edges, pulses_from_signed
from tests.handsets import nec, record, sony

RATE = 48_000


def line(signed: np.ndarray, rng: np.random.Generator, noise: float = 0.005, sag: float = 0.0) -> np.ndarray:
    """Samples of a line, 0.6 in the marks and -0.6 in the spaces, perhaps behind a coupling capacitor."""
    edges = np.concatenate(([0.0], np.cumsum(np.abs(signed)))) * RATE / 1e6
    at = np.arange(int(edges[-1]))
    levels = np.where(signed > 0, 0.6, -0.6)[np.searchsorted(edges, at, side="right") - 1]
    if sag:
        slow = np.zeros(levels.size)
        for i in range(1, levels.size):
            slow[i] = slow[i - 1] + sag * (levels[i] - slow[i - 1])
        levels = levels - slow
    return (levels + rng.normal(0, noise, levels.size)).astype(np.float32)


def followed(samples: np.ndarray) -> np.ndarray:
    size = block_size(RATE)
    follower = LineFollower(RATE)
    whole = np.append(samples, np.full(-samples.size % size, samples[-1], np.float32))
    parts = [follower.feed(block) for block in whole.reshape(-1, size)]
    return np.concatenate([*parts, follower.finish()])


@pytest.mark.parametrize("sag", [0.0, 0.001])
def test_block_by_block_is_as_good_as_the_whole(rng: np.random.Generator, sag: float) -> None:
    presses = [record([*nec(5, 9, 2), -300_000.0, *sony(7, 1), -400_000.0], rng, jitter_us=20) for _ in range(3)]
    samples = line(np.concatenate(([-250_000.0], *presses)), rng, sag=sag)
    signed = followed(samples)
    assert -block_size(RATE) < samples.size - np.abs(signed).sum() * RATE / 1e6 <= 0
    live = pulses_from_signed(signed)
    whole = pulses_from_edges(edges_of_samples([samples], RATE), "mark-high")
    assert live.durations_us.size == whole.durations_us.size
    np.testing.assert_allclose(live.edge_times_us, whole.edge_times_us, atol=1.0)


def test_a_line_of_a_moment_is_told_at_its_end(rng: np.random.Generator) -> None:
    samples = line(np.concatenate(([-60_000.0], record([*nec(5, 9), -60_000.0], rng))), rng)
    assert pulses_from_signed(followed(samples[: 2 * block_size(RATE)])).durations_us.size == 67


def test_silence_that_grows_louder_is_an_automatic_gain(rng: np.random.Generator) -> None:
    size = block_size(RATE)
    frame = line(np.concatenate(([-250_000.0], record([*nec(5, 9), -350_000.0], rng))), rng)
    steady, growing = LineFollower(RATE), LineFollower(RATE)
    for follower in (steady, growing):
        for block in frame[: frame.size // size * size].reshape(-1, size):
            follower.feed(block)
    told = []
    for n in range(16):
        steady.feed(rng.normal(-0.6, 0.005, size).astype(np.float32))
        growing.feed(rng.normal(-0.6, 0.005 * 1.12**n, size).astype(np.float32))
        told.append(growing.gain_follows)
    assert any(told)
    assert not steady.gain_follows


def test_clipping_is_told_from_a_line_of_two_levels(rng: np.random.Generator) -> None:
    two_levels = np.where(rng.random(5000) > 0.5, 1.0, -1.0).astype(np.float32)
    loud = np.clip(rng.normal(0, 0.8, 5000), -1, 1).astype(np.float32)
    assert not clips(two_levels)
    assert not clips(np.where(two_levels > 0, 1.0, 0.0).astype(np.float32))
    assert not clips(0.3 * loud)
    assert clips(loud)
