"""Unknown frames with something at the ends of their bits that may be one more."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import join, record


def bits_read(frames: list[list[float]], rng: np.random.Generator) -> list[list[int]]:
    signed = join([-3e5, *(d for frame in frames for d in (*frame, -4e5))])
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=20)), library())
    return [frame.reading.bits.tolist() for frame in take.frames]


def of_a_period(bits: list[int]) -> list[float]:
    return [4800, -2400, *(d for bit in bits for d in ((1200, -400) if bit else (400, -1200)))][:-1]


def of_equal_spaces(bits: list[int]) -> list[float]:
    return [4800, -2400, *(d for bit in bits for d in ((1200 if bit else 400), -400))][:-1]


def biphase(bits: list[int], before: tuple[float, ...]) -> list[float]:
    return [*before, *(d for bit in bits for d in ((500, -500) if bit else (-500, 500)))]


@pytest.mark.parametrize("size", [21, 25, 33, 41])
def test_a_last_mark_that_is_long_in_one_press_is_a_bit_in_all(size: int, rng: np.random.Generator) -> None:
    sent = [rng.integers(0, 2, size).tolist() for _ in range(12)]
    for number, bits in enumerate(sent):
        bits[-1] = int(number > 9)
    assert bits_read([of_a_period(bits) for bits in sent], rng) == sent


def test_a_mark_that_is_always_short_behind_whole_groups_of_a_fixed_period_is_a_sync(rng: np.random.Generator) -> None:
    sent = [rng.integers(0, 2, 24).tolist() for _ in range(4)]
    assert bits_read([of_a_period([*bits, 0]) for bits in sent], rng) == sent


@pytest.mark.parametrize("size", [13, 20, 33])
def test_the_last_mark_of_equal_spaces_is_a_bit(size: int, rng: np.random.Generator) -> None:
    sent = [[*rng.integers(0, 2, size - 1).tolist(), 0] for _ in range(2)]
    assert bits_read([of_equal_spaces(bits) for bits in sent], rng) == sent


@pytest.mark.parametrize("size", [25, 41])
def test_half_a_bit_at_the_end_is_one_where_another_press_has_all_of_it(size: int, rng: np.random.Generator) -> None:
    sent = [[*rng.integers(0, 2, size - 1).tolist(), last] for last in (1, 0, 1)]
    assert bits_read([biphase(bits, (4000, -2000)) for bits in sent], rng) == sent


@pytest.mark.parametrize("size", [28, 32, 36])
def test_a_leaders_space_of_half_a_bit_is_none(size: int, rng: np.random.Generator) -> None:
    sent = [rng.integers(0, 2, size).tolist() for _ in range(3)]
    assert bits_read([biphase(bits, (4000, -500)) for bits in sent], rng) == sent
