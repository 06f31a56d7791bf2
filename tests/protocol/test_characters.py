"""Frames of serial characters in a take: rests between them, and framings that explain them alike."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import join, record, serial


def heard(
    messages: list[list[int]],
    rng: np.random.Generator,
    rest_bits: float = 0.0,
    baud: float = 600.0,
    bits: int = 8,
    parity: str = "none",
) -> list[Frame]:
    signed = [-3e5]
    for data in messages:
        for value in data:
            signed += [*serial([value], baud, bits, parity)[:-1], -rest_bits * 1e6 / baud]
        signed.append(-4e5)
    noisy = record(join(signed).tolist(), rng, jitter_us=25, excess_us=40)
    return read_pulses(pulses_from_signed(noisy), library()).frames


@pytest.mark.parametrize("baud", [300.0, 1200.0])
def test_a_rest_of_a_bit_and_a_half_is_no_whole_bits(baud: float, rng: np.random.Generator) -> None:
    """At 300 baud half a bit is 1.7 ms, which no receiver's jitter makes of an edge."""
    for _ in range(4):
        sent = [rng.integers(0, 256, 6).tolist() for _ in range(3)]
        frames = heard(sent, rng, 1.5, baud=baud)
        assert [list(frame.reading.fields["bytes"]) for frame in frames] == sent


def test_a_long_space_between_characters_with_rests_ends_no_frame(rng: np.random.Generator) -> None:
    sent = [[61, 221, 25, last, 200] for last in (1, 255, 236, 255)]
    frames = heard(sent, rng, 4.0, baud=1200.0, parity="odd")
    assert [list(frame.reading.fields["bytes"]) for frame in frames] == sent


def test_seven_bits_with_parity_are_told_from_eight_by_as_many_characters_as_that_takes(
    rng: np.random.Generator,
) -> None:
    """Eight bits without parity are some 140 times as usual, and each character of even parity makes them half as
    likely; the same characters again say nothing new.
    """
    text = [ord(letter) for letter in "nest box 7: 21.5 C"]
    sure = []
    for length in (6, 8, 18):
        (frame,) = heard([text[:length]], rng, bits=7, parity="even")
        seven = frame.reading.framing == (7, "even", 1)
        sure.append(frame.reading.confidence if seven else -frame.reading.confidence)
    assert all(before < after for before, after in pairwise(sure))
    assert abs(sure[0]) < 0.9
    assert sure[2] > 0.9
    again = heard([text[:6]] * 4, rng, bits=7, parity="even")
    assert all(frame.reading.confidence < 0.9 for frame in again)
