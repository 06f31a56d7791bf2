"""What was measured before: a figure that falls by more than chance would have it fails.

`benches/baseline.json` holds the figures. With EAGER_TERN_BASELINE=write they are taken anew.
"""

from __future__ import annotations

import json
import os
from math import sqrt
from pathlib import Path

BASELINE = Path(__file__).with_name("baseline.json")
CHANCE = 3.0  # standard deviations of a proportion
SLOWER = 1.4  # by which two runs on a busy machine differ
WORSE = 1.0  # nats: one reading in three that was sure and now is wrong


def held(name: str, right: int, asked: int) -> None:
    """Compare a proportion with the baseline, or write it there."""
    share = right / max(asked, 1)
    before = _before(name, share)
    print(f"\n{name}: {right} of {asked}, {share:.4f} (before: {before:.4f})")
    assert share >= before - CHANCE * sqrt(max(before * (1 - before), 0.25 / asked) / asked)


def held_score(name: str, nats: float) -> None:
    """The same for a score, the more the better, of signals that are the same each time."""
    before = _before(name, nats)
    print(f"\n{name}: {nats:.2f} nats (before: {before:.2f})")
    assert nats >= before - WORSE


def held_ratio(name: str, ratio: float) -> None:
    """The same for a ratio of times, the less the better."""
    before = _before(name, ratio)
    print(f"\n{name}: {ratio:.1f} times a bare pass (before: {before:.1f})")
    assert ratio <= before * SLOWER


def _before(name: str, now: float) -> float:
    """What the baseline says of a name; where it is to be taken anew, what is so now."""
    known = json.loads(BASELINE.read_text()) if BASELINE.exists() else {}
    if os.environ.get("EAGER_TERN_BASELINE") == "write":
        known[name] = round(now, 4)
        BASELINE.write_text(json.dumps(known, indent=1) + "\n")
    return float(known[name])
