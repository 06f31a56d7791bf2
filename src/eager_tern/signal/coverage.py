"""How much of each stretch of time is mark: what a picture of many edges needs."""

from __future__ import annotations

import numpy as np

from eager_tern.signal.values import Floats


def mark_time_before(edge_times_us: Floats) -> Floats:
    """Time spent in marks before each edge, shape of ``edge_times_us``; edges go up, down, up, …"""
    steps = np.diff(edge_times_us, prepend=edge_times_us[:1])
    steps[::2] = 0.0
    return np.asarray(np.cumsum(steps))


def mark_coverage(edge_times_us: Floats, marked_us: Floats, bounds_us: Floats) -> Floats:
    """The part of each stretch between neighbouring bounds that is mark, 0 to 1, shape (bounds − 1,)."""
    if edge_times_us.size == 0:
        return np.zeros(bounds_us.size - 1)
    at_bounds = np.interp(bounds_us, edge_times_us, marked_us)
    widths = np.maximum(np.diff(bounds_us), 1e-9)
    return np.asarray(np.clip(np.diff(at_bounds) / widths, 0.0, 1.0))
