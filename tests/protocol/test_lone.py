"""Frames that stand alone, damaged: what they are taken for, and how surely."""

from __future__ import annotations

import numpy as np

from tests.damage import joined_at, read_alone, sure_and_wrong
from tests.handsets import nec_frame, serial


def test_a_frame_one_bit_short_of_its_sheet_is_doubted(rng: np.random.Generator) -> None:
    for _ in range(20):
        bits = [1, 0, 0, 1, *rng.integers(0, 2, 28).tolist()]
        found = read_alone(joined_at(nec_frame(bits), 6), rng)  # two short spaces and the mark between make one long
        assert all(frame.reading.confidence <= 0.5 for frame in found)


def test_a_damaged_frame_of_a_known_protocol_is_seldom_taken_for_another(rng: np.random.Generator) -> None:
    sure, asked = sure_and_wrong(rng, ("nec", "samsung32", "kaseikyo"), 6, lost=0)
    assert sure <= asked / 6


def test_characters_that_stand_alone_are_believed_all_the_same(rng: np.random.Generator) -> None:
    believed = 0
    for _ in range(40):
        data = tuple(rng.integers(0, 256, 7).tolist())
        best = read_alone(serial(list(data), 1200), rng)[0].reading
        believed += best.fields.get("bytes") == data and best.confidence > 0.9
    assert believed >= 35
