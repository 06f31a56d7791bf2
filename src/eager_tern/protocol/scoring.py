"""How probable a sheet makes the frames on which it was laid."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache

import numpy as np

from eager_tern.linecode import prices
from eager_tern.linecode.likelihood import LN2
from eager_tern.protocol.checks import CheckResult
from eager_tern.protocol.laid import Laid
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.signal.assumed import CLOCK_SIGMA, EXCESS_SIGMA_US
from eager_tern.signal.values import Floats

SPREAD_OF_TOLERANCE = 0.4  # standard deviation of a unit, of the tolerance where that is wide


def scores_of(
    sheet: Sheet, kind: FrameKind, laid: Laid, timing: Floats, results: Sequence[Sequence[CheckResult]]
) -> Floats:
    """Log probability of pulses and bits under the sheet, shape (frames,).

    ``timing`` is that of the pulses alone, whatever the bits; ``results`` are of each check in each frame.
    """
    spread = max(CLOCK_SIGMA, SPREAD_OF_TOLERANCE * sheet.tolerance)
    score = timing + _usual(sheet, kind.name)
    score = score - 0.5 * ((laid.units_us / sheet.unit_us - 1) / spread) ** 2
    score = score - 0.5 * (laid.excesses_us / EXCESS_SIGMA_US) ** 2
    free = laid.bits.shape[1] * LN2
    if results:
        ok = np.array([[result.ok for result in each] for each in results])
        widths = np.array([each[0].width for each in results])
        # Given the others, the bits of a check that holds could not be anything else.
        score = score + np.where(ok, widths[:, None] * LN2, prices.CHECK_FAILS).sum(axis=0)
        if len(results) > 1:
            score = score + np.where(ok.any(axis=0), 0.0, prices.NO_CHECK_HOLDS)
    return np.asarray(score - free)


@lru_cache(maxsize=1024)
def _usual(sheet: Sheet, kind: str) -> float:
    """What speaks for and against a sheet's kind of frame, by its name, before anything is measured."""
    bits = sheet.frame(kind).bit_count
    score = math.log(sheet.weight) + (prices.OVERRULES if sheet.overrules else 0.0)
    if bits and not sheet.checks:
        score += prices.NO_CHECKS
    if bits and kind not in {lead.name for lead in sheet.leads}:
        score += prices.FOLLOWS_ALONE  # it may be one that follows, of which the frame before was missed
    return score
