"""What the bridge takes: memory that does not grow, and a reading that keeps up. EAGER_TERN_FRAMES says how many frames
are heard, a million for the measure that docs/bridge.md tells."""

from __future__ import annotations

import os
import time
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from eager_tern.bridge.bridging import press_messages
from eager_tern.bridge.hearing import Hearing
from eager_tern.bridge.messages import topics_of
from eager_tern.protocol.loading import library, library_sheet
from eager_tern.protocol.making import press_frames

FRAMES = int(os.environ.get("EAGER_TERN_FRAMES", "12000"))
MOST_GROWTH_MB = 12  # of what a process keeps for itself once it is warm: passages of a different length


def resident_mb() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / 1e6


def test_memory_stays_as_it_is() -> None:
    """Aim: over a million frames no growth; each press told once."""
    sheet = library_sheet("nec")
    assert sheet is not None
    frames = [np.concatenate([*press_frames(sheet, {"address": 91, "command": c}), [-160_000.0]]) for c in range(256)]
    topics, hearing, told, now = topics_of("a", "b"), Hearing(library()), 0, 0.0
    warm = 0.0
    started = time.perf_counter()
    for number in range(FRAMES):
        now += 0.23
        for heard in hearing.feed(frames[number % 256], now):
            press_messages(topics, heard.press, told, None, datetime.now(UTC))
            told += 1
        if number == FRAMES // 3:
            warm = resident_mb()
    told += sum(1 for _ in hearing.finish(now))
    growth, took = resident_mb() - warm, time.perf_counter() - started
    print(f"{FRAMES} frames in {took:.0f} s, {told} told, grown by {growth:.1f} MB from {warm:.0f}")
    assert told == FRAMES
    assert growth < MOST_GROWTH_MB
