"""What a sheet's frames look like to a search in noise."""

from __future__ import annotations

from collections.abc import Sequence

from eager_tern.linecode.likeliest import CodeShape
from eager_tern.protocol.schema import FrameKind, Sheet

CLOCK = 0.15  # how far a handset's clock may be off


def code_shapes(sheets: Sequence[Sheet]) -> list[CodeShape]:
    """The shapes of all frames of one section with bits; sheets that look alike share one."""
    shapes = [shape for sheet in sheets for kind in sheet.frames if (shape := _shape(sheet, kind)) is not None]
    return list(dict.fromkeys(shapes))


def _shape(sheet: Sheet, kind: FrameKind) -> CodeShape | None:
    parts = list(kind.parts)
    with_bits = [i for i, part in enumerate(parts) if part.bits]
    if len(with_bits) != 1 or any(part.gap_us or part.stretch != 1 for part in parts):
        return None
    at = with_bits[0]
    before, behind = parts[:at], parts[at + 1 :]
    wide = max(CLOCK, sheet.tolerance - 0.05)
    return CodeShape(
        sheet.zero,
        sheet.one,
        (sheet.unit_us * (1 - wide), sheet.unit_us * (1 + wide)),
        tuple(length for part in before for length in part.pulses or ()),
        tuple(length for part in behind for length in part.pulses or ()),
        parts[at].bits or 0,
    )
