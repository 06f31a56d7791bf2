"""Known frames in which pulses that should be of one length are of two."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import IDLE_US, random_press, record

SHEETS = library()
# Of a code that changes in the middle of each 1 and between two 0s: two, three and four times 400 µs.
OF_THREE_LENGTHS = (
    (3, 3, 2, 3, 2, 2, 2, 3, 3, 3, 2, 3, 4, 2, 2, 2, 2, 2, 2, 2, 2, 4, 3, 3, 2),
    (3, 2, 2, 4, 3, 3, 2, 2, 4, 2, 2, 3, 3, 2, 3, 2, 3, 3, 3, 2, 4, 2, 2, 2, 2),
)


@pytest.mark.parametrize("lengths", OF_THREE_LENGTHS)
def test_three_lengths_are_no_half_bits(rng: np.random.Generator, lengths: tuple[int, ...]) -> None:
    signed = 400.0 * np.array(lengths) * np.where(np.arange(len(lengths)) % 2 == 0, 1, -1)
    noisy = record([-IDLE_US, *signed, -IDLE_US, *signed, -IDLE_US], rng, jitter_us=8, excess_us=-14)
    frames = read_pulses(pulses_from_signed(noisy), SHEETS).frames
    assert not any(f.reading.known and f.reading.confidence > 0.5 for f in frames)


def test_a_weak_signal_is_no_other_code(rng: np.random.Generator) -> None:
    """Jitter spreads each length, however far."""
    sure = 0
    for toggle in range(30):
        signed, _ = random_press(rng, "rc5", toggle % 2)
        noisy = record([-IDLE_US, *signed], rng, jitter_us=110)
        lead = read_pulses(pulses_from_signed(noisy), SHEETS).presses[0].lead.reading
        sure += lead.protocol == "rc5" and lead.confidence > 0.9
    assert sure >= 28
