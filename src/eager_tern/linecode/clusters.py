"""One-dimensional clusters of durations."""

from __future__ import annotations

import numpy as np

from eager_tern.linecode.values import Cluster
from eager_tern.signal.values import Floats

SAME_RATIO = 1.33  # neighbours in length that are closer than this belong to one cluster
# Standard deviation of pulses that are all one length, of their mean: 70 µs of jitter at a unit of 300. Of bi-phase,
# whose lengths are one and two, it is a third.
EVEN = 0.25
FEWEST_SHORT = 3  # that are a length of their own


def find_clusters(durations_us: Floats) -> list[Cluster]:
    """Groups of durations, shortest first, cut where sorted neighbours differ by more than ``SAME_RATIO``."""
    if durations_us.size == 0:
        return []
    ordered = np.sort(durations_us)
    cuts = np.flatnonzero(ordered[1:] > SAME_RATIO * ordered[:-1]) + 1
    return [Cluster(float(g.mean()), int(g.size)) for g in np.split(ordered, cuts)]


def split_in_two(durations_us: Floats) -> float:
    """The bound between the short and the long ones: the cut with the least variance on both sides.

    (Otsu 1979, "A threshold selection method from gray-level histograms", on the values themselves.)
    NaN where all are equal.
    """
    ordered = np.sort(durations_us)
    n = ordered.size
    if n < 2 or ordered[0] == ordered[-1]:
        return float("nan")
    sums = np.cumsum(ordered)
    left = np.arange(1, n)
    gain = (sums[:-1] / left - (sums[-1] - sums[:-1]) / (n - left)) ** 2 * left * (n - left)
    cut = int(np.argmax(gain))
    return float((ordered[cut] + ordered[cut + 1]) / 2)


def are_even(durations_us: Floats) -> bool:
    """Whether all pulses are of one length, as in a run-in or a tone: no frame is to be found in these.

    A few longer ones may be the only ones among many zeros; one or two that are shorter are jitter's.
    """
    if float(durations_us.std()) >= EVEN * float(durations_us.mean()):
        return False
    *shorter, longest = find_clusters(durations_us)
    return longest.count > durations_us.size // 2 and all(each.count < FEWEST_SHORT for each in shorter)
