"""Samples to edges, held against signals whose edges are known."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.signal.polarity import find_polarity
from eager_tern.signal.threshold import ThresholdSettings, block_grain, edges_of_samples
from eager_tern.signal.values import pulses_from_edges
from tests.files import audio_line
from tests.handsets import IDLE_US, join, nec, rc5, record, sony

RATE = 48_000


def truth(rng: np.random.Generator) -> np.ndarray:
    presses = [*nec(0x5B, 0x16, 1), -IDLE_US, *sony(50, 21), -IDLE_US, *rc5(14, 12, 1), -IDLE_US]
    return np.concatenate(([-IDLE_US], record(presses, rng, jitter_us=20)))


def found(line: np.ndarray, rate: int = RATE, block: int | None = None) -> np.ndarray:
    line = line.astype(np.float32)
    blocks = [line] if block is None else [line[i : i + block] for i in range(0, line.size, block)]
    edges = edges_of_samples(blocks, rate)
    return pulses_from_edges(edges, find_polarity(edges).polarity).durations_us


def true_durations(signed: np.ndarray) -> np.ndarray:
    return np.abs(join(list(signed)))[1:-1]


@pytest.mark.parametrize("rate", [22_050, 44_100, 48_000, 96_000, 192_000])
@pytest.mark.parametrize("mark_high", [True, False])
def test_every_edge_is_found_at_any_rate_and_polarity(rng: np.random.Generator, rate: int, mark_high: bool) -> None:
    signed = truth(rng)
    durations = found(audio_line(signed, rate, rng, mark_high=mark_high), rate)
    wanted = true_durations(signed)
    assert durations.size == wanted.size
    assert np.sqrt(np.mean((durations - wanted) ** 2)) < 0.25e6 / rate


def test_edges_lie_between_the_samples(rng: np.random.Generator) -> None:
    """At 25 dB the grid of samples would leave 8.5 µs rms; interpolation does much better."""
    signed = truth(rng)
    durations = found(audio_line(signed, RATE, rng, amplitude=0.5, noise=1.0 * 10 ** (-25 / 20) / 2))
    wanted = true_durations(signed)
    assert durations.size == wanted.size
    assert np.sqrt(np.mean((durations - wanted) ** 2)) < 4.0


@pytest.mark.parametrize("coupling_hz", [2, 8, 20, 60, 120])
def test_levels_may_sag_behind_a_coupling_capacitor(rng: np.random.Generator, coupling_hz: float) -> None:
    signed = truth(rng)
    durations = found(audio_line(signed, RATE, rng, coupling_hz=coupling_hz, noise=0.01))
    wanted = true_durations(signed)
    assert durations.size == wanted.size
    assert np.sqrt(np.mean((durations - wanted) ** 2)) < 8.0


def test_blocks_make_no_difference(rng: np.random.Generator) -> None:
    line = audio_line(truth(rng), RATE, rng, coupling_hz=10, noise=0.01)
    whole = found(line)
    for block in (1 << 12, 1 << 14, 48 * block_grain(RATE) * 7):
        np.testing.assert_allclose(found(line, block=block), whole, atol=2.0)


@pytest.mark.parametrize("sigma", [0.0, 1e-4, 0.01])
def test_noise_has_no_edges(rng: np.random.Generator, sigma: float) -> None:
    assert edges_of_samples([rng.normal(0, sigma, 200_000).astype(np.float32)], RATE).times_us.size == 0


def test_hum_and_drift_have_no_edges(rng: np.random.Generator) -> None:
    t = np.arange(RATE * 2) / RATE
    line = 0.3 * np.sin(2 * np.pi * 50 * t) + 0.2 * t + rng.normal(0, 0.003, t.size)
    assert edges_of_samples([line.astype(np.float32)], RATE).times_us.size == 0


def test_a_quiet_recording_is_read_as_well(rng: np.random.Generator) -> None:
    signed = truth(rng)
    durations = found(audio_line(signed, RATE, rng, amplitude=0.004, noise=0.00005))
    assert durations.size == true_durations(signed).size


def test_a_threshold_by_hand_is_kept_to() -> None:
    ramp = np.concatenate((np.zeros(4800), np.linspace(0, 1, 41), np.ones(4800))).astype(np.float32)
    for level in (0.25, 0.75):
        edges = edges_of_samples([ramp], RATE, ThresholdSettings(level=level))
        assert edges.times_us.tolist() == pytest.approx([(4800 + 40 * level) * 1e6 / RATE], abs=0.5)


def test_a_threshold_by_hand_counts_every_crossing(rng: np.random.Generator) -> None:
    noise = rng.normal(0, 0.01, 48_000).astype(np.float32)
    assert edges_of_samples([noise], RATE).times_us.size == 0
    assert edges_of_samples([noise], RATE, ThresholdSettings(level=0.0, hysteresis=0.0)).times_us.size > 20_000


def test_nothing_is_no_recording() -> None:
    edges = edges_of_samples([], RATE)
    assert edges.times_us.size == 0
    assert edges.end_us == 0.0


def test_edges_lie_as_close_as_noise_lets_them(rng: np.random.Generator) -> None:
    """A converter lets through what is below half of its rate; at 25 dB the bound is 0.93 µs a duration at 44.1 kHz."""
    rate, reach = 44_100, 64
    places = np.linspace(-reach, reach, 40 * reach + 1)
    risen = np.cumsum(np.sinc(0.92 * places))
    off = []
    for _ in range(12):
        signed = np.concatenate(([-IDLE_US - rng.uniform(0, 40)], record(nec(0x5B, 0x16), rng, jitter_us=3)))
        edges = np.cumsum(np.abs(signed)) * rate / 1e6
        edges = edges[: edges.size // 2 * 2]
        samples = np.arange(int(edges[-1]) + rate // 4)
        line = np.full(samples.size, -1.0)
        for at, edge in enumerate(edges):
            line += (-1) ** at * 2 * np.interp(samples - edge, places, risen / risen[-1])
        off.append(found(line + rng.normal(0, 10 ** (-25 / 20), line.size), rate) - np.diff(edges) * 1e6 / rate)
    assert float(np.std(off)) < 1.45
