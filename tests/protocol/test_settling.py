"""What copies and inversions settle where a frame by itself is too uneven."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.candidates import Line, bursts_of, one_a_burst
from eager_tern.protocol.loading import library
from eager_tern.protocol.reading import read_by_sheets
from eager_tern.protocol.settling import _same_but_for_noise, like_their_copies, settled_by_sheets
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.bursts import split_bursts
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed
from tests.handsets import IDLE_US, distance_frame, random_press, record


def as_line(pulses: Pulses) -> Line:
    return Line(pulses, pulses.edge_times_us, tuple(library()))


def noisy(protocol: str, jitter_us: float, presses: int = 12) -> Pulses:
    rng = np.random.default_rng(5)
    signed = [-IDLE_US]
    for _ in range(presses):
        press = record(random_press(rng, protocol, 0)[0], rng, jitter_us=jitter_us, excess_us=60)
        signed += [*np.where(np.abs(press) < 20, np.sign(press) * 20, press).tolist(), -IDLE_US]
    return pulses_from_signed(np.array(signed))


def copies(ratio: float, jitter_us: float) -> Floats:
    """Six copies of 24 bits in a fixed period, the long pulse so many times the short one."""
    rng = np.random.default_rng(7)
    short = 1400 / (1 + ratio)
    lengths = [(short, -ratio * short), (ratio * short, -short)]
    frame = [x for bit in rng.integers(0, 2, 24) for x in lengths[bit]] + [short, -31 * short]
    return record(frame * 6, rng, jitter_us=jitter_us)


def settled(pulses: Pulses) -> tuple[set[int], int, int]:
    """The bursts settled by themselves, how many more copies settle, and how many there are."""
    line, bursts = as_line(pulses), split_bursts(pulses)
    found = one_a_burst(line, bursts, read_by_sheets)
    alone = settled_by_sheets(line, bursts, found)
    more = list(like_their_copies(line, bursts, set(range(len(bursts))) - alone, bursts_of(bursts, found)))
    return alone, len(more), len(bursts)


def test_uneven_copies_are_settled_by_their_mean() -> None:
    alone, more, bursts = settled(noisy("fixed-code", 70))
    assert len(alone) < 0.8 * bursts
    assert len(alone) + more >= 0.95 * bursts


def test_a_mean_that_lies_off_the_ruler_settles_nothing() -> None:
    """Copies of another code, of 1 to 1.7: noise averages out, what they are does not."""
    alone, more, bursts = settled(pulses_from_signed(copies(1.7, 70)))
    assert bursts == 6
    assert not alone
    assert not more
    alone, more, _ = settled(pulses_from_signed(copies(3.0, 70)))
    assert len(alone) + more == 6


def test_inverted_repeats_settle_each_other() -> None:
    pulses = noisy("denon", 60)
    alone, _, bursts = settled(pulses)
    assert len(alone) >= 0.9 * bursts
    assert {frame.reading.protocol for frame in read_pulses(pulses, library()).frames} <= {"denon", "sharp"}


@pytest.mark.parametrize("jitter_us", [15, 40])
def test_frames_of_no_sheet_are_left(jitter_us: float) -> None:
    bits = [0, 1, 1, 0, 1, 0, 0, 1, 1, 1, 0, 1, 0, 0, 1, 0, 1, 1, 0, 0, 1]
    frame = [*distance_frame([3000.0, -2000.0], 400.0, (1, 2), bits), -20_000.0]
    alone, more, _ = settled(pulses_from_signed(record(frame * 3, np.random.default_rng(1), jitter_us=jitter_us)))
    assert not alone
    assert not more


def test_copies_are_as_near_as_noise_makes_them() -> None:
    """The nearest is 10 µs away: 14 are the same noise, 18 are another frame."""
    frame = np.tile([500.0, 1000.0], 12)
    assert list(_same_but_for_noise(np.array([frame, frame + 10, frame + 14, frame + 18]))) == [[0, 1, 2]]
