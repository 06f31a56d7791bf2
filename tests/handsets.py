"""Signals made without the code under test: handsets written from the protocols' publications, and what receivers do.

A signal is a list of signed durations in µs, marks positive, spaces negative.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct, field

IDLE_US = 300_000.0


class Sent(Struct, frozen=True):
    """What was really sent: the truth to hold a reading against. ``frames`` counts the frames of the press."""

    protocol: str
    fields: dict[str, Any]
    frames: int


class Recording(Struct):
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


def distance_frame(leader: list[float], unit: float, spaces: tuple[float, float], bits: list[int]) -> list[float]:
    """A leader, then a mark of one unit and a space of one of two lengths for each bit, then a mark."""
    frame = list(leader)
    for bit in bits:
        frame += [unit, -unit * spaces[bit]]
    return [*frame, unit]


def in_period(frame: list[float], period: float) -> list[float]:
    return [*frame, -(period - sum(map(abs, frame)))]


def samsung(address: int, command: int, frames: int) -> list[float]:
    bits = lsb_first(address, 8) * 2 + lsb_first(command, 8) + lsb_first(~command & 0xFF, 8)
    return in_period(distance_frame([4500.0, -4500.0], 560.0, (1, 3), bits), 108_000) * frames


def jvc(address: int, command: int, frames: int) -> list[float]:
    bits = lsb_first(address, 8) + lsb_first(command, 8)
    first = in_period(distance_frame([8400.0, -4200.0], 525.0, (1, 3), bits), 59_000)
    return first + in_period(distance_frame([], 525.0, (1, 3), bits), 46_000) * (frames - 1)


def sony_long(command: int, more: list[int], frames: int) -> list[float]:
    frame = [2400.0, -600.0]
    for bit in lsb_first(command, 7) + more:
        frame += [1200.0 if bit else 600.0, -600.0]
    return in_period(frame[:-1], 45_000) * frames


def rc6(mode: int, toggle: int, address: int, command: int, frames: int) -> list[float]:
    halves = [2664.0, -888.0, 444.0, -444.0]
    for bit in msb_first(mode, 3):
        halves += [444.0, -444.0] if bit else [-444.0, 444.0]
    halves += [888.0, -888.0] if toggle else [-888.0, 888.0]
    for bit in msb_first(address, 8) + msb_first(command, 8):
        halves += [444.0, -444.0] if bit else [-444.0, 444.0]
    return [*halves, -83_000.0] * frames


def kaseikyo(vendor: int, genre: int, subdevice: int, function: int, frames: int) -> list[float]:
    parity = (vendor ^ vendor >> 4 ^ vendor >> 8 ^ vendor >> 12) & 15
    device = genre << 4 | parity
    numbers = [device, subdevice, function, device ^ subdevice ^ function]
    bits = lsb_first(vendor, 16) + [bit for number in numbers for bit in lsb_first(number, 8)]
    return [*distance_frame([3456.0, -1728.0], 432.0, (1, 3), bits), -74_736.0] * frames


def denon(address: int, command: int, pairs: int) -> list[float]:
    frames: list[float] = []
    for turned in (0, 1):
        bits = lsb_first(address, 5) + [bit ^ turned for bit in lsb_first(command, 8)] + [turned, turned]
        frames += [*distance_frame([], 264.0, (3, 7), bits), -43_560.0]
    return frames * pairs


def rca(address: int, command: int, frames: int) -> list[float]:
    bits = msb_first(address, 4) + msb_first(command, 8)
    bits += [1 - bit for bit in bits]
    return [*distance_frame([4000.0, -4000.0], 500.0, (2, 4), bits), -8000.0] * frames


def fixed_code(code: int, unit: float, frames: int) -> list[float]:
    frame: list[float] = []
    for bit in msb_first(code, 24):
        frame += [3 * unit, -unit] if bit else [unit, -3 * unit]
    return [*frame, unit, -31 * unit] * frames


def serial(data: list[int], baud: float, bits: int = 8, parity: str = "none", stop: int = 1) -> list[float]:
    """Characters with a mark for 0 and for the start bit; silence behind."""
    levels: list[int] = []
    for value in data:
        own = lsb_first(value, bits)
        check = {"none": [], "even": [sum(own) % 2], "odd": [1 - sum(own) % 2]}[parity]
        levels += [0, *own, *check, *[1] * stop]
    unit = 1e6 / baud
    return [*(unit if level == 0 else -unit for level in levels), -300_000.0]


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
    if protocol == "rc5":
        address, command = int(rng.integers(0, 32)), int(rng.integers(0, 128))
        fields = {"toggle": toggle, "address": address, "command": command}
        return rc5(address, command, toggle, 1 + more), Sent("rc5", fields, 1 + more)
    return _another_press(rng, protocol, toggle, more)


def _another_press(rng: np.random.Generator, protocol: str, toggle: int, more: int) -> tuple[list[float], Sent]:
    def number(width: int) -> int:
        return int(rng.integers(0, 1 << width))

    address, command, frames = number(8), number(8), 1 + more
    fields = {"address": address, "command": command}
    if protocol == "samsung32":
        return samsung(address, command, frames), Sent(protocol, fields, frames)
    if protocol == "jvc":
        return jvc(address, command, frames), Sent(protocol, fields, frames)
    if protocol == "sirc15":
        fields = {"command": command >> 1, "address": address}
        return sony_long(command >> 1, lsb_first(address, 8), 3 + more), Sent(protocol, fields, 3 + more)
    if protocol == "sirc20":
        fields = {"command": command >> 1, "address": address >> 3, "extended": number(8)}
        rest = lsb_first(address >> 3, 5) + lsb_first(fields["extended"], 8)
        return sony_long(command >> 1, rest, 3 + more), Sent(protocol, fields, 3 + more)
    if protocol == "rc6":
        fields = {"mode": 0, "toggle": toggle, **fields}
        return rc6(0, toggle, address, command, frames), Sent(protocol, fields, frames)
    if protocol == "kaseikyo":
        vendor, genre = number(16), number(4)
        parity = (vendor ^ vendor >> 4 ^ vendor >> 8 ^ vendor >> 12) & 15
        fields = {"vendor": vendor, "device": genre << 4 | parity, "subdevice": address, "function": command}
        return kaseikyo(vendor, genre, address, command, frames), Sent(protocol, fields, frames)
    if protocol == "denon":
        fields = {"address": address >> 3, "command": command}
        return denon(address >> 3, command, frames), Sent(protocol, fields, 2 * frames)
    if protocol == "rca":
        fields = {"address": address >> 4, "command": command}
        return rca(address >> 4, command, frames), Sent(protocol, fields, frames)
    if protocol == "fixed-code":
        code = number(24)
        pairs = [f"{code >> shift & 3:02b}" for shift in range(22, -2, -2)]
        digits = {"00": "0", "11": "1", "01": "F"}
        tristate = None if "10" in pairs else "".join(digits[pair] for pair in pairs)
        fields = {"code": code, "tristate": tristate}
        return fixed_code(code, float(rng.uniform(280, 450)), 4 + more), Sent(protocol, fields, 4 + more)
    data = tuple(number(8) for _ in range(int(rng.integers(4, 10))))
    baud = float(rng.choice([600, 1200, 2400]))
    return serial(list(data), baud), Sent("async-serial", {"bytes": data}, 1)


PROTOCOLS = ("nec", "nec-ext", "sirc12", "rc5")
ALL_PROTOCOLS = (
    *PROTOCOLS, "samsung32", "jvc", "sirc15", "sirc20", "rc6", "kaseikyo", "denon", "rca", "fixed-code", "async-serial",
)  # fmt: skip


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
