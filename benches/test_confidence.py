"""What a confidence is worth, on signals made without the code under test."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
from tests.damage import sure_and_wrong
from tests.handsets import ALL_PROTOCOLS, random_press, record

from benches.baseline import held
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed

BOUNDS = (0.0, 0.3, 0.6, 0.85, 0.95, 1.0)


def test_confidence() -> None:
    """Aim: among readings given 0.9, about nine in ten are right. Impairments from none to twice what is promised."""
    rng = np.random.default_rng(11)
    given, right = [], []
    for number in range(1200):
        signed, sent = random_press(rng, ALL_PROTOCOLS[number % len(ALL_PROTOCOLS)], number % 2)
        worst = rng.uniform(0, 2)
        noisy = record(
            [-300_000.0, *signed],
            rng,
            jitter_us=60 * worst,
            excess_us=float(rng.uniform(-140, 140)) * worst,
            clock=float(rng.uniform(-0.15, 0.15)) * worst / 2 + 1,
        )
        noisy = np.where(np.abs(noisy) < 20, np.sign(noisy) * 20, noisy)  # a receiver swallows no pulse here
        for press in read_pulses(pulses_from_signed(noisy), library()).presses[:1]:
            best = press.lead.best
            if best is not None and best.known:
                given.append(best.confidence)
                right.append(best.protocol == sent.protocol and best.fields == sent.fields)
    print()
    for low, high in pairwise(BOUNDS):
        among = [ok for confidence, ok in zip(given, right, strict=True) if low <= confidence < high]
        if among:
            print(f"confidence {low:.2f} to {high:.2f}: {sum(among)} of {len(among)} right, {np.mean(among):.2f}")


@pytest.mark.parametrize(("lost", "what"), [(0, "mark"), (1, "space")])
def test_damaged_alone(lost: int, what: str) -> None:
    """A lone frame that lost a pulse is seldom taken for something else, and sure of it."""
    sure, asked = sure_and_wrong(np.random.default_rng(7), ALL_PROTOCOLS[:-1], 20, lost)
    held(f"lone frames that lost a {what}, none sure and wrong", asked - sure, asked)
