"""Remotes that send all their settings with each key, laid out at random: a byte that stays, numbers and words on
nibbles, odd codes for words, flags in single bits, a counter now and then, and a check at the end.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import reduce
from operator import xor

import numpy as np

from tests.gadgets import Value, crc_of

WORDS = {
    "mode": ("auto", "cool", "dry", "fan", "heat"), "fan": ("low", "mid", "high", "auto"), "swing": ("off", "on"),
    "power": ("off", "on"), "light": ("off", "on"), "scene": ("day", "night", "away"), "turbo": ("off", "on"),
}  # fmt: skip


def _nibbles(data: list[int]) -> list[int]:
    return [half for byte in data for half in (byte >> 4, byte & 15)]


def _crc16(data: list[int]) -> int:
    return crc_of(data, 16, 0x1021, 0xFFFF, 0, False)


CHECKS: dict[str, Callable[[list[int]], list[int]]] = {
    "none": lambda d: [],
    "sum": lambda d: [sum(d) & 255],
    "negative sum": lambda d: [-sum(d) & 255],
    "exclusive-or": lambda d: [reduce(xor, d)],
    "sum of nibbles": lambda d: [sum(_nibbles(d)) & 255],
    "crc8": lambda d: [crc_of(d, 8, 0x31, 0, 0, False)],
    "crc8 reflected": lambda d: [crc_of(d, 8, 0x07, 0xFF, 0, True)],
    "crc16": lambda d: [_crc16(d) >> 8, _crc16(d) & 255],
    "crc16, low byte first": lambda d: [_crc16(d) & 255, _crc16(d) >> 8],
    "sum less the first": lambda d: [(sum(d[1:]) + 0x5A) & 255],
    "exclusive-or and a seed": lambda d: [reduce(xor, d) ^ 0xA5],
    "number of ones": lambda d: [sum(byte.bit_count() for byte in d)],
    "sum and exclusive-or of nibbles": lambda d: [(sum(_nibbles(d)) & 15) << 4 | reduce(xor, _nibbles(d))],
    "exclusive-or, then a sum over it": lambda d: [reduce(xor, d), (sum(d) + reduce(xor, d)) & 255],
    "remainder by 15": lambda d: [sum(_nibbles(d)) % 15],
    "remainder by 255": lambda d: [sum(d) % 255],
    "inverted sum": lambda d: [~sum(d) & 255],
    "the last byte counts against": lambda d: [(d[-1] - sum(d[:-1])) & 255],
}


class Setter:
    """One such remote; ``check`` is one of CHECKS."""

    def __init__(self, rng: np.random.Generator, check: str) -> None:
        self._rng, self.check = rng, check
        self._lsb = bool(rng.integers(2))
        size = int(rng.integers(4, 13))
        self._length = size - len(CHECKS[check]([0, 0]))
        self._bytes = [int(b) * int(rng.random() > 0.3) for b in rng.integers(0, 256, size)]
        self._used: set[int] = set(range(8))
        self.fields: dict[str, tuple[int, int, str | dict[str, int]]] = {}
        coding = str(rng.choice(["from 16", "binary", "decimal", "halves", "signed"]))
        self._place("temperature", 4 if coding == "from 16" else 8, coding)
        for name in rng.permutation(list(WORDS))[: int(rng.integers(2, 5))].tolist():
            width = 1 if len(WORDS[name]) == 2 else 2 if len(WORDS[name]) < 5 and rng.random() < 0.5 else 4
            codes = rng.permutation(1 << width)[: len(WORDS[name])].tolist()
            self._place(name, width, dict(zip(WORDS[name], codes, strict=True)))
        self._counter = self._room(4) if rng.random() < 0.25 else None

    def _room(self, width: int) -> int | None:
        grid = 4 if width >= 4 or self._rng.random() < 0.8 else 1
        for first in self._rng.permutation(np.arange(8, 8 * self._length - width + 1, grid)).tolist():
            bits = set(range(first, first + width))
            if first // 8 == (first + width - 1) // 8 and not self._used & bits:
                self._used |= bits
                return int(first)
        return None

    def _place(self, name: str, width: int, coding: str | dict[str, int]) -> None:
        if (first := self._room(width)) is not None:
            self.fields[name] = first, width, coding

    def draw(self) -> dict[str, Value]:
        """Settings as somebody chooses them."""
        rng, chosen = self._rng, {}
        for name, (_, _, coding) in self.fields.items():
            if isinstance(coding, dict):
                chosen[name] = str(rng.choice(list(coding)))
            else:
                low, high, step = {"halves": (32, 61, 0.5), "signed": (-10, 40, 1)}.get(coding, (16, 31, 1))
                chosen[name] = float(rng.integers(low, high)) * step
        return chosen

    def frame(self, chosen: dict[str, Value], press: int) -> np.ndarray:
        """The bits of a press, shape (bits,)."""
        data = list(self._bytes)
        for name, (first, width, coding) in self.fields.items():
            self._put(data, first, width, self._number(chosen[name], coding) % (1 << width))
        if self._counter is not None:
            self._put(data, self._counter, 4, press % 16)
        data[self._length :] = CHECKS[self.check](data[: self._length])
        order = range(8) if self._lsb else range(7, -1, -1)
        return np.array([byte >> at & 1 for byte in data for at in order], np.uint8)

    @staticmethod
    def _number(value: Value, coding: str | dict[str, int]) -> int:
        if isinstance(coding, dict):
            return coding[str(value)]
        number = float(value)  # type: ignore[arg-type]
        if coding == "decimal":
            return int(number) // 10 * 16 + int(number) % 10
        return int(number * 2 if coding == "halves" else number - 16 if coding == "from 16" else number)

    def _put(self, data: list[int], first: int, width: int, number: int) -> None:
        for at in range(width):
            bit = number >> (at if self._lsb else width - 1 - at) & 1
            byte, place = divmod(first + at, 8)
            shift = place if self._lsb else 7 - place
            data[byte] = data[byte] & ~(1 << shift) | bit << shift
