"""A frame for the ear: what is a mark is heard as one."""

from __future__ import annotations

import itertools

import numpy as np
import pytest

from eager_tern.devices.loudspeaker import RATE_HZ, SLOWER, TONE_HZ, audible
from eager_tern.signal.values import Pulses

PULSES = Pulses(np.array([9000.0, 4500.0, 560.0, 1690.0, 560.0]), 1000.0)


def test_marks_are_a_tone_and_spaces_silent() -> None:
    samples = audible(PULSES, "tone")
    edges = np.concatenate(([0.0], np.cumsum(PULSES.durations_us))) / 1e6 * SLOWER["tone"]
    assert samples.size / RATE_HZ == pytest.approx(edges[-1] + 0.05, abs=0.01)
    for number, (start, end) in enumerate(itertools.pairwise(edges)):
        part = samples[int((start + 0.001) * RATE_HZ) : int((end - 0.001) * RATE_HZ)]
        assert (np.abs(part).max() > 0.3) == (number % 2 == 0)
    long = samples[: int(edges[1] * RATE_HZ)]
    loudest = np.fft.rfftfreq(long.size, 1 / RATE_HZ)[np.abs(np.fft.rfft(long)).argmax()]
    assert loudest == pytest.approx(TONE_HZ, abs=10)


def test_each_edge_is_a_click() -> None:
    samples = np.abs(audible(PULSES, "clicks"))
    edges = np.concatenate(([0.0], np.cumsum(PULSES.durations_us))) / 1e6 * SLOWER["clicks"]
    for edge in edges:
        assert samples[int(edge * RATE_HZ) : int((edge + 0.002) * RATE_HZ)].max() > 0.3
    assert samples[int((edges[0] + 0.02) * RATE_HZ) : int((edges[1] - 0.001) * RATE_HZ)].max() < 0.01


def test_a_take_of_an_hour_is_not_made_into_sound() -> None:
    long = Pulses(np.array([500.0, 3.6e9, 500.0]), 0.0)
    assert audible(long, "tone").size < 40 * RATE_HZ
