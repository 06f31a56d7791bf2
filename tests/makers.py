"""Gadgets laid out as their makers lay them: sensors, meters and remotes whose numbers move as the world moves.

Each is written from what such things send, at their worst: a take sees a narrow part of each range, ids change with a
battery, displays are read now and then and round, counters stand high before the first press, codes roll.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from msgspec import Struct

from tests.gadgets import Value, as_bytes, crc_of, put

Frame = list[int]
Settings = dict[str, Value]


class Made(Struct):
    """``write`` makes a frame of settings and of what goes on by itself (``own``: names and raw numbers), which
    ``draw`` gives for the press with that number; ``later`` draws from a month later. ``fields`` are the true positions
    of what has a label, ``moving`` of what goes on by itself, ``check`` the check's own bits."""

    name: str
    columns: int
    sections: tuple[int, ...]
    draw: Callable[[int, bool], tuple[Settings, dict[str, int]]]
    write: Callable[[Settings, dict[str, int]], Frame]
    fields: dict[str, tuple[int, ...]]
    moving: dict[str, tuple[int, ...]]
    check: tuple[int, ...]


def stretch(first: int, width: int, lsb: bool) -> tuple[int, ...]:
    """Positions, the most significant first."""
    run = tuple(range(first, first + width))
    return run[::-1] if lsb else run


class _Laid:
    """A frame being laid out from its first bit to its last."""

    def __init__(self, lsb: bool) -> None:
        self.lsb, self.at = lsb, 0
        self.where: dict[str, tuple[int, ...]] = {}

    def put(self, name: str, width: int) -> None:
        self.where[name] = stretch(self.at, width, self.lsb)
        self.at += width


CHECKS = (
    "none", "sum", "sum-neg", "nibbles", "nibbles-neg", "xor", "xor4", "crc8", "crc8-seed", "crc4", "crc16", "ones",
    "mod255", "rotating", "sum-less-id", "sum-rotating",
)  # fmt: skip


def checked(
    frame: Frame, kind: str, at: tuple[int, ...], lsb: bool, numbers: dict[str, int], spared: tuple[int, ...]
) -> None:
    """Fill a check in at its place, over all that stands before it (less ``spared``, a whole byte)."""
    end = min(at, default=0)
    data = as_bytes(frame, 0, end, lsb)
    nibbles = as_bytes(frame, 0, end, lsb, 4)
    if kind == "none":
        return
    if kind == "sum-less-id":
        data = [byte for n, byte in enumerate(data) if 8 * n not in spared]
    seed, poly = numbers["seed"], numbers["poly"]
    value = 0
    if kind in ("rotating", "sum-rotating"):
        for byte in data:
            value = (value << 1 | value >> 7) & 255
            value = value ^ byte if kind == "rotating" else value + byte & 255
    elif kind == "crc4":
        register = 0
        for bit in frame[:end]:
            register = (register << 1) ^ ((poly & 15 | 1) if (register >> 3 & 1) ^ bit else 0)
            register &= 15
        value = register
    else:
        value = {
            "sum": sum(data), "sum-less-id": sum(data), "sum-neg": -sum(data), "nibbles": sum(nibbles) + seed,
            "nibbles-neg": -sum(nibbles), "ones": sum(frame[:end]) + seed, "mod255": sum(data) % 255,
            "xor": int(np.bitwise_xor.reduce(data)), "xor4": int(np.bitwise_xor.reduce(nibbles)),
            "crc8": crc_of(data, 8, poly, 0, 0, lsb), "crc8-seed": crc_of(data, 8, poly, seed, 0, lsb),
            "crc16": crc_of(data, 16, poly << 8 | 0x21, 0xFFFF, 0, lsb),
        }[kind]  # fmt: skip
    put(frame, list(at), value & (1 << len(at)) - 1)


def width_of(kind: str) -> int:
    return {"none": 0, "crc16": 16, "crc4": 4, "xor4": 4}.get(kind, 8)


def _built(
    rng: np.random.Generator, name: str, laid: _Laid, check: str, labelled: tuple[str, ...], moving: tuple[str, ...],
    raw: Callable[[Settings, dict[str, int]], dict[str, int]],
    draw: Callable[[int, bool], tuple[Settings, dict[str, int]]],
) -> Made:  # fmt: skip
    """The gadget with its check behind what was laid."""
    laid.at += -laid.at % 8
    laid.at += 4 if width_of(check) == 4 else 0
    laid.put("check", width_of(check))
    numbers = {"seed": int(rng.integers(1, 256)), "poly": int(rng.choice([0x31, 0x07, 0x1D, 0x9B, 0x2F, 0xD5]))}
    constants = rng.integers(0, 2, laid.at).tolist()

    def write(values: Settings, own: dict[str, int]) -> Frame:
        frame = list(constants)
        for key, number in raw(values, own).items():
            put(frame, list(laid.where[key]), number & (1 << len(laid.where[key])) - 1)
        if check != "none":
            checked(frame, check, laid.where["check"], laid.lsb, numbers, laid.where.get("id", ()))
        return frame

    return Made(
        f"{name}, {check}, {'lsb' if laid.lsb else 'msb'}", laid.at, (laid.at,), draw, write,
        {key: laid.where[key] for key in labelled}, {key: laid.where[key] for key in moving}, laid.where["check"],
    )  # fmt: skip


def _walk(rng: np.random.Generator, start: int, step: int, low: int, high: int) -> Callable[[bool], int]:
    at = [start]

    def go(later: bool) -> int:
        if later:
            return int(rng.integers(low, high + 1))
        at[0] = int(np.clip(at[0] + rng.integers(-step, step + 1), low, high))
        return at[0]

    return go


def thermometer(rng: np.random.Generator, check: str) -> Made:
    """Id, battery, channel, temperature in tenths (signed, or above an offset), humidity."""
    laid = _Laid(bool(rng.random() < 0.3))
    coding = str(rng.choice(["signed", "offset-400", "offset-500", "offset-1000"]))
    wet = str(rng.choice(["binary", "bcd", "none"]))
    laid.put("id", 8)
    laid.put("battery", 1)
    laid.put("button", 1)
    laid.put("channel", 2)
    laid.put("temperature", 12)
    if wet != "none":
        laid.put("humidity", 8)
    warm = _walk(rng, int(rng.integers(-50, 250)), 25, -200, 450)
    damp = _walk(rng, int(rng.integers(30, 80)), 6, 15, 98)
    ident = [int(rng.integers(0, 256))]
    change = int(rng.integers(10, 60))

    def draw(number: int, later: bool) -> tuple[Settings, dict[str, int]]:
        if number == change and not later:
            ident[0] = int(rng.integers(0, 256))
        values: Settings = {"temperature": warm(later) / 10, "channel": float(rng.integers(1, 4)),
                            "battery": str(rng.choice(["good", "good", "good", "low"]))}  # fmt: skip
        return values | ({"humidity": float(damp(later))} if wet != "none" else {}), {"id": ident[0]}

    def raw(values: Settings, own: dict[str, int]) -> dict[str, int]:
        tenths = round(float(values["temperature"] or 0) * 10)
        offset = int(coding.split("-")[1]) if coding != "signed" else 0
        out = {"id": own["id"], "battery": int(values["battery"] == "low"), "button": 0,
               "channel": int(float(values["channel"] or 1)) - 1, "temperature": tenths + offset}  # fmt: skip
        if wet != "none":
            damp = int(float(values["humidity"] or 0))
            out["humidity"] = damp // 10 * 16 + damp % 10 if wet == "bcd" else damp
        return out

    labelled = ("temperature", "channel", "battery", *(("humidity",) if wet != "none" else ()))
    return _built(rng, f"thermometer, {coding}, {wet}", laid, check, labelled, ("id",), raw, draw)


def rain_gauge(rng: np.random.Generator, check: str) -> Made:
    """Id and a count of tips that stands high already; the display shows all the rain since the battery was put in."""
    laid = _Laid(bool(rng.random() < 0.3))
    width = int(rng.choice([12, 16]))
    per_tip = float(rng.choice([0.1, 0.2, 0.25, 0.3, 0.5]))
    laid.put("id", 8)
    laid.put("flags", 4 if width == 12 else 8)
    laid.put("rain", width)
    tips, ident = [int(rng.integers(200, 1 << (width - 2)))], int(rng.integers(0, 256))

    def draw(number: int, later: bool) -> tuple[Settings, dict[str, int]]:
        tips[0] += int(rng.choice([0, 1, 1, 2, 3, 7])) if not later else int(rng.integers(20, 60))
        return {"rain": round(tips[0] % (1 << width) * per_tip, 2)}, {}

    def raw(values: Settings, own: dict[str, int]) -> dict[str, int]:
        return {"id": ident, "flags": 0, "rain": round(float(values["rain"] or 0) / per_tip)}

    return _built(rng, f"rain gauge, {per_tip}, {width}", laid, check, ("rain",), (), raw, draw)


def vane(rng: np.random.Generator, check: str) -> Made:
    """Wind in steps of its own, gust never below it, one of sixteen directions."""
    laid = _Laid(bool(rng.random() < 0.3))
    step = float(rng.choice([0.1, 0.4, 0.5, 1.0]))
    laid.put("id", 8)
    laid.put("battery", 4)
    laid.put("direction", 4)
    laid.put("wind", 8)
    laid.put("gust", 8)
    ident = int(rng.integers(0, 256))

    def draw(number: int, later: bool) -> tuple[Settings, dict[str, int]]:
        wind = int(rng.integers(0, 60 if not later else 150))
        gust = wind + int(rng.integers(0, 30))
        return {"wind": round(wind * step, 1), "gust": round(gust * step, 1),
                "direction": 22.5 * int(rng.integers(0, 16))}, {}  # fmt: skip

    def raw(values: Settings, own: dict[str, int]) -> dict[str, int]:
        sent = {name: round(float(values[name] or 0) / step) for name in ("wind", "gust")}
        return {"id": ident, "battery": 0, "direction": round(float(values["direction"] or 0) / 22.5), **sent}

    return _built(rng, f"vane, {step}", laid, check, ("wind", "gust", "direction"), (), raw, draw)


def meter(rng: np.random.Generator, check: str) -> Made:
    """Energy in a count that only grows, power that jumps, and a sequence number."""
    laid = _Laid(bool(rng.random() < 0.5))
    scale = float(rng.choice([0.001, 0.01, 0.1]))
    laid.put("id", 16)
    laid.put("sequence", 8)
    laid.put("energy", 24)
    laid.put("power", 16)
    count, ident, begun = [int(rng.integers(1000, 900_000))], int(rng.integers(0, 65536)), int(rng.integers(0, 256))

    def draw(number: int, later: bool) -> tuple[Settings, dict[str, int]]:
        count[0] += int(rng.integers(1, 40)) if not later else int(rng.integers(1000, 90_000))
        power = float(rng.choice([0, 4, 60, 230, 1500, 2100]) + rng.integers(0, 30))
        return {"energy": round(count[0] * scale, 3), "power": power}, {"sequence": (begun + number) % 256}

    def raw(values: Settings, own: dict[str, int]) -> dict[str, int]:
        return {"id": ident, "sequence": own["sequence"], "energy": round(float(values["energy"] or 0) / scale),
                "power": int(float(values["power"] or 0))}  # fmt: skip

    return _built(rng, f"meter, {scale}", laid, check, ("energy", "power"), ("sequence",), raw, draw)


def roller(rng: np.random.Generator, check: str) -> Made:
    """A garage remote: 32 bits that are new with each press, a serial number, a button, a battery bit."""
    laid = _Laid(bool(rng.random() < 0.5))
    laid.put("rolling", int(rng.choice([24, 32, 32])))
    laid.put("serial", 28)
    laid.put("button", 4)
    laid.put("battery", 2)
    serial = int(rng.integers(0, 1 << 28))
    width = len(laid.where["rolling"])
    codes = {"open": 1, "close": 2, "stop": 4, "light": 8}

    def draw(number: int, later: bool) -> tuple[Settings, dict[str, int]]:
        return {"button": str(rng.choice(list(codes)))}, {"rolling": int(rng.integers(0, 1 << width))}

    def raw(values: Settings, own: dict[str, int]) -> dict[str, int]:
        return {"rolling": own["rolling"], "serial": serial, "button": codes[str(values["button"])], "battery": 0}

    return _built(rng, f"roller, {width}", laid, check, ("button",), ("rolling",), raw, draw)


def stepper(rng: np.random.Generator, check: str) -> Made:
    """A lamp's remote: level and scene, a counter that steps with each press or only now and then."""
    laid = _Laid(bool(rng.random() < 0.5))
    width, often = int(rng.choice([2, 4, 8])), float(rng.choice([1.0, 1.0, 0.4]))
    laid.put("address", 16)
    laid.put("scene", 3)
    laid.put("level", 5)
    laid.put("counter", width)
    address, at = int(rng.integers(0, 65536)), [int(rng.integers(0, 256))]
    scenes = {"reading": 1, "night": 2, "work": 4, "off": 7}

    def draw(number: int, later: bool) -> tuple[Settings, dict[str, int]]:
        at[0] += int(rng.random() < often)
        return {"scene": str(rng.choice(list(scenes))), "level": float(rng.integers(0, 21) * 5)}, {
            "counter": at[0] % (1 << width)
        }

    def raw(values: Settings, own: dict[str, int]) -> dict[str, int]:
        return {"address": address, "scene": scenes[str(values["scene"])], "counter": own["counter"],
                "level": round(float(values["level"] or 0) / 5)}  # fmt: skip

    return _built(rng, f"stepper, {width}, {often}", laid, check, ("scene", "level"), ("counter",), raw, draw)


KINDS = (thermometer, rain_gauge, vane, meter, roller, stepper)


def made(rng: np.random.Generator) -> Made:
    """One of them."""
    kind = KINDS[int(rng.integers(len(KINDS)))]
    return kind(rng, str(rng.choice(CHECKS)))


def take(
    gadget: Made, rng: np.random.Generator, rows: int, known: float = 1.0
) -> tuple[np.ndarray, dict[str, tuple[Value, ...]]]:
    """A take in shooting order: bits, and labels, a part of them known, as where a display is read now and then."""
    drawn = [gadget.draw(number, False) for number in range(rows)]
    bits = np.array([gadget.write(*each) for each in drawn], np.uint8)
    labels = {
        name: tuple(values[name] if rng.random() < known else None for values, _ in drawn) for name in gadget.fields
    }
    return bits, labels
