"""Where a sampled line crosses a level, between two of its samples."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from eager_tern.signal.values import Floats, Levels

SLOWEST_EDGE = 64  # samples
TAPS = 8  # samples by which a place between two of them is told
KAISER = 6.0  # of their window: with less, edges that were softened to some samples lie up to 0.5 µs off at 48 kHz
STEPS = 32  # from sample to sample; between two of these the line is straight
HALVES = (16, 8, 4, 2, 1)  # of them, and so on


def crossing_places(
    x: NDArray[Any], at: NDArray[np.intp], rising: NDArray[np.bool_], middle: NDArray[Any], reach: int = SLOWEST_EDGE
) -> Floats:
    """Where the line crossed ``middle`` on its way to sample ``at``, which lies beyond the dead band.

    In samples, shape of ``at``, between two samples by band-limited interpolation (a sinc in a Kaiser window: Oppenheim
    and Schafer 2010, "Discrete-Time Signal Processing", 7.5); looked for up to ``reach`` samples back.
    """
    sign = np.where(rising, 1.0, -1.0)
    index = at.copy()
    beyond = np.ones(at.size, np.bool_)
    for _ in range(reach):  # a slow edge may have crossed the middle some samples before
        beyond &= (index > 1) & (sign * (x[index - 1] - middle) > 0)
        if not beyond.any():
            break
        index[beyond] -= 1
    near = np.clip(index[:, None] + np.arange(-TAPS // 2, TAPS // 2), 0, x.size - 1)
    about = (sign[:, None] * (x[near] - middle[:, None])).astype(np.float32)
    before = np.zeros(at.size, np.intp)  # steps of the way from one sample to the next, before the crossing
    for half in HALVES:
        before += np.where(_between_samples(about, before + half) > 0, 0, half)
    one, other = _between_samples(about, before), _between_samples(about, before + 1)
    part = np.divide(-one, other - one, out=np.ones_like(one), where=other != one)
    return np.asarray(index - 1 + (before + np.clip(part, 0.0, 1.0)) / STEPS, np.float64)


def _between_samples(about: Levels, step: NDArray[np.intp]) -> Levels:
    """The line so many steps behind the middle one of some samples, shape (n, TAPS)."""
    return np.asarray(np.einsum("ij,ij->i", about, INTERPOLATION[step]), np.float32)


def _interpolation() -> Levels:
    """What each of the samples around a place adds to the line there, shape (STEPS + 1, TAPS)."""
    away = np.arange(STEPS + 1)[:, None] / STEPS - np.arange(1 - TAPS // 2, 1 + TAPS // 2)
    window = np.i0(KAISER * np.sqrt(np.maximum(1 - (2 * away / TAPS) ** 2, 0.0))) / np.i0(KAISER)
    return np.asarray(np.sinc(away) * window, np.float32)


INTERPOLATION = _interpolation()
