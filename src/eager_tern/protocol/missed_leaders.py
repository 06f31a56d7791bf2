"""Frames of a kind that only follows another while a key is held, where the other was never seen."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from eager_tern.linecode.likelihood import probabilities
from eager_tern.linecode.prices import LEADER_MISSED
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading, read_frames
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.wholeness import is_bare
from eager_tern.signal.assumed import LONGEST_SILENCE_US
from eager_tern.signal.values import Pulses


def as_sure_as_led(pulses: Pulses, frames: Sequence[Frame], sheets: Sequence[Sheet]) -> list[Frame]:
    """The frames; of those that only follow another, and of which no other was seen, each silence that shows the
    beginning of a press speaks against their sheet, and for the line code by itself.
    """
    led = {f.best.protocol for f in frames if f.best is not None and f.best.known and not _only_follows(f.best)}
    alone: dict[str, list[int]] = {}
    for at, frame in enumerate(frames):
        if is_bare(frame.best) and _only_follows(frame.reading) and frame.reading.protocol not in led:
            alone.setdefault(frame.reading.protocol, []).append(at)
    out = list(frames)
    for protocol, asked in alone.items():
        if not (presses := sum(_begins_a_press(pulses, frames[at]) for at in asked)):
            continue
        read = read_frames([frames[at].as_read for at in asked], [sheet for sheet in sheets if sheet.id != protocol])
        # A gadget that no sheet describes is as seldom in a hundred frames as in one.
        ahead = [
            frames[at].reading.evidence - found[0].evidence for at, found in zip(asked, read, strict=True) if found
        ]
        if ahead:
            chance, _ = probabilities([min(ahead) + presses * LEADER_MISSED, 0.0])
            for at, found in zip(asked, read, strict=True):
                out[at] = _weighed(frames[at], found, chance)
    return out


def _only_follows(best: Reading) -> bool:
    """Whether a sheet's frame has bits, and is of a kind that only follows another; a sheet said by hand is obeyed."""
    sheet = best.sheet
    if sheet is None or sheet.overrules or not best.bits.size:
        return False
    return best.kind not in {lead.name for lead in sheet.leads}


def _begins_a_press(pulses: Pulses, frame: Frame) -> bool:
    """Whether the line is seen to rest before a frame; what a recording begins with may have begun before."""
    silence_us = pulses.durations_us[frame.first - 1] if frame.first else pulses.start_us
    return bool(silence_us >= LONGEST_SILENCE_US)


def _weighed(frame: Frame, others: Sequence[Reading], chance: float) -> Frame:
    """A frame whose sheet is only that probable beside its other readings."""
    best = frame.reading
    weighed = [replace(best, confidence=min(best.confidence, chance))]
    weighed += [replace(other, confidence=min(other.confidence, 1 - chance)) for other in others[:1]]
    return replace(frame, readings=tuple(sorted(weighed, key=lambda reading: -reading.confidence)))
