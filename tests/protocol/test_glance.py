"""What a frame could be, told at a glance: never no for one that it is."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.glance import shapes_of
from eager_tern.protocol.loading import library
from eager_tern.protocol.matching import match_sheets
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.template import frame_pulses


@pytest.mark.parametrize("sheet", library(), ids=lambda sheet: sheet.id)
def test_frames_within_tolerance_are_worth_a_try(sheet: Sheet, rng: np.random.Generator) -> None:
    shapes = shapes_of(library())
    for kind in sheet.frames:
        if not kind.bit_count:
            continue
        at = next(i for i, same in enumerate(shapes.frames) if any(k is kind for _, k in same))
        for _ in range(6):
            bits = rng.integers(0, 2, kind.bit_count).astype(np.uint8)
            d = frame_pulses(sheet, kind, bits).durations_us * rng.uniform(1 - sheet.tolerance, 1 + sheet.tolerance)
            excess = rng.uniform(-0.3, 0.3) * d.min()
            d = d + excess * np.where(np.arange(d.size) % 2 == 0, 1.0, -1.0)
            assert shapes.possible(d[None])[0, at]


def test_several_frames_at_once_are_laid_as_each_alone(rng: np.random.Generator) -> None:
    nec = next(sheet for sheet in library() if sheet.id == "nec")
    kind = nec.frame("full")
    rows = [
        frame_pulses(nec, kind, rng.integers(0, 2, 32).astype(np.uint8)).durations_us + rng.normal(0, 25, 67)
        for _ in range(40)
    ]
    together = match_sheets(np.array(rows), library())
    for row, found in zip(rows, together, strict=True):
        alone = match_sheets(row[None], library())[0]
        assert [m.sheet.id for m in found] == [m.sheet.id for m in alone]
        assert all(np.array_equal(a.bits, b.bits) for a, b in zip(found, alone, strict=True))
        assert [m.timing for m in found] == pytest.approx([m.timing for m in alone])
