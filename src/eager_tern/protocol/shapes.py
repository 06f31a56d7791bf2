"""What a sheet's frames look like to a search in noise."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from itertools import combinations

import numpy as np

from eager_tern.linecode.likeliest import CodeShape
from eager_tern.protocol.checks import holds_in
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.signal.assumed import MOST_CLOCK_ERROR
from eager_tern.signal.values import Floats

FEWEST_CHECK_BITS = 12
MOST_DOUBTFUL, MOST_TURNED = 8, 3


def code_shapes(sheets: Sequence[Sheet]) -> list[CodeShape]:
    """The shapes of all frames of one section with bits; sheets that look alike share one."""
    return list(_code_shapes(tuple(sheets)))


@lru_cache(maxsize=64)
def _code_shapes(sheets: tuple[Sheet, ...]) -> tuple[CodeShape, ...]:
    shapes = [shape for sheet in sheets for kind in sheet.leads if (shape := _shape(sheet, kind)) is not None]
    return tuple(dict.fromkeys(shapes))


def kept_by_checks(for_one: Floats, shape: CodeShape, sheets: Sequence[Sheet]) -> Floats:
    """Bits as nats for a 1, with the least certain of them turned where a sheet's checks then hold.

    Only for checks of many bits, which would hardly hold by turning the wrong ones.
    """
    of_shape = [(s, kind) for s in sheets for kind in s.leads if _shape(s, kind) == shape]
    strict = [(s, kind) for s, kind in of_shape if sum(check.at.width for check in s.checks) >= FEWEST_CHECK_BITS]
    doubtful = np.argsort(np.abs(for_one))[:MOST_DOUBTFUL]
    turns = sorted(
        (chosen for count in range(MOST_TURNED + 1) for chosen in combinations(doubtful.tolist(), count)),
        key=lambda chosen: float(np.abs(for_one[list(chosen)]).sum()),
    )
    turned = np.tile(for_one, (len(turns), 1))
    for row, chosen in zip(turned, turns, strict=True):
        row[list(chosen)] *= -1
    bits = (turned > 0).astype(np.uint8)
    hold = np.zeros(len(turns), np.bool_)
    for sheet, kind in strict:
        hold |= np.all([holds_in(check, kind.turned(bits)) for check in sheet.checks], axis=0)
    return turned[np.argmax(hold)] if hold.any() else for_one


def _shape(sheet: Sheet, kind: FrameKind) -> CodeShape | None:
    parts = list(kind.parts)
    with_bits = [i for i, part in enumerate(parts) if part.bits]
    if sheet.zero is None or sheet.one is None or len(sheet.zero) != 2:
        return None
    if len(with_bits) != 1 or any(part.gap_us or part.stretch != 1 for part in parts):
        return None
    at = with_bits[0]
    before, behind = parts[:at], parts[at + 1 :]
    wide = max(MOST_CLOCK_ERROR, sheet.tolerance - 0.05)
    return CodeShape(
        sheet.zero,
        sheet.one,
        (sheet.unit_us * (1 - wide), sheet.unit_us * (1 + wide)),
        tuple(length for part in before for length in part.pulses or ()),
        tuple(length for part in behind for length in part.pulses or ()),
        parts[at].bits or 0,
    )
