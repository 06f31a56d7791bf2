"""Generated code: what a frame costs, as a ratio to a bare pass over the same pulses in the same run."""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from tests.export.any_sheets import any_bits, as_received, pulses_of
from tests.export.compiled import Compiled

from eager_tern.export.python_code import python_module
from eager_tern.protocol.loading import library_sheet

ROUNDS = 40
MOST_OF_C, MOST_OF_PYTHON = 400.0, 50_000.0  # times a NumPy sum of the frame: 1 ms and 100 ms where that takes 2 µs


def seconds(work: Callable[[], object]) -> float:
    """Of one call, the best of several."""
    best = np.inf
    for _ in range(5):
        start = time.perf_counter()
        for _ in range(ROUNDS):
            work()
        best = min(best, (time.perf_counter() - start) / ROUNDS)
    return float(best)


def test_reading_a_state_frame(tmp_path: Path) -> None:
    sheet = library_sheet("state-112")
    assert sheet is not None
    rng = np.random.default_rng(1)
    us = as_received(pulses_of(sheet, any_bits(sheet, rng)), sheet, rng)
    c = Compiled(sheet, tmp_path)
    python: dict[str, Any] = {}
    exec(python_module(sheet, sheet.name), python)
    whole = [round(each) for each in us]
    assert c.read(whole) is not None
    assert python["read"](whole) is not None
    bare = seconds(lambda: us.sum())
    ratios = seconds(lambda: c.read(whole)) / bare, seconds(lambda: python["read"](whole)) / bare
    print(f"{us.size} pulses: C {ratios[0]:.0f}, Python {ratios[1]:.0f} times a bare pass of {bare * 1e6:.1f} µs")
    assert ratios[0] < MOST_OF_C
    assert ratios[1] < MOST_OF_PYTHON
