"""How fast frames are read, of every kind: held against what was measured before."""

from __future__ import annotations

import numpy as np
import pytest
from tests.handsets import ALL_PROTOCOLS, IDLE_US, distance_frame, evening, random_press, record
from tests.strangers import a_stranger, take_of

from benches.baseline import held_ratio
from benches.conftest import in_turn
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed

GAP_US = 9_000.0


def known(protocol: str) -> Floats:
    protocols = ALL_PROTOCOLS[:-1] if protocol == "mixed" else (protocol,)
    return np.array(evening(np.random.default_rng(3), 500, protocols, jitter_us=20).signed)


def unknown(code: str, leader: str, sections: int, presses: int, jitter_us: float = 20) -> Floats:
    rng = np.random.default_rng(3)
    return record(take_of(rng, a_stranger(rng, code, leader, sections), presses)[0], rng, jitter_us=jitter_us)


def beside_a_sheet() -> Floats:
    """Sections and timing of a long state frame of the library, and none of its bytes."""
    rng = np.random.default_rng(3)
    signed = [-IDLE_US]
    for _ in range(300):
        for size in (64, 64, 152):
            bits = rng.integers(0, 2, size).tolist()
            signed += [*distance_frame([3600.0, -1600.0], 430.0, (1, 3), bits), -24_000.0]
        signed[-1] = -IDLE_US
    return record(signed, rng, jitter_us=20)


def noisy(protocol: str) -> Floats:
    """A weak signal: so uneven that many a frame does not fit its sheet closely."""
    rng = np.random.default_rng(3)
    presses = [record(random_press(rng, protocol, 0)[0], rng, jitter_us=60, excess_us=60) for _ in range(30)]
    return np.concatenate([part for press in presses for part in ([-IDLE_US], press)])


def with_a_stray(protocol: str) -> Floats:
    """Presses in each of whose first frames a pulse is parted in two."""
    rng = np.random.default_rng(3)
    signed = [-IDLE_US]
    for toggle in range(60):
        press = record(random_press(rng, protocol, toggle % 2)[0], rng, jitter_us=20).tolist()
        at = next(i for i in range(int(rng.integers(4, 20)), len(press)) if abs(press[i]) > 350)
        sign, rest = np.sign(press[at]), (abs(press[at]) - 80) / 2
        signed += [*press[:at], sign * rest, -sign * 80, sign * rest, *press[at + 1 :], -IDLE_US]
    return np.array(signed)


KINDS = {
    "nec": lambda: known("nec"),
    "jvc": lambda: known("jvc"),
    "sirc12": lambda: known("sirc12"),
    "mixed": lambda: known("mixed"),
    "serial": lambda: known("async-serial"),
    "pulse distance": lambda: unknown("pulse-distance", "double", 1, 500),
    "bi-phase": lambda: unknown("biphase", "run-in", 1, 500),
    "three sections": lambda: unknown("pulse-distance", "mark-space", 3, 300),
    "beside a sheet": beside_a_sheet,
    "noisy, fixed code": lambda: noisy("fixed-code"),
    "noisy, denon": lambda: noisy("denon"),
    "noisy, unknown": lambda: unknown("pulse-distance", "mark-space", 1, 30, jitter_us=70),
    "strays, nec": lambda: with_a_stray("nec"),
    "strays, jvc": lambda: with_a_stray("jvc"),
}


def bare(pulses: Pulses) -> list[np.ndarray]:
    """The least that reading can be: each burst's pulses in units of the usual one."""
    d = pulses.durations_us
    ends = np.flatnonzero(d[1::2] > GAP_US) * 2 + 1
    return [np.rint(burst / np.median(burst)) for burst in np.split(d, ends) if burst.size]


@pytest.mark.parametrize("kind", KINDS)
def test_frames(kind: str) -> None:
    """Aim: 10,000 frames in 2 s; a press whose first frame holds a stray, or a noisy frame, 20 ms."""
    pulses = pulses_from_signed(KINDS[kind]())
    take = read_pulses(pulses, library())
    frames, presses = len(take.frames), len(take.presses)
    ours, _, ratio = in_turn(lambda: read_pulses(pulses, library()), lambda: bare(pulses), 3)
    print(f"\n{kind}: {1e4 * ours / frames:.1f} s for 10,000 frames, {1e3 * ours / presses:.1f} ms a press")
    held_ratio(f"speed, {kind}", ratio)
