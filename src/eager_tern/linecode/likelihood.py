"""How probable a frame's durations are under a hypothesis, and what a hypothesis costs."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np

from eager_tern.signal.assumed import FINEST_US, USUAL_JITTER_US
from eager_tern.signal.values import Floats

LN2 = math.log(2.0)  # nats that a bit takes which could be either
# A fit of few pulses may come out better than any receiver times them: this much is always allowed for.
PRIOR_WEIGHT = 4.0

# Pulses of which nothing is known: log-normal about 0.8 ms, two thirds of them between 0.24 and 2.7 ms.
ANY_MEDIAN_US = 800.0
ANY_SIGMA = 1.2


def gaussian_score(residuals_us: Floats) -> Floats:
    """Log likelihood of each row's residuals (µs), whose spread is estimated from themselves, with a prior.

    Shape (..., n) to (...); natural logarithm.
    """
    n = residuals_us.shape[-1]
    squares = np.einsum("...i,...i", residuals_us, residuals_us)
    variance = np.maximum((squares + PRIOR_WEIGHT * USUAL_JITTER_US**2) / (n + PRIOR_WEIGHT), FINEST_US**2)
    score: Floats = -0.5 * (n * np.log(2 * np.pi * variance) + squares / variance)
    return score


def timing_score(residuals_us: Floats) -> Floats:
    """Log likelihood of the residuals of pulses in a row, shape (..., n) to (...).

    NaN is a pulse of unknown length, the same one in every row. Edges err independently of each other, so that the
    places of the edges lie closer than the durations do: n pulses between n + 1 edges with a variance of v each,
    wherever the row begins, have the density (2πv)^(−n/2) · (n + 1)^(−½) · exp(−Σ(e − ē)² / 2v). A clock that loses a
    little with each pulse is better described by the durations; whichever is better counts.
    """
    unknown = np.isnan(residuals_us.reshape(-1, residuals_us.shape[-1])[0])
    n = int(np.count_nonzero(~unknown))
    durations = gaussian_score(residuals_us[..., ~unknown])
    if n == 0:
        return durations
    squares, rows = np.zeros(residuals_us.shape[:-1]), 0.0
    bounds = [-1, *np.flatnonzero(unknown).tolist(), unknown.size]
    for first, last in pairwise(bounds):
        if last - first > 1:
            places = np.cumsum(residuals_us[..., first + 1 : last], axis=-1)  # from the row's first edge, at 0
            count = last - first
            squares += np.einsum("...i,...i", places, places) - places.sum(axis=-1) ** 2 / count
            rows += float(np.log(count))
    variance = np.maximum((squares + PRIOR_WEIGHT * USUAL_JITTER_US**2 / 2) / (n + PRIOR_WEIGHT), FINEST_US**2 / 2)
    edges = -0.5 * (n * np.log(2 * np.pi * variance) + squares / variance + rows)
    best: Floats = np.maximum(durations, edges)
    return best


def any_pulse_score(durations_us: Floats) -> Floats:
    """Log likelihood of durations that could be anything, shape (..., n) to (...)."""
    log_d = np.log(np.maximum(durations_us, 1.0))
    z = (log_d - np.log(ANY_MEDIAN_US)) / ANY_SIGMA
    score: Floats = np.sum(-log_d - np.log(ANY_SIGMA * np.sqrt(2 * np.pi)) - 0.5 * z * z, axis=-1)
    return score


def noise_score(durations_us: Floats) -> Floats:
    """Log likelihood under the best smooth model of random pulses: marks and spaces log-normal, fitted to this frame.

    Shape (..., n) to (...). Anything that claims structure has to do better than this.
    """
    return _smooth_score(durations_us[..., 0::2]) + _smooth_score(durations_us[..., 1::2])


def _smooth_score(durations_us: Floats) -> Floats:
    """The same of the marks, or of the spaces, alone."""
    n = durations_us.shape[-1]
    if n < 2:
        return any_pulse_score(durations_us)
    log_d = np.log(np.maximum(durations_us, 1.0))
    whole = log_d.sum(axis=-1)
    rest = log_d - (whole / n)[..., None]
    squares = np.einsum("...i,...i", rest, rest)
    variance = (squares + PRIOR_WEIGHT * 0.05**2) / (n + PRIOR_WEIGHT)
    score: Floats = -whole - 0.5 * (n * np.log(2 * np.pi * variance) + squares / variance)
    return score


def parameter_cost(parameters: int, pulses: int) -> float:
    """Penalty for fitted numbers (Schwarz 1978, the Bayesian information criterion)."""
    return 0.5 * parameters * float(np.log(max(pulses, 2)))


def probabilities(scores: list[float]) -> list[float]:
    """Scores to probabilities that add up to one."""
    if not scores:
        return []
    most = max(scores)
    weights = [math.exp(score - most) for score in scores]
    whole = sum(weights)
    return [weight / whole for weight in weights]
