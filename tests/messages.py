"""Gadgets that say things otherwise than remotes do: several kinds of messages, a check in the header, hours in six
bits, one bit for each of some shutters.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import reduce
from operator import xor

import numpy as np

from tests.gadgets import Value, crc_of

CHECKS: tuple[Callable[[list[int]], int], ...] = (
    lambda d: sum(d), lambda d: -sum(d), lambda d: ~sum(d), lambda d: reduce(xor, d), lambda d: sum(d) + 0x5A,
    lambda d: crc_of(d, 8, 0x31, 0, 0, False), lambda d: crc_of(d, 8, 0x07, 0xFF, 0, True),
)  # fmt: skip
COMMANDS = {"up": 1, "stop": 5, "down": 3, "teach": 8}
SWITCH = {"off": 0, "on": 1}


class Sender:
    """What all of them share: some number that stays, which bit of a byte is sent first, and which check there is."""

    def __init__(self, rng: np.random.Generator) -> None:
        self.rng = rng
        self.id = int(rng.integers(1, 255))
        self.lsb = bool(rng.integers(2))
        self.check = CHECKS[rng.integers(len(CHECKS))]

    def sent(self, data: list[int]) -> np.ndarray:
        bits = np.unpackbits(np.array(data, np.uint8).reshape(-1, 1), axis=1)
        return (bits[:, ::-1] if self.lsb else bits).ravel()

    def one_of(self, words: Mapping[str, int]) -> str:
        return str(self.rng.choice(list(words)))


class Station(Sender):
    """Two kinds of messages in the same bytes; each kind begins its check with a number of its own."""

    def __init__(self, rng: np.random.Generator) -> None:
        super().__init__(rng)
        self.seeds = [int(seed) for seed in rng.integers(1, 256, 2)]
        self.turned = bool(rng.integers(2))  # an exclusive-or instead of a sum

    def draw(self) -> dict[str, Value]:
        if self.rng.random() < 0.5:
            air = {"temperature": float(self.rng.integers(-100, 400)) / 10, "humidity": int(self.rng.integers(20, 100))}
            return {"kind": "air", **air, "speed": None, "direction": None}
        wind = {"speed": int(self.rng.integers(200)), "direction": int(self.rng.integers(16))}
        return {"kind": "wind", "temperature": None, "humidity": None, **wind}

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        said = {name: value for name, value in values.items() if isinstance(value, int | float)}
        if values["kind"] == "air":
            tenths = round(10 * said["temperature"]) & 0xFFF
            data, seed = [self.id, 0x10 | tenths >> 8, tenths & 255, int(said["humidity"])], self.seeds[0]
        else:
            data, seed = [self.id, 0x20 | int(said["direction"]), int(said["speed"]), 0x55], self.seeds[1]
        return self.sent([*data, (reduce(xor, data) ^ seed if self.turned else sum(data) + seed) & 255])


class Mast(Sender):
    """Three kinds of messages in turn: air, wind in steps of 0.4, and rain that is counted; beside the kind a bit for
    the battery. A sum of a count and of what stays goes up with the count.
    """

    def __init__(self, rng: np.random.Generator) -> None:
        super().__init__(rng)
        self.lsb, self.check = False, CHECKS[0]
        self.kinds = [int(kind) for kind in rng.permutation(16)[:3]]
        self.counted, self.turn = int(rng.integers(100, 900)), 0

    def draw(self) -> dict[str, Value]:
        kind, self.turn, rng = ("air", "wind", "rain")[self.turn % 3], self.turn + 1, self.rng
        self.counted += int(rng.integers(4))
        air = {"temperature": float(rng.integers(-50, 300)) / 10, "humidity": int(rng.integers(20, 95))}
        wind = {"wind": round(int(rng.integers(60)) * 0.4, 1), "gust": round(int(rng.integers(80)) * 0.4, 1)}
        own = {"air": air, "wind": wind, "rain": {"rain": self.counted / 4}}[kind]
        names = ("temperature", "humidity", "wind", "gust", "rain")
        return {
            "kind": kind,
            "battery": "on" if rng.random() < 0.1 else "off",
            **{name: own.get(name) for name in names},
        }

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        said = {name: float(value) for name, value in values.items() if isinstance(value, int | float)}
        match values["kind"]:
            case "air":
                number = (round(10 * said["temperature"]) & 0xFFF) << 12 | int(said["humidity"]) << 4
            case "wind":
                number = round(said["wind"] / 0.4) << 16 | round(said["gust"] / 0.4) << 8
            case _:
                number = round(4 * said["rain"]) << 8
        kind = self.kinds[("air", "wind", "rain").index(str(values["kind"]))]
        data = [self.id, kind << 4 | (values["battery"] == "on") << 3, *number.to_bytes(3, "big")]
        return self.sent([*data, self.check(data) & 0xFF])


class Panel(Sender):
    """Four scenes; the check of the header is said of them alone, the one behind everything of that as well."""

    def __init__(self, rng: np.random.Generator) -> None:
        super().__init__(rng)
        codes = rng.permutation(16)[:4].tolist()
        self.scenes = dict(zip(("eco", "boost", "away", "home"), codes, strict=True))

    def draw(self) -> dict[str, Value]:
        level, minutes = int(self.rng.integers(101)), int(self.rng.integers(241))
        return {"scene": self.one_of(self.scenes), "level": level, "minutes": minutes}

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        head = [self.id, 0x5C, 0x30 | self.scenes[str(values["scene"])]]
        data = [*head, reduce(xor, head), int(str(values["level"])), int(str(values["minutes"]))]
        return self.sent([*data, sum(data) & 255])


class Clock(Sender):
    """A thermostat set to hour and minute in BCD, the hour in the six bits beside two that never change."""

    def draw(self) -> dict[str, Value]:
        hour, minute, day = (int(self.rng.integers(most)) for most in (24, 60, 7))
        return {"hour": hour, "minute": minute, "day": day + 1, "wanted": 5 + int(self.rng.integers(51)) / 2}

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        hour, minute, day, wanted = (float(str(values[name])) for name in ("hour", "minute", "day", "wanted"))
        hours, minutes = (int(n) // 10 << 4 | int(n) % 10 for n in (hour, minute))
        data = [self.id, 0x80 | hours, minutes, int(day) << 4, int(2 * wanted)]
        return self.sent([*data, self.check(data) & 255])


class Shutters(Sender):
    """A bit for each of five shutters, and a command beside its complement."""

    def draw(self) -> dict[str, Value]:
        return {"command": self.one_of(COMMANDS), "shutter": int(self.rng.integers(1, 6))}

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        command = COMMANDS[str(values["command"])]
        data = [0xC3, self.id, 1 << int(str(values["shutter"])) - 1, command << 4 | 15 - command]
        return self.sent([*data, reduce(xor, data) ^ 255])


class Lantern(Sender):
    """A hundred per cent and a turn of the colour wheel, each said by a byte: neither comes out even."""

    def draw(self) -> dict[str, Value]:
        return {"hue": int(self.rng.integers(360)), "light": int(self.rng.integers(101)), "on": self.one_of(SWITCH)}

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        hue, light = (float(str(values[name])) for name in ("hue", "light"))
        data = [self.id, 0x2A, round(hue * 255 / 360), round(light * 2.55), SWITCH[str(values["on"])] << 7]
        return self.sent([*data, self.check(data) & 255])


class Feeder(Sender):
    """A timer set in quarters of an hour and sent in minutes: their digits seem to check one another."""

    def draw(self) -> dict[str, Value]:
        days = {day: self.one_of(SWITCH) for day in ("friday", "saturday", "sunday")}
        return {"start": int(self.rng.integers(24)), "lasts": 15 * int(self.rng.integers(1, 49)), **days}

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        lasts = int(str(values["lasts"]))
        days = sum(SWITCH[str(values[day])] << at for at, day in enumerate(("friday", "saturday", "sunday")))
        data = [self.id, 0x71, days, int(str(values["start"])), lasts >> 8, lasts & 255]
        return self.sent([*data, self.check(data) & 255])


class Words(Sender):
    """Words of eight bits whose last one makes the number of ones odd or even."""

    def __init__(self, rng: np.random.Generator) -> None:
        super().__init__(rng)
        self.odd = int(rng.integers(2))

    def draw(self) -> dict[str, Value]:
        lift, sway, drift = (int(self.rng.integers(most)) for most in (1024, 512, 512))
        return {"lift": lift, "sway": sway, "drift": drift, "lights": self.one_of(SWITCH)}

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        lift, sway, drift = (int(str(values[name])) for name in ("lift", "sway", "drift"))
        number = f"{self.id & 127:07b}{lift:010b}{sway:09b}{drift:09b}{SWITCH[str(values['lights'])]}101010"
        words = np.array([int(bit) for bit in number], np.uint8).reshape(-1, 7)
        return np.column_stack((words, (words.sum(axis=1) + self.odd) % 2)).astype(np.uint8).ravel()


class Guard(Sender):
    """Seven bits that change, and four of a CRC behind them."""

    def __init__(self, rng: np.random.Generator) -> None:
        super().__init__(rng)
        self.states = dict(zip(("shut", "open", "forced", "test"), rng.permutation([0, 1, 2, 4]).tolist(), strict=True))

    def draw(self) -> dict[str, Value]:
        zone = int(self.rng.integers(1, 9))
        return {"zone": zone, "state": self.one_of(self.states), "battery": self.one_of(SWITCH)}

    def frame(self, values: Mapping[str, Value], _: int) -> np.ndarray:
        states = int(str(values["zone"])) - 1 << 5 | self.states[str(values["state"])] << 2
        data = [self.id >> 4, self.id & 15, 6, 9, states >> 4, states & 15, SWITCH[str(values["battery"])] << 3 | 1]
        register = 5
        for bit in "".join(f"{nibble:04b}" for nibble in data):
            register = register << 1 & 15 ^ (3 if (register >> 3) != int(bit) else 0)
        return np.array([int(bit) for nibble in (*data, register) for bit in f"{nibble:04b}"], np.uint8)


class Bath(Sender):
    """A pool's probe: the exclusive-or of all that follows stands in front, so it could be any other byte's check."""

    def draw(self) -> dict[str, Value]:
        acid, redox, warm = (int(self.rng.integers(*span)) for span in ((100, 255), (100, 225), (20, 140)))
        pump = str(self.rng.choice(["off", "eco", "boost"]))
        return {"ph": round(5 + acid / 100, 2), "redox": 4 * redox, "temperature": warm / 4, "pump": pump}

    def frame(self, values: Mapping[str, Value], number: int) -> np.ndarray:
        numbers = [round(100 * (values["ph"] - 5)), values["redox"] // 4, round(4 * values["temperature"])]
        data = [self.id, *numbers, ("off", "eco", "boost").index(values["pump"]) << 3]
        return self.sent([reduce(xor, data), *data])


class Meter(Sender):
    """An electricity meter whose numbers begin with their lowest byte; what it counts is far from nought."""

    def __init__(self, rng: np.random.Generator) -> None:
        super().__init__(rng)
        self.lsb, self.counted = False, int(rng.integers(1 << 15, 1 << 19))

    def draw(self) -> dict[str, Value]:
        self.counted += int(self.rng.integers(0, 40))
        power, volts = int(self.rng.integers(3600)), int(self.rng.integers(2200, 2450))
        return {"power": power, "energy": self.counted / 100, "voltage": volts / 10}

    def frame(self, values: Mapping[str, Value], number: int) -> np.ndarray:
        sizes = ((values["power"], 2), (round(100 * values["energy"]), 3), (round(10 * values["voltage"]), 2))
        data = [self.id, *(byte for value, size in sizes for byte in int(value).to_bytes(size, "little"))]
        return self.sent([*data, crc_of(data, 8, 0x31, 0, 0, False)])


class Slats(Sender):
    """A blind's position in steps of 5 %, a tilt with a sign, and one bit that says how fast."""

    def draw(self) -> dict[str, Value]:
        position, tilt = 5 * int(self.rng.integers(21)), 15 * int(self.rng.integers(-6, 7))
        command, speed = self.one_of({"go": 2, "stop": 7, "learn": 9}), self.one_of({"slow": 0, "fast": 1})
        return {"command": command, "position": position, "tilt": tilt, "speed": speed}

    def frame(self, values: Mapping[str, Value], number: int) -> np.ndarray:
        command = {"go": 2, "stop": 7, "learn": 9}[values["command"]] << 4 | (values["speed"] == "fast") << 3
        data = [self.id, command, values["position"] // 5, values["tilt"] // 15 & 0xFF]
        return self.sent([*data, self.check(data) & 0xFF])
