"""Long state frames of air conditioners, written from the table of their timings and checks, and not from the
sheets.
"""

from __future__ import annotations

from functools import reduce
from operator import xor

import numpy as np

from tests.handsets import distance_frame, lsb_first, msb_first

KINDS = (
    "state-24", "state-48", "state-28", "state-67", "state-72", "state-104", "state-104-xor", "state-112",
    "state-112-double", "state-72-double", "state-112-ones", "state-128", "state-144", "state-168-xor", "state-216",
    "state-280",
)  # fmt: skip
TIMES = {
    "state-24": ((4690, -4420), 552, 552, 1656), "state-48": ((4480, -4480), 560, 560, 1680),
    "state-28": ((8500, -4250), 550, 550, 1600), "state-67": ((9000, -4500), 620, 540, 1600),
    "state-72": ((4400, -4300), 580, 490, 1600), "state-104": ((9170, -4470), 646, 547, 1647),
    "state-104-xor": ((3800, -1900), 470, 500, 1400), "state-112": ((3000, -1650), 500, 325, 1050),
    "state-112-double": ((3000, -3000, 3000, -4300), 520, 650, 1650),
    "state-72-double": ((3000, -3000, 3000, -4300), 520, 650, 1650), "state-112-ones": ((3086, -8864), 586, 436, 1432),
    "state-128": ((3324, -1574), 448, 390, 1182), "state-144": ((3400, -1750), 450, 420, 1300),
    "state-168-xor": ((8950, -4484), 597, 533, 1649), "state-216": ((3456, -1728), 432, 432, 1296),
    "state-280": ((3650, -1623), 428, 428, 1280),
}  # fmt: skip


def state_frame(rng: np.random.Generator, kind: str) -> tuple[list[float], list[int]]:
    """A frame with its check right, as signed durations in µs, and its bits in the order sent."""
    sections, bits = _sections(rng, kind)
    leader, mark, zero, one = TIMES[kind]
    gap = {"state-67": 20_000, "state-112-ones": 2886, "state-168-xor": 7920, "state-216": 10_000, "state-280": 29_000}
    own = kind not in ("state-67", "state-168-xor")
    signed: list[float] = []
    if kind == "state-112-ones":
        signed += [690, -17_844]
    if kind == "state-280":
        signed += [428, -428] * 5 + [428, -25_000]
    for number, section in enumerate(sections):
        if number:
            signed.append(-gap[kind])
        frame = distance_frame([], mark, (zero / mark, one / mark), section)
        signed += [*(leader if own or number == 0 else ()), *frame]
    if kind in ("state-24", "state-72", "state-144"):
        signed += [-{"state-24": 5240, "state-72": 7400, "state-144": 17_000}[kind], *signed]
    if kind == "state-48":
        signed += [-5600, *leader, *distance_frame([], mark, (zero / mark, one / mark), [1 - b for b in bits])]
    return [float(d) for d in signed], bits


def _bytes(rng: np.random.Generator, count: int, head: tuple[int, ...] = ()) -> list[int]:
    return [*head, *(int(v) for v in rng.integers(0, 256, count - len(head)))]


def _sections(rng: np.random.Generator, kind: str) -> tuple[list[list[int]], list[int]]:
    if kind == "state-28":
        signature, state = int(rng.integers(0, 256)), int(rng.integers(0, 1 << 16))
        check = sum(state >> shift & 15 for shift in (0, 4, 8, 12)) & 15
        bits = msb_first(signature, 8) + msb_first(state, 16) + msb_first(check, 4)
        return [bits], bits
    if kind == "state-67":
        four, three = _bytes(rng, 4), _bytes(rng, 3)
        low = int(rng.integers(0, 16))
        check = (10 + sum(v & 15 for v in four) + sum(v >> 4 for v in three)) & 15
        first = [b for v in four for b in lsb_first(v, 8)] + [0, 1, 0]
        second = [b for v in (*three, check << 4 | low) for b in lsb_first(v, 8)]
        return [first, second], first + second
    numbers, sizes, order = _numbers(rng, kind)
    rows = [order(v, 8) for v in numbers]
    sections, at = [], 0
    for size in sizes:
        sections.append([b for row in rows[at : at + size] for b in row])
        at += size
    return sections, [b for section in sections for b in section]


def _numbers(rng: np.random.Generator, kind: str) -> tuple[list[int], tuple[int, ...], object]:
    if kind == "state-24":
        return [w for v in _bytes(rng, 3) for w in (v, 255 - v)], (6,), msb_first
    if kind == "state-48":
        five = _bytes(rng, 5)
        low = [int(f"{v:08b}"[::-1], 2) for v in five]  # bytes read lowest bit first, sent highest first
        return [*five, int(f"{-sum(low) & 255:08b}"[::-1], 2)], (6,), msb_first
    if kind == "state-72":
        b = [0xF2, 0x0D, *_bytes(rng, 1)]
        b += [255 - b[2], *_bytes(rng, 4)]
        return [*b, reduce(xor, b)], (9,), msb_first
    if kind in ("state-72-double", "state-112-double"):
        count, head = (9, 0xA5) if kind == "state-72-double" else (14, 0xA6)
        b = _bytes(rng, count - 1, (head,))
        return [*b, sum(b) & 255], (count,), msb_first
    if kind == "state-104-xor":
        b = _bytes(rng, 12, (0xAA, 0x5A, 0xCF, 0x10))
        low = int(rng.integers(0, 16))
        check = reduce(xor, [n for v in b for n in (v & 15, v >> 4)]) ^ low
        return [*b, check << 4 | low], (13,), lsb_first
    if kind == "state-112-ones":
        out: list[int] = []
        for _ in range(2):
            b = _bytes(rng, 7)
            b[1], b[2] = b[1] & 0x0F, b[2] & 0xF0
            check = 255 - sum(v.bit_count() for v in b)
            b[1] |= (check & 15) << 4
            b[2] |= check >> 4
            out += b
        return out, (7, 7), lsb_first
    if kind == "state-128":
        b = _bytes(rng, 15, (0x14, 0x63))
        return [*b, -sum(b[7:]) & 255], (16,), lsb_first
    if kind == "state-168-xor":
        b = _bytes(rng, 13)
        b.append(reduce(xor, b[2:]))
        b += _bytes(rng, 6)
        return [*b, reduce(xor, b[14:])], (6, 8, 7), lsb_first
    if kind == "state-216":
        b = _bytes(rng, 26, (0x02, 0x20, 0xE0, 0x04))
        return [*b, sum(b[8:]) & 255], (8, 19), lsb_first
    if kind == "state-280":
        out = []
        for size in (8, 8, 19):
            b = _bytes(rng, size - 1, (0x11, 0xDA, 0x27))
            out += [*b, sum(b) & 255]
        return out, (8, 8, 19), lsb_first
    count, head = {
        "state-104": (13, ()),
        "state-112": (14, (0x23, 0xCB, 0x26, 0x01)),
        "state-144": (18, (0x23, 0xCB, 0x26, 0x01, 0x00)),
    }[kind]
    b = _bytes(rng, count - 1, head)
    return [*b, sum(b) & 255], (count,), lsb_first
