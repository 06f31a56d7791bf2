"""Frames that stand alone, damaged: what they are taken for, and how surely."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import ALL_PROTOCOLS, nec_frame, random_press, record, serial


def read(signed: list[float], rng: np.random.Generator) -> list[Frame]:
    noisy = record([-3e5, *signed, -3e5], rng, jitter_us=20, excess_us=20)
    return read_pulses(pulses_from_signed(noisy), library()).frames


def joined_at(signed: list[float], at: int) -> list[float]:
    """The frame without the pulse ``at``, which those beside it take up."""
    whole = sum(map(abs, signed[at - 1 : at + 2]))
    return [*signed[: at - 1], float(np.copysign(whole, signed[at - 1])), *signed[at + 2 :]]


def test_a_frame_one_bit_short_of_its_sheet_is_doubted(rng: np.random.Generator) -> None:
    for _ in range(20):
        bits = [1, 0, 0, 1, *rng.integers(0, 2, 28).tolist()]
        found = read(joined_at(nec_frame(bits), 6), rng)  # two short spaces and the mark between make one long
        assert all(frame.reading.confidence <= 0.5 for frame in found)


@pytest.mark.parametrize("lost", [0, 1])
def test_a_damaged_frame_of_a_known_protocol_is_seldom_taken_for_another(rng: np.random.Generator, lost: int) -> None:
    sure = asked = 0
    for protocol in ALL_PROTOCOLS[:-1]:
        for toggle in range(12):
            press, sent = random_press(rng, protocol, toggle % 2)
            end = next((i for i, d in enumerate(press) if d < -9000), len(press))
            frame = press[:end]
            asked += 1
            for found in read(joined_at(frame, 2 * int(rng.integers(2, len(frame) // 2 - 1)) + lost), rng):
                wrong = any(found.reading.fields.get(name) != value for name, value in sent.fields.items())
                sure += found.reading.confidence > 0.9 and (found.reading.protocol != sent.protocol or wrong)
    assert sure <= 0.1 * asked


def test_characters_that_stand_alone_are_believed_all_the_same(rng: np.random.Generator) -> None:
    believed = 0
    for _ in range(40):
        data = tuple(rng.integers(0, 256, 7).tolist())
        best = read(serial(list(data), 1200), rng)[0].reading
        believed += best.fields.get("bytes") == data and best.confidence > 0.9
    assert believed >= 35
