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


def held(name: str, right: int, asked: int) -> None:
    """Compare a proportion with the baseline, or write it there."""
    known = json.loads(BASELINE.read_text()) if BASELINE.exists() else {}
    share = right / max(asked, 1)
    print(f"\n{name}: {right} of {asked}, {share:.4f} (before: {known.get(name, float('nan')):.4f})")
    if os.environ.get("EAGER_TERN_BASELINE") == "write":
        BASELINE.write_text(json.dumps({**known, name: round(share, 4)}, indent=1) + "\n")
        return
    before = known[name]
    assert share >= before - CHANCE * sqrt(max(before * (1 - before), 0.25 / asked) / asked)
