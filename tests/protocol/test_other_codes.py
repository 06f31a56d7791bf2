"""Line codes that the application does not know: it may show their bits as they are, but knows no name for them."""

from __future__ import annotations

from itertools import groupby

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed


def each_a_pulse(bits: list[int]) -> list[int]:
    """Marks and spaces alike: one unit for a 1, three for a 0."""
    return [1 if bit else 3 for bit in bits]


def miller(bits: list[int]) -> list[int]:
    """A change in the middle of a 1, and one between two 0 (Miller 1963)."""
    level, halves, before = 1, list[int](), 1
    for bit in bits:
        if not bit and not before:
            level = 1 - level
        halves += [level, 1 - level] if bit else [level, level]
        level, before = halves[-1], bit
    return [len(list(alike)) for _, alike in groupby(halves)]


def one_of_four(bits: list[int]) -> list[int]:
    """Two bits say which of four places the mark stands in."""
    places = [int(2 * one + two == at) for one, two in zip(bits[::2], bits[1::2], strict=True) for at in range(4)]
    return [len(list(alike)) for _, alike in groupby([1, 1, 1, 0, 0, 0, *places, 1])]


CODES = {"each a pulse": each_a_pulse, "miller": miller, "one of four": one_of_four}


def take(rng: np.random.Generator, code: str) -> np.ndarray:
    """Some presses of a gadget, each with copies; half of the bits are the same in all."""
    unit, size = rng.uniform(150, 600), 8 * int(rng.integers(4, 13))
    run_in = int(rng.integers(8, 12))
    leader = [[], [8, 4], [1] * 2 * run_in + [4, 4]][rng.integers(3)]
    same, copies, gap, jitter = rng.integers(0, 2, size // 2).tolist(), rng.integers(1, 5), rng.uniform(8e3, 3e4), 15
    signed: list[float] = []
    for _ in range(int(rng.integers(2, 7))):
        lengths = [*leader, *CODES[code]([*same, *rng.integers(0, 2, size // 2).tolist()])]
        frame = np.array([*lengths, *[1] * (1 - len(lengths) % 2)]) * unit
        for _ in range(int(copies)):
            heard = (frame + rng.normal(0, jitter, frame.size)) * np.resize([1, -1], frame.size)
            signed += [*heard.tolist(), -gap]
        signed[-1] = -400_000.0
    return np.array(signed)


@pytest.mark.parametrize("code", CODES)
def test_a_code_that_is_not_known_is_given_no_name(code: str) -> None:
    read = 0
    for seed in (3, 5):
        frames = read_pulses(pulses_from_signed(take(np.random.default_rng([7, seed]), code)), library()).frames
        read += len(frames)
        assert not [f for f in frames if f.reading.protocol != "unknown" and f.reading.confidence > 0.5], seed
    assert read > 10
