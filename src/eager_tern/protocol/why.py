"""Why a sheet does not fit a frame, in words."""

from __future__ import annotations

import numpy as np

from eager_tern.protocol.matching import match_sheets
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading, reading_of_match
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.signal.values import Floats, Pulses

SAME = 0.25  # by which a leader's pulses may differ and still be the same
SHORT_US = 1000.0  # lengths below are told in µs


def why_not(frame: Frame, sheet: Sheet) -> list[str]:
    """What keeps the sheet from being a frame's; nothing where it fits."""
    matches = match_sheets(frame.as_read.durations_us[None], (sheet,))[0]
    if matches:
        read = reading_of_match(matches[0], 1.0)
        return [f"the {check.name} does not hold" for check in read.checks if not check.ok]
    kinds = sheet.leads or sheet.frames
    return min((_differences(frame, sheet, kind) for kind in kinds), key=len)


def _differences(frame: Frame, sheet: Sheet, kind: FrameKind) -> list[str]:
    best, pulses = frame.best, frame.as_read
    found = []
    if best is None:
        return [f"nothing is known of the frame's line code; it has {pulses.durations_us.size} pulses"]
    if best.code != sheet.code:
        found.append(f"its line code is {_spoken(sheet.code)}, this frame's {_spoken(best.code)}")
    if best.bits.size != kind.bit_count:
        found.append(f"it wants {kind.bit_count} bits, this has {best.bits.size}")
    if best.sections != (kind.sections if len(kind.sections) > 1 else ()):
        found.append(f"it wants {_sections(kind.sections)}, this has {_sections(best.sections)}")
    found += _leaders(_own_leader(best, pulses), sheet, kind)
    off = best.clock.unit_us / sheet.unit_us - 1
    if abs(off) > sheet.tolerance and best.code == sheet.code:
        found.append(f"its unit is {sheet.unit_us:.0f} µs, this one's {best.clock.unit_us:.0f}")
    return found or ["its symbols have other lengths, or they stand in another order"]


def _own_leader(best: Reading, pulses: Pulses) -> Floats:
    """The pulses before a frame's first bit."""
    until = float(best.bit_spans_us[0, 0]) if best.bits.size else 0.0
    ends = np.cumsum(pulses.durations_us)
    return pulses.durations_us[: int(np.searchsorted(ends, until + 1.0, side="right"))]


def _leaders(own: Floats, sheet: Sheet, kind: FrameKind) -> list[str]:
    wanted = np.abs(np.array(kind.leader)) * sheet.unit_us
    if wanted.size == 0 or own.size == 0:
        if wanted.size == own.size:
            return []
        return ["it has no leader, this frame has one" if own.size else "it has a leader, this frame has none"]
    if wanted.size != own.size:
        return [f"its leader has {wanted.size} pulses, this one's {own.size}"]
    differ = np.abs(own / wanted - 1) > SAME
    if not differ.any():
        return []
    at = int(np.argmax(differ))
    return [f"its leader's {('mark', 'space')[at % 2]} is {_length(wanted[at])}, this one's {_length(own[at])}"]


def _length(us: float) -> str:
    return f"{us / 1000:.1f} ms" if us >= SHORT_US else f"{us:.0f} µs"


def _sections(sections: tuple[int, ...]) -> str:
    return f"sections of {', '.join(map(str, sections))} bits" if len(sections) > 1 else "one section"


def _spoken(code: str) -> str:
    return code.replace("-", " ")
