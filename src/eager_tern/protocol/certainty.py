"""How sure the bits of unknown frames are, by how far each pulse lies from what the other bit would have sent."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.linecode.clusters import find_clusters
from eager_tern.protocol.presses import Frame, with_confidence
from eager_tern.protocol.reading import SERIAL
from eager_tern.signal.assumed import FINEST_US
from eager_tern.signal.values import Floats

# A mark and the space behind it share an edge: of their difference, edges that err by v each make 6v, not 4v.
SHARED_EDGE = 4 / 6


def as_sure_as_bits(frames: Sequence[Frame]) -> list[Frame]:
    """The frames; the confidence in unknown ones is no greater than the chance that all their bits are right.

    Frames that say the same say it together.
    """
    margins = {at: _margins_of(frame) for at, frame in enumerate(frames) if _is_asked(frame)}
    together: dict[tuple[bytes, int], Floats] = {}
    for at, own in margins.items():
        said = frames[at].reading.bits.tobytes(), own.size
        together[said] = together.get(said, 0.0) + own
    out = list(frames)
    for at, own in margins.items():
        best = frames[at].reading
        sure = float(np.exp(-np.logaddexp(0.0, -together[best.bits.tobytes(), own.size]).sum()))
        out[at] = with_confidence(frames[at], best.confidence * sure)
    return out


def _is_asked(frame: Frame) -> bool:
    best = frame.best
    return best is not None and not best.known and best.protocol != SERIAL and best.code != "biphase"


def _margins_of(frame: Frame) -> Floats:
    """By how many nats each symbol of a frame of pulse pairs is rather what it was read as than the next likely one."""
    best = frame.reading
    spread = max(best.clock.rms_us, FINEST_US)
    told = ~np.isnan(best.expected_us)
    of_pulses = np.full(told.size + told.size % 2, np.nan)
    for first in (0, 1):  # marks, and spaces
        at = np.arange(first, told.size, 2)[told[first::2]]
        of_pulses[at] = _margins(frame.as_read.durations_us[at], best.expected_us[at], spread)
    pairs = of_pulses.reshape(-1, 2)
    known = ~np.isnan(pairs)
    margins = np.nansum(pairs, axis=1) * np.where(known.all(axis=1), SHARED_EDGE, 1.0)
    found: Floats = margins[known.any(axis=1)]
    return found


def _margins(d: Floats, expected_us: Floats, spread_us: float) -> Floats:
    """The same of marks, or of spaces, alone; NaN where all are of one length, which says nothing."""
    lengths = np.array([cluster.centre_us for cluster in find_clusters(np.unique(expected_us))])
    if lengths.size < 2:
        return np.full(d.size, np.nan)
    own = np.abs(expected_us[:, None] - lengths).argmin(axis=1)
    off = (d[:, None] - lengths) ** 2
    mine = off[np.arange(d.size), own]
    off[np.arange(d.size), own] = np.inf
    margins: Floats = (off.min(axis=1) - mine) / (2 * spread_us**2)
    return margins
