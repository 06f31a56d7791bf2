"""Made-up gadgets for comparisons: what they send for what is set, independent of the code under test."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct, field

Value = float | str | None


class Gadget(Struct):
    """``bits`` maps settings to a frame; ``settings`` draws some at random. ``check`` names the check it has."""

    name: str
    columns: int
    sections: tuple[int, ...]
    check: str
    draw: Callable[[np.random.Generator], dict[str, Value]]
    write: Callable[[dict[str, Value], int], list[int]]
    fields: dict[str, str] = field(default_factory=dict)

    def frames(self, rng: np.random.Generator, rows: int) -> tuple[np.ndarray, dict[str, tuple[Value, ...]]]:
        settings = [self.draw(rng) for _ in range(rows)]
        bits = np.array([self.write(values, number) for number, values in enumerate(settings)], dtype=np.uint8)
        return bits, {name: tuple(values[name] for values in settings) for name in settings[0]}


def same_value(said: object, value: Value) -> bool:
    """Whether what a sheet says of a field is what was set, whole numbers and fractions alike."""
    return said == value or (isinstance(said, float | int) and isinstance(value, float) and abs(said - value) < 1e-6)


def put(frame: list[int], positions: list[int], number: int) -> None:
    """A number at positions, the most significant first."""
    for place, position in enumerate(reversed(positions)):
        frame[position] = number >> place & 1


def number_at(frame: list[int], positions: list[int]) -> int:
    value = 0
    for position in positions:
        value = value * 2 + frame[position]
    return value


def as_bytes(frame: list[int], first: int, last: int, lsb: bool, unit: int = 8) -> list[int]:
    found = []
    for at in range(first, last, unit):
        run = frame[at : at + unit]
        found.append(sum(bit << (i if lsb else len(run) - 1 - i) for i, bit in enumerate(run)))
    return found


def crc_of(data: list[int], width: int, poly: int, start: int, final: int, reflected: bool) -> int:
    """Byte by byte, the register shifted left; reflected: each byte and the result turned round."""
    register = start
    for byte in data:
        byte = int(f"{byte:08b}"[::-1], 2) if reflected else byte
        for i in range(7, -1, -1):
            top = register >> (width - 1) & 1
            register = (register << 1) & ((1 << width) - 1)
            if top ^ (byte >> i & 1):
                register ^= poly
    if reflected:
        register = int(f"{register:0{width}b}"[::-1], 2)
    return register ^ final


def gray(number: int) -> int:
    return number ^ number >> 1


CHECKS = (
    "none", "sum", "sum-seed", "negated", "nibbles", "xor", "xor-seed", "crc8", "crc8-reflected", "crc16", "carry",
    "table", "complements", "swap",
)  # fmt: skip


def close(
    frame: list[int], start: int, end: int, kind: str, lsb: bool, rng: np.random.Generator
) -> Callable[[list[int]], None]:
    """A function that fills the last byte (or two) of frame[start:end]; its numbers are drawn once."""
    seed, poly = int(rng.integers(1, 256)), int(rng.integers(0, 128)) * 2 + 1
    poly16 = int(rng.integers(0, 32768)) * 2 + 1
    table = [int(rng.integers(1, 256)) for _ in range(end - start)]

    def fill(frame: list[int]) -> None:
        last = end - (16 if kind == "crc16" else 8)
        data = as_bytes(frame, start, last, lsb)
        width = 8
        match kind:
            case "none":
                return
            case "sum":
                value = sum(data)
            case "sum-seed":
                value = sum(data) + seed
            case "negated":
                value = -sum(data)
            case "carry":
                value = sum(data)
                while value >> 8:
                    value = (value & 255) + (value >> 8)
            case "nibbles":
                value = sum((b & 15) + (b >> 4) for b in data)
            case "swap":
                value = sum(data) & 255
                value = value >> 4 | (value & 15) << 4
            case "xor" | "xor-seed":
                value = seed if kind == "xor-seed" else 0
                for byte in data:
                    value ^= byte
            case "crc8":
                value = crc_of(data, 8, poly, seed, 0, False)
            case "crc8-reflected":
                value = crc_of(data, 8, poly, 0, seed, True)
            case "crc16":
                value, width = crc_of(data, 16, poly16, 0xFFFF, 0, lsb), 16
            case "table":
                value = seed
                for i, bit in enumerate(frame[start:last]):
                    value ^= table[i] if bit else 0
            case _:
                return
        value &= (1 << width) - 1
        run = list(range(last, end))
        put(frame, run[::-1] if lsb else run, value)

    return fill


def climate(rng: np.random.Generator, check: str = "") -> Gadget:
    """An air conditioner's whole state in one frame of one or two sections."""
    lsb = bool(rng.random() < 0.7)
    check = check or str(rng.choice(CHECKS))
    count = int(rng.integers(7, 16))
    two = bool(rng.random() < 0.4) and count > 9
    first_end = 8 * int(rng.integers(3, 5)) if two else 0
    columns = 8 * count
    header = rng.integers(0, 2, columns).tolist()
    free = list(range(first_end // 8 + (1 if not two else 0), count - (2 if check == "crc16" else 1)))
    rng.shuffle(free)
    if check == "complements":
        pairs = [(b, b + 1) for b in range(first_end // 8, count - 1, 2)]
        free = [a for a, _ in pairs]
        rng.shuffle(free)
    blank = list(header)

    def run(byte: int, low: int, width: int) -> list[int]:
        """Positions msb first, the lowest bit ``low`` above the byte's lowest."""
        at = 8 * byte
        if lsb:
            return [at + low + i for i in range(width)][::-1]
        return [at + 7 - low - i for i in range(width)][::-1]

    temperature_byte, mode_byte, fan_byte = free[0], free[1], free[2]
    low = int(rng.integers(0, 4))
    places = {"temperature": run(temperature_byte, low, 5), "power": run(mode_byte, 7, 1), "mode": run(mode_byte, 0, 3),
              "blower": run(fan_byte, 1, 2), "swing": run(fan_byte, 4, 1)}  # fmt: skip
    coding = str(rng.choice(["offset", "half", "gray", "negative", "bcd", "table"]))
    if coding == "bcd":
        places["temperature"] = run(temperature_byte, 0, 8)
    half = run(fan_byte, 6, 1)
    lowest = int(rng.choice([16, 17, 18]))
    modes = ["cool", "dry", "fan", "heat", "auto"]
    codes = [int(c) for c in rng.permutation(8)[:5]]
    blower = [int(c) for c in rng.permutation(4)[:3]]
    shuffled = [int(c) for c in rng.permutation(32)]
    conditional = bool(rng.random() < 0.5)
    counted = bool(rng.random() < 0.3) and len(free) > 3
    counter = run(free[3], 0, 4) if counted else []
    for name in places:
        put(blank, places[name], 0)
    put(blank, half, 0)
    ends = (first_end, columns) if two else (columns,)
    fills = [
        close(blank, start, end, check, lsb, rng)
        for start, end in zip((0, first_end) if two else (0,), ends, strict=True)
    ]

    def draw(rng: np.random.Generator) -> dict[str, Value]:
        return {
            "temperature": float(lowest + rng.integers(0, 14) + (0.5 * rng.integers(0, 2) if coding == "half" else 0)),
            "power": str(rng.choice(["on", "on", "on", "off"])),
            "mode": str(rng.choice(modes)),
            "blower": float(rng.integers(1, 4)),
            "swing": str(rng.choice(["yes", "no"])),
        }

    def write(values: dict[str, Value], number: int) -> list[int]:
        frame = list(blank)
        degrees = float(values["temperature"] or 0)
        raw = int(degrees) - lowest + 1
        match coding:
            case "half":
                put(frame, half, int(degrees % 1 > 0))
            case "gray":
                raw = gray(raw)
            case "negative":
                raw = 31 - raw
            case "bcd":
                raw = int(degrees) // 10 * 16 + int(degrees) % 10
            case "table":
                raw = shuffled[int(degrees) - lowest]
        put(frame, places["temperature"], raw)
        put(frame, places["power"], int(values["power"] == "on"))
        put(frame, places["mode"], codes[modes.index(str(values["mode"]))])
        put(frame, places["blower"], blower[int(float(values["blower"] or 1)) - 1])
        if conditional and values["mode"] == "fan":
            put(frame, places["blower"], 3)
        put(frame, places["swing"], int(values["swing"] == "yes"))
        if counted:
            put(frame, counter, number % 16)
        if check == "complements":
            for a, b in pairs:
                frame[8 * b : 8 * b + 8] = [1 - bit for bit in frame[8 * a : 8 * a + 8]]
        for fill in fills:
            fill(frame)
        return frame

    return Gadget(
        f"climate, {coding}, {check}, {'two sections' if two else 'one section'}{', counter' if counted else ''}"
        f"{', conditional' if conditional else ''}{', lsb' if lsb else ', msb'}",
        columns, (first_end, columns - first_end) if two else (columns,), check, draw, write, {"temperature": coding},
    )  # fmt: skip


def sensor(rng: np.random.Generator) -> Gadget:
    """A radio sensor: id, battery, channel, a signed or offset temperature in tenths, humidity, CRC or nibble sum."""
    check = str(rng.choice(["crc8", "nibbles", "sum", "xor", "none"]))
    signed = bool(rng.random() < 0.5)
    bcd = bool(rng.random() < 0.3)
    ident = rng.integers(0, 2, 8).tolist()
    fill = close([], 0, 48, check, False, rng)

    def draw(rng: np.random.Generator) -> dict[str, Value]:
        return {"temperature": round(float(rng.integers(-150, 350)) / 10, 1), "humidity": float(rng.integers(20, 99)),
                "channel": float(rng.integers(1, 4)), "battery": str(rng.choice(["good", "good", "low"]))}  # fmt: skip

    def write(values: dict[str, Value], number: int) -> list[int]:
        frame = [0] * 48
        frame[:8] = ident
        frame[8] = int(values["battery"] == "good")
        put(frame, [10, 11], int(float(values["channel"] or 1)) - 1)
        tenths = round(float(values["temperature"] or 0) * 10)
        put(frame, list(range(12, 24)), tenths & 0xFFF if signed else tenths + 400)
        humidity = int(float(values["humidity"] or 0))
        put(frame, list(range(24, 32)), humidity // 10 * 16 + humidity % 10 if bcd else humidity)
        fill(frame)
        return frame

    coding = "signed" if signed else "offset"
    return Gadget(f"sensor, {coding}, {check}{', bcd' if bcd else ''}", 48, (48,), check, draw, write)


def switch(rng: np.random.Generator) -> Gadget:
    """A radio switch or toy: an address, a button, a level, a rolling counter, perhaps a parity bit."""
    address = rng.integers(0, 2, 16).tolist()
    check = str(rng.choice(["none", "parity", "xor4"]))
    counted = bool(rng.random() < 0.5)

    def draw(rng: np.random.Generator) -> dict[str, Value]:
        return {"button": str(rng.choice(["up", "down", "stop", "light"])), "level": float(rng.integers(0, 16))}

    def write(values: dict[str, Value], number: int) -> list[int]:
        frame = address + [0] * 16
        put(frame, [16, 17, 18], {"up": 1, "down": 2, "stop": 4, "light": 7}[str(values["button"])])
        put(frame, [23, 22, 21, 20], int(float(values["level"] or 0)))
        if counted:
            put(frame, [24, 25, 26, 27], number % 16)
        if check == "parity":
            frame[31] = sum(frame[:31]) % 2
        if check == "xor4":
            total = 0
            for nibble in as_bytes(frame, 0, 28, False, 4):
                total ^= nibble
            put(frame, [28, 29, 30, 31], total)
        return frame

    return Gadget(f"switch, {check}{', counter' if counted else ''}", 32, (32,), check, draw, write)
