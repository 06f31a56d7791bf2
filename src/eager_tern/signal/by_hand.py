"""What the user overrules of what would otherwise be found out."""

from __future__ import annotations

import numpy as np
from msgspec import Struct

from eager_tern.signal.values import Polarity, Pulses


class ByHand(Struct, frozen=True):
    """Each is None where the data are to tell.

    ``level`` is the threshold in the samples' own units, ``shortest_us`` the length below which a pulse is left out,
    ``gap_us`` the shortest space between two frames.
    """

    polarity: Polarity | None = None
    level: float | None = None
    shortest_us: float | None = None
    gap_us: float | None = None


FOUND_OUT = ByHand()


def without_short(pulses: Pulses, shortest_us: float) -> Pulses:
    """The pulses with spaces shorter than that closed, then marks shorter than that left out."""
    edges = pulses.edge_times_us
    starts, ends = edges[:-1:2], edges[1::2]
    if starts.size == 0:
        return pulses
    open_ = starts[1:] - ends[:-1] >= shortest_us
    starts, ends = starts[np.concatenate(([True], open_))], ends[np.concatenate((open_, [True]))]
    long = ends - starts >= shortest_us
    kept = np.column_stack((starts[long], ends[long])).ravel()
    if kept.size == 0:
        return Pulses(np.empty(0), pulses.start_us, pulses.carrier_hz)
    return Pulses(np.diff(kept), float(kept[0]), pulses.carrier_hz)
