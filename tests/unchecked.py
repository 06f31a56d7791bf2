"""Gadgets that compute no check at all: ids that change with a battery, counters, flags, slow and random numbers."""

from __future__ import annotations

import numpy as np

from eager_tern.compare.stack import Stack

ROWS = (6, 10, 16, 30, 60, 120)
PARTS = (
    "counter", "slow counter", "toggle", "set", "walk", "battery id", "id", "constant", "flag", "flags", "random",
)  # fmt: skip


def unchecked(rng: np.random.Generator) -> Stack:
    """A take of one of them; what is set has a label."""
    rows = int(rng.choice(ROWS))
    columns: list[np.ndarray] = []
    labels: dict[str, tuple[float, ...]] = {}

    def put(values: np.ndarray, width: int) -> None:
        bits = (np.asarray(values, np.int64)[:, None] >> np.arange(width - 1, -1, -1) & 1).astype(np.uint8)
        columns.append(bits[:, ::-1] if rng.random() < 0.5 else bits)

    def now_and_then(width: int, times: int) -> np.ndarray:
        at = np.sort(rng.choice(np.arange(1, rows), size=min(times, rows - 1), replace=False))
        return rng.integers(0, 1 << width, size=at.size + 1)[np.searchsorted(at, np.arange(rows), side="right")]

    parts = ["constant", "battery id", *rng.choice(PARTS, size=int(rng.integers(2, 6)))]
    rng.shuffle(parts)
    for part in parts:
        width = int(rng.choice([4, 8, 8, 8, 12, 16]))
        start = int(rng.integers(0, 1 << width))
        if part == "constant":
            put(np.full(rows, start), width)
        elif part == "battery id":
            put(now_and_then(width, 1), width)
        elif part == "id":
            put(now_and_then(width, int(rng.integers(1, 4))), width)
        elif part == "counter":
            put((start + np.arange(rows)) % (1 << width), width)
        elif part == "slow counter":
            put((start + np.cumsum(rng.random(rows) < 0.2)) % (1 << width), width)
        elif part == "toggle":
            put(np.arange(rows) % 2 << 3, 4)
        elif part == "flag":
            put(now_and_then(1, 1) << 3, 4)
        elif part == "flags":
            put(now_and_then(1, 2) << 3 | now_and_then(1, 1) << 2, 4)
        elif part == "random":
            put(rng.integers(0, 1 << width, rows), width)
        elif part == "set":
            values = rng.integers(0, min(1 << width, 40), rows)
            put(values, width)
            labels["set"] = tuple(float(value) for value in values)
        elif part == "walk":
            put(np.clip(np.cumsum(rng.integers(-1, 2, rows)) + (1 << (width - 1)), 0, (1 << width) - 1), width)
    bits = np.hstack(columns)
    return Stack(np.ascontiguousarray(np.pad(bits, ((0, 0), (0, -bits.shape[1] % 8)))), labels)
