"""What is read on a bad day: as much as before, and sure only where it is right."""

from __future__ import annotations

import pytest
from tests.bad_days import DAMAGE, BadDay, bad_days

from benches.baseline import held
from benches.panel import said
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed

SURE = 0.95


def sure_frames(day: BadDay) -> tuple[int, int]:
    """How many frames are said at 0.95 and more, right and wrong; codes that stand for a repeat are not counted."""
    right = wrong = 0
    for frame in read_pulses(pulses_from_signed(day.signed), library()).frames:
        best = frame.best
        if best is not None and best.confidence >= SURE and not best.stands_for_repeat:
            about = [
                what for begin, end, what in day.sent if begin < frame.pulses.end_us and end > frame.pulses.start_us
            ]
            right, wrong = right + (said(best) in about), wrong + (said(best) not in about)
    return right, wrong


@pytest.mark.parametrize("known", [True, False])
@pytest.mark.parametrize("damage", DAMAGE)
def test_a_bad_day(damage: str, known: bool) -> None:
    counts = [sure_frames(day) for day in bad_days(damage, known, 25, 3)]
    right, wrong = (sum(each) for each in zip(*counts, strict=True))
    name = f"bad day, {damage}, {'known' if known else 'unknown'}"
    held(f"{name}: right where sure", right, right + wrong)
