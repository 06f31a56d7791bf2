"""How sure the bits of unknown frames are, by how far each pulse lies from what the other bit would have sent."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.protocol.abreast import Abreast, abreast
from eager_tern.protocol.presses import Frame, with_confidence
from eager_tern.signal.assumed import FINEST_US
from eager_tern.signal.values import Floats

# A mark and the space behind it share an edge: of their difference, edges that err by v each make 6v, not 4v.
SHARED_EDGE = 4 / 6
SURE = 1 - 1e-6  # a chance that nobody is shown


def as_sure_as_bits(frames: Sequence[Frame]) -> list[Frame]:
    """The frames; the confidence in unknown ones is no greater than the chance that all their bits are right.

    Frames that say the same say it together.
    """
    out = list(frames)
    asked = [at for at, frame in enumerate(frames) if frame.is_unknown and frame.reading.code != "biphase"]
    if not asked:
        return out
    said: dict[tuple[bytes, int], list[int]] = {}
    together: dict[tuple[bytes, int], Floats] = {}
    for at, own in zip(asked, _margins_of([frames[at] for at in asked]), strict=True):
        key = frames[at].reading.bits.tobytes(), own.size
        said.setdefault(key, []).append(at)
        together[key] = together.get(key, 0.0) + own
    for key, alike in said.items():
        sure = float(np.exp(-np.logaddexp(0.0, -together[key]).sum()))
        for at in alike if sure < SURE else ():
            out[at] = with_confidence(frames[at], frames[at].reading.confidence * sure)
    return out


def _margins_of(frames: Sequence[Frame]) -> list[Floats]:
    """By how many nats each symbol of frames of pulse pairs is rather what it was read as than the next likely one."""
    row = abreast(frames)
    of_pulses = _margins(row, frames)
    pairs = np.flatnonzero(row.place % 2 == 0)  # a mark and the space behind it; a frame's last mark stands alone
    told = np.add.reduceat(~np.isnan(of_pulses), pairs, dtype=np.intp)
    margins = np.add.reduceat(np.nan_to_num(of_pulses), pairs) * np.where(told == 2, SHARED_EDGE, 1.0)
    ends = np.cumsum(np.bincount(row.frame[pairs[told > 0]], minlength=len(frames)))
    return np.split(margins[told > 0], ends[:-1])


def _margins(row: Abreast, frames: Sequence[Frame]) -> Floats:
    """The same of each pulse; NaN where all marks of its frame, or all its spaces, are of one length."""
    centres = row.centres_us[row.group]
    spreads = np.array([max(frame.reading.clock.rms_us, FINEST_US) for frame in frames])[row.frame]
    each = np.arange(row.frame.size)
    own = np.abs(row.expected_us[:, None] - centres).argmin(axis=1)
    off = (row.durations_us[:, None] - centres) ** 2
    mine = off[each, own]
    off[each, own] = np.inf
    other = off.min(axis=1)
    margins = (other - mine) / (2 * spreads**2)
    return np.where(np.isinf(other) | np.isnan(row.expected_us), np.nan, margins)
