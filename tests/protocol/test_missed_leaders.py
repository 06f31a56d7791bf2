"""Frames like those that only follow another: whether their sheet is believed depends on what was seen before them."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import IDLE_US, distance_frame, in_period, jvc, record

FIRST_US = 59_000.0  # of a press, with the leader


def read(signed: list[float]) -> list[Frame]:
    pulses = pulses_from_signed(record(signed, np.random.default_rng(7), jitter_us=15))
    return [frame for press in read_pulses(pulses, library()).presses for frame in press.frames]


def without_leader(unit_us: float, presses: int, copies: int) -> list[float]:
    """Presses of a gadget that sends sixteen bits and never a leader."""
    rng = np.random.default_rng(11)
    signed = [-IDLE_US]
    for _ in range(presses):
        frame = distance_frame([], unit_us, (1, 3), rng.integers(0, 2, 16).tolist())
        signed += [*in_period(frame, FIRST_US) * copies, -IDLE_US]
    return signed


def begun_late(press: list[float]) -> list[float]:
    """A press of which the recorder missed the first frame, and began with the mark of the next."""
    at = int(np.searchsorted(np.cumsum(np.abs(press)), FIRST_US - 1.0)) + 1
    return press[at:]


@pytest.mark.parametrize("unit_us", [480.0, 525.0, 600.0])
@pytest.mark.parametrize("copies", [1, 3])
def test_what_never_follows_anything_is_unknown(unit_us: float, copies: int) -> None:
    frames = read(without_leader(unit_us, 3, copies))
    assert len(frames) == 3 * copies
    for frame in frames:
        assert (frame.reading.protocol, frame.reading.code) == ("unknown", "pulse-distance")
        assert frame.reading.confidence > 0.9
        assert "jvc" in [reading.protocol for reading in frame.readings]


def test_one_press_leaves_it_open() -> None:
    for unit_us in np.linspace(470.0, 610.0, 8).tolist():
        assert all(frame.reading.confidence < 0.9 for frame in read(without_leader(unit_us, 1, 3)))


def test_what_follows_is_believed_where_the_recording_began_late() -> None:
    frames = read([*begun_late(jvc(0x27, 0x5A, 5)), -IDLE_US])
    assert [frame.reading.protocol for frame in frames] == ["jvc"] * 4
    assert min(frame.reading.confidence for frame in frames) > 0.9


def test_a_leader_elsewhere_in_the_take_speaks_for_all() -> None:
    missed = begun_late(jvc(0x27, 0x5A, 3))
    frames = read([-IDLE_US, *missed, -IDLE_US, *jvc(0x27, 0x11, 3), -IDLE_US, *missed, -IDLE_US])
    assert [frame.reading.protocol for frame in frames] == ["jvc"] * 7
    assert min(frame.reading.confidence for frame in frames) > 0.9
