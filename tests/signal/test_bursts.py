"""Where recordings fall apart."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest

from eager_tern.signal.bursts import GapSettings, split_bursts
from eager_tern.signal.values import NO_PULSES, pulses_from_signed
from tests.handsets import nec, rc5, record, sony


@pytest.mark.parametrize("clock", [0.85, 1.0, 1.15])
@pytest.mark.parametrize("excess", [-140.0, 0.0, 140.0])
@pytest.mark.parametrize(
    ("signed", "frames"), [(nec(0xFF, 0x00, 2), 3), (sony(127, 31, 4), 4), (rc5(14, 0x55, 1, 2), 2), (nec(0, 0), 1)]
)
def test_frames_are_parted_at_their_gaps(
    rng: np.random.Generator, signed: list[float], frames: int, clock: float, excess: float
) -> None:
    pulses = pulses_from_signed(record(signed, rng, jitter_us=60, excess_us=excess, clock=clock))
    assert len(split_bursts(pulses)) == frames


def test_frames_close_together_are_parted_by_their_own_measure() -> None:
    frame = [2400.0, -600.0, *[1200.0, -600.0] * 20]
    frame[-1] = -6600.0  # a frame of twenty long bits leaves little of its 45 ms
    assert len(split_bursts(pulses_from_signed(np.array(frame * 3)))) == 3


@pytest.mark.parametrize("stuck_us", [16_000.0, 48_000.0])
def test_a_mark_too_long_for_any_frame_stands_by_itself(stuck_us: float) -> None:
    """Where noise leaves a line at the level of a mark, the frame behind it is whole."""
    frame = record(nec(7, 8), np.random.default_rng(1))
    signed = np.concatenate(([stuck_us, -7000.0], frame))
    pulses = pulses_from_signed(signed)
    assert split_bursts(pulses)[-1] == (2, pulses.durations_us.size - 1)


def test_slow_characters_have_long_marks() -> None:
    """At 300 baud a byte of noughts is a mark of 30 ms."""
    slow = 3333.0 * np.array([9, -1, 1, -2, 3, -1, 1, -3, 2, -1, 9, -1])
    assert len(split_bursts(pulses_from_signed(slow[:-1]))) == 1


def test_bursts_cover_every_mark() -> None:
    pulses = pulses_from_signed(np.array([*nec(1, 2, 3), 200.0, -80_000.0, *sony(1, 2)]))
    bursts = split_bursts(pulses)
    assert bursts[0][0] == 0
    assert bursts[-1][1] == pulses.durations_us.size - 1
    assert all(a[1] + 2 == b[0] for a, b in pairwise(bursts))
    assert all(first % 2 == 0 and last % 2 == 0 for first, last in bursts)


def test_a_gap_by_hand_is_kept_to() -> None:
    pulses = pulses_from_signed(np.array([500.0, -2000.0, 500.0, -5000.0, 500.0]))
    assert split_bursts(pulses, GapSettings(gap_us=1500)) == [(0, 0), (2, 2), (4, 4)]
    assert split_bursts(pulses, GapSettings(gap_us=3000)) == [(0, 2), (4, 4)]


def test_nothing_has_no_bursts() -> None:
    assert split_bursts(NO_PULSES) == []
