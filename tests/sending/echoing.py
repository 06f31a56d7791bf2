"""What comes back of a press that was sent: a receiver's errors, a bit turned, a frame missing."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from tests.handsets import distance_frame, in_period, join, msb_first, nec_frame, record

Frame = list[float]  # signed µs, the silence behind it included


def a_nec(bits: list[int]) -> Frame:
    return in_period(nec_frame(bits), 108_000)


def a_sony(bits: list[int]) -> Frame:
    frame = [2400.0, -600.0]
    for bit in bits:
        frame += [1200.0 if bit else 600.0, -600.0]
    return in_period(frame[:-1], 45_000)


def an_rc5(bits: list[int]) -> Frame:
    halves: list[float] = []
    for bit in bits:
        halves += [-889.0, 889.0] if bit else [889.0, -889.0]
    joined = join(halves).tolist()
    joined = joined[1:] if joined[0] < 0 else joined
    return [*(joined if joined[-1] > 0 else joined[:-1]), -89_000.0]


def a_state(bits: list[int]) -> Frame:
    leader = [3440.0, -1720.0]
    first = distance_frame(leader, 430.0, (1, 3), bits[:40])
    return [*first, -9800.0, *distance_frame(leader, 430.0, (1, 3), bits[40:]), -60_000.0]


def a_fixed(bits: list[int]) -> Frame:
    frame: Frame = []
    for bit in bits:
        frame += [1050.0, -350.0] if bit else [350.0, -1050.0]
    return [*frame, 350.0, -10_850.0]


def a_stranger(bits: list[int]) -> Frame:
    return [*distance_frame([5200.0, -1300.0, 650.0, -1300.0], 650.0, (1, 2.5), bits), -38_000.0]


REPEAT = [9000.0, -2250.0, 562.5, -96_187.5]
# How a frame of so many bits is built, how many copies make a press, and the repeat code, where that is no copy.
KINDS: tuple[tuple[Callable[[list[int]], Frame], int, int, Frame | None], ...] = (
    (a_nec, 32, 3, REPEAT),
    (a_sony, 12, 3, None),
    (an_rc5, 14, 2, None),
    (a_state, 112, 1, None),
    (a_fixed, 24, 4, None),
    (a_stranger, 41, 2, None),
)


class Returned(Struct, frozen=True):
    """A press: the frames meant, what came back (signed µs), and the truth about it."""

    meant: list[Frame]
    heard: np.ndarray
    frames: int
    turned: bool
    clock: float
    excess_us: float
    bits: list[int]


def a_press(rng: np.random.Generator, kind: int | None = None) -> tuple[list[int], list[Frame], Callable[[], Frame]]:
    """Bits, the frames of a press, and how its first frame looks with one bit turned."""
    build, size, copies, repeat = KINDS[int(rng.integers(len(KINDS))) if kind is None else kind]
    bits = rng.integers(0, 2, size).tolist()
    if build is a_nec:
        one, other = rng.integers(0, 256, 2).tolist()
        bits = [b for n in (one, one ^ 255, other, other ^ 255) for b in msb_first(n, 8)[::-1]]
    if build is an_rc5:
        bits[:2] = [1, 1]

    def turned() -> Frame:
        other = list(bits)
        other[int(rng.integers(2, size))] ^= 1
        return build(other)

    frame = build(bits)
    return bits, [frame, *([repeat or frame] * (copies - 1))], turned


def returned(
    rng: np.random.Generator, jitter_us: float, excess_us: float, clock: float, turn: bool, miss: bool
) -> Returned:
    """One press through the air, with a stray pulse before it and chatter behind it."""
    bits, meant, turned = a_press(rng)
    heard = [list(frame) for frame in meant]
    if turn:
        heard[0] = turned()
    gone = miss and len(heard) > 1
    if gone:
        at = int(rng.integers(1, len(heard)))
        heard[at] = [-sum(map(abs, heard[at]))]
    row = [-float(rng.uniform(2e5, 4e5)), float(rng.uniform(80, 300)), -180_000.0]
    row += [d for frame in heard for d in frame]
    noise = rng.uniform(90, 900, 8)
    row += [-200_000.0, *(noise * np.where(np.arange(8) % 2, -1, 1)), -300_000.0]
    came = record(row, rng, jitter_us=jitter_us, excess_us=excess_us, clock=clock)
    return Returned(meant, came, len(heard) - gone, turn, clock, excess_us, bits)


def at_worst(rng: np.random.Generator, jitter_us: float) -> Returned:
    """With jitter up to that, ±150 µs, ±10 %, a bit turned in a fifth, a frame missing in a tenth."""
    return returned(
        rng,
        jitter_us=float(rng.uniform(0, jitter_us)),
        excess_us=float(rng.uniform(-150, 150)),
        clock=float(rng.uniform(0.9, 1.1)),
        turn=bool(rng.random() < 0.2),
        miss=bool(rng.random() < 0.1),
    )
