"""Recordings that begin within a leader, and receivers whose gain has to settle first."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import IDLE_US, Sent, distance_frame, join, random_press, record


def first_frame(protocol: str, seed: int = 3) -> tuple[list[float], Sent]:
    """The first frame of a press, without what follows it."""
    signed, sent = random_press(np.random.default_rng(seed), protocol, 0)
    signed = join(list(signed))
    return signed[: next((at for at, d in enumerate(signed) if d < -7_000), len(signed))], sent


def read(*frames: list[float], gap: float = IDLE_US) -> list[Frame]:
    signed = [-gap, *(d for frame in frames for d in (*frame, -gap))]
    return list(read_pulses(pulses_from_signed(np.array(signed)), library()).frames)


@pytest.mark.parametrize("protocol", ["nec", "nec-ext", "samsung32", "kaseikyo", "rca"])
@pytest.mark.parametrize("left", [0.15, 0.3, 0.8])
def test_a_leader_that_was_cut_short_is_said_and_the_code_read(protocol: str, left: float) -> None:
    signed, sent = first_frame(protocol)
    (frame,) = read([signed[0] * left, *signed[1:]])
    assert (frame.reading.protocol, frame.reading.fields) == (sent.protocol, sent.fields)
    if frame.mended:
        assert frame.mended == "its leader was cut short"
        assert frame.pulses.durations_us.size == len(signed)


def test_gain_that_settles_shortens_marks_and_lengthens_spaces() -> None:
    signed, sent = first_frame("samsung32")
    for at, cut in ((0, 900.0), (2, 180.0), (4, 90.0)):
        signed[at], signed[at + 1] = signed[at] - cut, signed[at + 1] - cut
    (frame,) = read(signed)
    assert frame.reading.protocol == sent.protocol
    assert frame.reading.fields == sent.fields


@pytest.mark.parametrize(("protocol", "lost"), [("nec", 12), ("kaseikyo", 22), ("jvc", 4), ("samsung32", 6)])
def test_what_is_left_of_a_frame_is_not_believed_to_be_one(protocol: str, lost: int) -> None:
    """Its bits are read, but nothing says that they are all."""
    signed, _ = first_frame(protocol)
    for frame in read(signed[2 * lost :]):
        assert frame.reading.confidence <= 0.5


def test_a_leader_that_comes_again_is_another_code() -> None:
    """Of NEC's symbols and checks, with a shorter leader of its own."""
    bits = [
        [1, 0, 1, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1, 1, 0, 1, *key, *(1 - bit for bit in key)]
        for key in ([0, 1] * 4, [1, 1, 0, 0] * 2)
    ]
    frames = [distance_frame([6200.0, -4500.0], 562.5, (1, 3), each) for each in bits]
    for frame, sent in zip(read(*frames), bits, strict=True):
        assert frame.is_unknown
        assert frame.reading.bits.tolist() == sent
        assert frame.reading.confidence > 0.9


def test_a_frame_of_another_sheet_by_the_leader_alone_is_doubted() -> None:
    """What is left of NEC's leader may be as long as another's, with the same checks."""
    signed, _ = first_frame("nec-ext")
    (frame,) = read([signed[0] * 0.6, *signed[1:]])
    assert frame.reading.protocol in ("nec-ext", "nec-x", "unknown")
    assert frame.reading.protocol == "nec-ext" or frame.reading.confidence <= 0.5


@pytest.mark.parametrize(("stray_us", "read_all_the_same"), [(140.0, True), (200.0, False)])
def test_a_stray_mark_before_what_is_left_of_a_leader(stray_us: float, read_all_the_same: bool) -> None:
    signed, _ = first_frame("nec")
    frames = read([stray_us, -2_500.0, 1_500.0, *signed[1:]])
    assert (frames[-1].mended == "its leader was cut short") == read_all_the_same


@pytest.mark.parametrize(("bit_us", "rest"), [(562.5, True), (950.0, True), (1100.0, False)])
def test_symbols_that_are_no_sheets_are_no_rest_of_its_frame(bit_us: float, rest: bool) -> None:
    bits = [0, 1, 1, 0, 1, 0, 0, 1, 1, 1, 0, 1, 0, 0, 1, 0, 1, 1, 0, 0, 1, 0, 1, 0]
    (frame,) = read(distance_frame([], bit_us, (1, 3), bits))
    assert frame.is_unknown
    assert (frame.reading.confidence <= 0.3) == rest


def test_a_leader_of_its_own_that_is_longer_is_not_cut(rng: np.random.Generator) -> None:
    """A lone frame in about the symbols of a state frame, with all of a leader: it was doubted now and then."""
    for _ in range(20):
        bits = rng.integers(0, 2, 112).tolist()
        frame = distance_frame([3500.0, -1700.0], 480.0, (0.82, 2.62), bits)  # type: ignore[arg-type]
        take = read_pulses(pulses_from_signed(record([-4e5, *frame, -4e5], rng, jitter_us=12)), library())
        assert [each.reading.confidence > 0.9 for each in take.frames] == [True]
