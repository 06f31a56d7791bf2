"""How probable a frame's durations are under a hypothesis, and what a hypothesis costs."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from eager_tern.signal.values import Floats

# A fit of few pulses may come out better than any receiver times them: this much is always allowed for.
PRIOR_SIGMA_US = 30.0
PRIOR_WEIGHT = 4.0

# Pulses of which nothing is known: log-normal about 0.8 ms, two thirds of them between 0.24 and 2.7 ms.
ANY_MEDIAN_US = 800.0
ANY_SIGMA = 1.2


def gaussian_score(residuals_us: Floats) -> float:
    """Log likelihood of residuals whose spread is estimated from themselves, with a prior (natural log, per µs)."""
    n = residuals_us.size
    if n == 0:
        return 0.0
    variance = (float(residuals_us @ residuals_us) + PRIOR_WEIGHT * PRIOR_SIGMA_US**2) / (n + PRIOR_WEIGHT)
    rest = float(residuals_us @ residuals_us) / variance
    return -0.5 * float(n * np.log(2 * np.pi * variance) + rest)


def timing_score(residuals_us: Floats) -> float:
    """Log likelihood of the residuals of pulses in a row (NaN: a pulse of unknown length), shape (n,).

    Edges err independently of each other, so that the places of the edges lie closer than the durations do: n pulses
    between n + 1 edges with a variance of v each, wherever the row begins, have the density
    (2πv)^(−n/2) · (n + 1)^(−½) · exp(−Σ(e − ē)² / 2v). A clock that loses a little with each pulse is better described
    by the durations; whichever is better counts.
    """
    known = ~np.isnan(residuals_us)
    durations = gaussian_score(residuals_us[known])
    n = int(np.count_nonzero(known))
    if n == 0:
        return durations
    squares = rows = 0.0
    bounds = [-1, *np.flatnonzero(~known).tolist(), residuals_us.size]
    for first, last in pairwise(bounds):
        row = residuals_us[first + 1 : last]
        if row.size:
            places = np.concatenate(([0.0], np.cumsum(row)))
            squares += float(places @ places) - float(places.sum()) ** 2 / places.size
            rows += float(np.log(places.size))
    variance = (squares + PRIOR_WEIGHT * PRIOR_SIGMA_US**2 / 2) / (n + PRIOR_WEIGHT)
    edges = -0.5 * (n * float(np.log(2 * np.pi * variance)) + squares / variance + rows)
    return max(durations, edges)


def any_pulse_score(durations_us: Floats) -> float:
    """Log likelihood of durations that could be anything."""
    log_d = np.log(np.maximum(durations_us, 1.0))
    z = (log_d - np.log(ANY_MEDIAN_US)) / ANY_SIGMA
    return float(np.sum(-log_d - np.log(ANY_SIGMA * np.sqrt(2 * np.pi)) - 0.5 * z * z))


def noise_score(durations_us: Floats) -> float:
    """Log likelihood under the best smooth model of random pulses: marks and spaces log-normal, fitted to this frame.

    Anything that claims structure has to do better than this.
    """
    score = 0.0
    for part in (durations_us[0::2], durations_us[1::2]):
        if part.size < 2:
            score += any_pulse_score(part)
            continue
        log_d = np.log(np.maximum(part, 1.0))
        variance = (float(np.var(log_d)) * part.size + PRIOR_WEIGHT * 0.05**2) / (part.size + PRIOR_WEIGHT)
        rest = float(np.sum((log_d - log_d.mean()) ** 2)) / variance
        score += float(-np.sum(log_d) - 0.5 * (part.size * np.log(2 * np.pi * variance) + rest))
    return score


def parameter_cost(parameters: int, pulses: int) -> float:
    """Penalty for fitted numbers (Schwarz 1978, the Bayesian information criterion)."""
    return 0.5 * parameters * float(np.log(max(pulses, 2)))


def probabilities(scores: list[float]) -> list[float]:
    """Scores to probabilities that add up to one."""
    if not scores:
        return []
    weights = np.exp(np.asarray(scores) - max(scores))
    return [float(w) for w in weights / weights.sum()]
