"""Signals made without the code under test: handsets written from the protocols' publications, and what receivers do.

A signal is a list of signed durations in µs, marks positive, spaces negative.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

IDLE_US = 300_000.0


@dataclass(frozen=True)
class Sent:
    """What was really sent: the truth to hold a reading against. ``frames`` counts the frames of the press."""

    protocol: str
    fields: dict[str, int]
    frames: int


@dataclass
class Recording:
    """Signed durations with the presses in them."""

    signed: list[float] = field(default_factory=list)
    presses: list[Sent] = field(default_factory=list)


def lsb_first(value: int, width: int) -> list[int]:
    return [value >> i & 1 for i in range(width)]


def msb_first(value: int, width: int) -> list[int]:
    return lsb_first(value, width)[::-1]


def nec_frame(bits: list[int]) -> list[float]:
    frame = [9000.0, -4500.0]
    for bit in bits:
        frame += [562.5, -1687.5 if bit else -562.5]
    return [*frame, 562.5]


def nec(address: int, command: int, repeats: int = 0, extended: bool = False) -> list[float]:
    head = lsb_first(address, 16) if extended else lsb_first(address, 8) + lsb_first(~address & 0xFF, 8)
    first = nec_frame(head + lsb_first(command, 8) + lsb_first(~command & 0xFF, 8))
    out = [*first, -(108_000 - sum(map(abs, first)))]
    for _ in range(repeats):
        out += [9000.0, -2250.0, 562.5, -(108_000 - 11_812.5)]
    return out


def sony(command: int, address: int, frames: int = 3) -> list[float]:
    frame = [2400.0, -600.0]
    for bit in lsb_first(command, 7) + lsb_first(address, 5):
        frame += [1200.0 if bit else 600.0, -600.0]
    length = sum(map(abs, frame))
    frame[-1] -= 45_000 - length
    return frame * frames


def rc5(address: int, command: int, toggle: int, frames: int = 1) -> list[float]:
    bits = [1, 1 - (command >> 6), toggle, *msb_first(address, 5), *msb_first(command & 63, 6)]
    halves: list[float] = []
    for bit in bits:
        halves += [-889.0, 889.0] if bit else [889.0, -889.0]
    return [*halves, -(113_778 - 28 * 889.0)] * frames


def join(signed: list[float]) -> np.ndarray:
    """Neighbours of one sign added up."""
    out: list[float] = []
    for d in signed:
        if out and (d > 0) == (out[-1] > 0):
            out[-1] += d
        else:
            out.append(d)
    return np.array(out)


def record(
    signed: list[float],
    rng: np.random.Generator,
    *,
    jitter_us: float = 0.0,
    excess_us: float = 0.0,
    clock: float = 1.0,
) -> np.ndarray:
    """What a receiver makes of it: durations scaled, edges shifted each on its own, marks longer by the excess."""
    joined = join(signed)
    edges = np.concatenate(([0.0], np.cumsum(np.abs(joined)) * clock))
    edges[1:] += rng.normal(0.0, jitter_us, edges.size - 1)
    edges[1:] += np.where(joined > 0, excess_us, 0.0)
    return np.diff(edges) * np.sign(joined)


def random_press(rng: np.random.Generator, protocol: str, toggle: int) -> tuple[list[float], Sent]:
    """A press of one of the protocols with random numbers and a random hold."""
    more = int(rng.integers(0, 4))
    if protocol == "nec":
        address, command = (int(v) for v in rng.integers(0, 256, 2))
        return nec(address, command, more), Sent("nec", {"address": address, "command": command}, 1 + more)
    if protocol == "nec-ext":
        low, command = (int(v) for v in rng.integers(0, 256, 2))
        high = (low ^ 0xFF ^ int(rng.integers(1, 256))) & 0xFF
        address = high << 8 | low
        return nec(address, command, more, True), Sent("nec-ext", {"address": address, "command": command}, 1 + more)
    if protocol == "sirc12":
        command, address = int(rng.integers(0, 128)), int(rng.integers(0, 32))
        return sony(command, address, 3 + more), Sent("sirc12", {"command": command, "address": address}, 3 + more)
    address, command = int(rng.integers(0, 32)), int(rng.integers(0, 128))
    fields = {"toggle": toggle, "address": address, "command": command}
    return rc5(address, command, toggle, 1 + more), Sent("rc5", fields, 1 + more)


PROTOCOLS = ("nec", "nec-ext", "sirc12", "rc5")


def evening(
    rng: np.random.Generator, presses: int, protocols: tuple[str, ...] = PROTOCOLS, **impairments: float
) -> Recording:
    """Some presses one after the other, a good third of a second of silence between."""
    out = Recording(signed=[-IDLE_US])
    for number in range(presses):
        signed, sent = random_press(rng, protocols[int(rng.integers(len(protocols)))], number % 2)
        out.signed += [*record(signed, rng, **impairments), -IDLE_US]
        out.presses.append(sent)
    return out
