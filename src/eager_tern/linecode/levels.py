"""Levels of length that the symbols of a code have, where they are more than two."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.clusters import SAME_RATIO
from eager_tern.signal.values import Floats

FEWEST_OF_EACH = 2  # a single odd one among equals is damage rather than a bit
COARSEST_STEP = 0.25  # rms of the lengths about their levels, of the step between them
FEWEST_UNEVEN = 4  # pulses for each level that is not an even one: swallowed pulses make a few of any length
MOST_UNEVEN = 0.18  # of the step: by how much the mean of a level may be off an even one; 1, 2 and 4 are off by 0.22
ROUNDS = 3  # in which even levels settle


def levels_of(lengths: Floats, count: int) -> NDArray[np.intp] | None:
    """The level of each length where there are so many; None where a level is empty, or all are one length.

    They are evenly spaced, which bears more jitter, or lie apart by themselves.
    """
    level = _even_levels(lengths, count)
    return _levels_apart(lengths, count) if level is None else level


def _even_levels(lengths: Floats, count: int) -> NDArray[np.intp] | None:
    base, step, mean = float(lengths.min()), float(np.ptp(lengths)) / (count - 1), float(lengths.mean())
    for _ in range(ROUNDS):
        if step <= 0:
            return None
        level = np.clip(np.rint((lengths - base) / step), 0, count - 1).astype(np.intp)
        each = np.bincount(level, minlength=count)
        if not each.all():
            return None
        mean_level = float(each @ np.arange(count)) / level.size
        above = level - mean_level
        step = float(above @ lengths / (above @ above))
        base = mean - step * mean_level
    rest = lengths - base - step * level
    if base <= 0 or (count - 1) * step < (SAME_RATIO - 1) * base:
        return None
    uneven = np.abs(centres_of(rest, level, count)).max() > MOST_UNEVEN * step
    if uneven and lengths.size < FEWEST_UNEVEN * count:
        return None
    return level if float(np.sqrt(np.mean(rest**2))) < COARSEST_STEP * step else None


def _levels_apart(lengths: Floats, count: int) -> NDArray[np.intp] | None:
    """The same of lengths that fall into so many groups, each of them much narrower than what lies between."""
    ordered = np.sort(lengths)
    ratios = ordered[1:] / ordered[:-1]
    cuts = np.sort(np.argsort(ratios)[1 - count :])
    if ratios.size < count or ratios[cuts].min() < SAME_RATIO:
        return None
    level = np.searchsorted(ordered[cuts], lengths).astype(np.intp)
    if np.bincount(level, minlength=count).min() < FEWEST_OF_EACH or lengths.size < FEWEST_UNEVEN * count:
        return None
    centres = centres_of(lengths, level, count)
    rms = float(np.sqrt(np.mean((lengths - centres[level]) ** 2)))
    return level if rms < COARSEST_STEP * float(np.diff(centres).min()) else None


def centres_of(lengths: Floats, level: NDArray[np.intp] | NDArray[np.bool_], count: int) -> Floats:
    """The mean length of each level, shape (count,)."""
    centres: Floats = np.bincount(level, lengths, minlength=count) / np.bincount(level, minlength=count)
    return centres
