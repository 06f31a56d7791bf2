"""Two tones of one transmitter, told from two transmitters in noise that hides most of it."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.signal.turns import are_two_tones
from tests.radio import code_24, on_off, two_tones, with_noise

RATE, UNIT, HIGH, LOW = 250_000.0, 350.0, 50_000.0, 10_000.0


def sent(rng: np.random.Generator, unit_us: float = UNIT, late_us: float = 0.0) -> list[float]:
    return [-6_000.0 - late_us, *code_24(rng.integers(0, 2, 24).tolist(), unit_us)[:-1], -8_000.0 + late_us]


def share_of_two(rng: np.random.Generator, signals: list[np.ndarray], db: float) -> float:
    """How often signals in white noise are taken for two tones."""
    noise = UNIT * 1e-6 / 10 ** (db / 10)
    heard = [with_noise(signal, rng, RATE, UNIT, db) for signal in signals]
    return float(np.mean([are_two_tones(each, RATE, HIGH, LOW, noise) for each in heard]))


@pytest.mark.parametrize(("db", "fewest"), [(6.6, 0.95), (4.6, 0.6), (20.0, 1.0)])
def test_two_tones_are_found_in_noise(rng: np.random.Generator, db: float, fewest: float) -> None:
    signals = [two_tones(sent(rng), RATE, (HIGH + LOW) / 2, (HIGH - LOW) / 2) for _ in range(20)]
    assert share_of_two(rng, signals, db) >= fewest


@pytest.mark.parametrize("db", [4.6, 6.6, 20.0])
def test_what_is_beside_a_keyed_carrier_is_no_second_tone(rng: np.random.Generator, db: float) -> None:
    """Another gadget at the same time, and a carrier that stays."""
    keyed = [on_off(sent(rng), RATE, HIGH) for _ in range(20)]
    others = [on_off(sent(rng, UNIT * rng.uniform(0.75, 0.95), rng.uniform(0, 4000)), RATE, LOW) for _ in range(20)]
    steady = [np.exp(2j * np.pi * LOW / RATE * np.arange(each.size)) for each in keyed]
    sizes = [min(a.size, b.size) for a, b in zip(keyed, others, strict=True)]
    assert share_of_two(rng, [a[:n] + b[:n] for a, b, n in zip(keyed, others, sizes, strict=True)], db) <= 0.1
    assert share_of_two(rng, [a + b for a, b in zip(keyed, steady, strict=True)], db) == 0
