"""Known frames that are rather of another code: pulses that should be of one length are clearly of two."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.linecode.clock import alternating
from eager_tern.linecode.closeness import CLEAN
from eager_tern.protocol.presses import Frame, at_most
from eager_tern.signal.values import Floats

FEWEST = 3  # pulses on either side of the hole
APART = 0.3  # of a unit between the two: neither a receiver nor a tired battery does that
CLEARLY = 4.0  # times what the pulses of either differ by
DOUBTED = 0.3  # confidence at most in such a frame


def as_sure_as_even(frames: Sequence[Frame]) -> list[Frame]:
    """The frames; a known one is doubted whose pulses are two lengths where its sheet has one.

    Jitter spreads a length, and does not leave a hole in its middle. Only frames that lie far from their sheet are
    asked.
    """
    return [at_most(frame, DOUBTED) if _is_uneven(frame) and _has_two_of_one(frame) else frame for frame in frames]


def _is_uneven(frame: Frame) -> bool:
    best = frame.best
    return best is not None and best.known and best.clock.rms_us > CLEAN * best.clock.unit_us


def _has_two_of_one(frame: Frame) -> bool:
    best, measured = frame.reading, frame.as_read.durations_us
    if best.expected_us.size != measured.size:
        return False
    told = ~np.isnan(best.expected_us)
    meant = np.where(told, np.rint(best.expected_us), -1) * alternating(measured.size)
    return any(_are_two(measured[told & (meant == length)], best.clock.unit_us) for length in np.unique(meant[told]))


def _are_two(lengths_us: Floats, unit_us: float) -> bool:
    """Whether there is a hole among lengths that is far wider than what the lengths on either side of it differ by."""
    if lengths_us.size < 2 * FEWEST:
        return False
    ordered = np.sort(lengths_us)
    holes = np.diff(ordered)[FEWEST - 1 : 1 - FEWEST]
    beside = ordered[FEWEST - 1 :] - ordered[: 1 - FEWEST]  # the range of so many in a row
    differ = np.maximum(beside[:-FEWEST], beside[FEWEST:])
    return bool(np.any(holes > np.maximum(APART * unit_us, CLEARLY * differ)))
