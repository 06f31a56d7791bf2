"""Which level is a mark: the line rests on the other one."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from eager_tern.signal.assumed import LONGEST_LEADER_MARK_US
from eager_tern.signal.values import Edges, Polarity


class PolarityFound(Struct, frozen=True):
    """``sure`` is False where the line never rests, so that only the frames themselves can tell."""

    polarity: Polarity
    sure: bool


def find_polarity(edges: Edges) -> PolarityFound:
    """The level the line rests on for longest is the space.

    Only rests count: in the middle of a frame either level can have more than half of the time. Where there are none,
    the level at the start of the recording is taken for the space.
    """
    times = np.concatenate(([edges.start_us], edges.times_us, [edges.end_us]))
    runs = np.diff(times)
    rests = np.where(runs > LONGEST_LEADER_MARK_US, runs, 0.0)
    before, after = float(rests[::2].sum()), float(rests[1::2].sum())
    first_is_space = before >= after
    space_high = edges.starts_high == first_is_space
    sure = max(before, after) > 0 and max(before, after) > 1.5 * min(before, after)
    return PolarityFound("mark-low" if space_high else "mark-high", sure)
