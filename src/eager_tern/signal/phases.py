"""Where edges lie between samples, made even: straight lines between samples are not how a sound card rises.

Nothing ties a gadget's clock to the sound card's, so its edges fall evenly on every part of a sample. Where the places
found by interpolation do not, that is the shape of the recorder's own edges, and what each place is off by.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from eager_tern.signal.values import Floats

HARMONICS = 4  # of the density over a sample: beyond them recorders' filters leave nothing
ROW = 32  # edges of one direction in a row, about a frame: within one they may be on the same part of a sample
FEWEST_ROWS = 6
MOST = 1.2  # amplitude of a harmonic: a line of two levels with nothing between them has 2


def evenly_phased(places: Floats, rising: NDArray[np.bool_]) -> Floats:
    """Places of edges in samples, shape (n,), each moved by what those of its direction are off by; n may be 0.

    With a density of 1 + Re Σ c_m exp(−2πimf) over a sample's parts f, f is moved to the part of the density below it
    (probability integral transform). Each c_m counts as far as the rows agree on it (James and Stein 1961).
    """
    out = places.copy()
    for direction in (True, False):
        at = np.flatnonzero(rising == direction)
        if at.size >= FEWEST_ROWS * ROW:
            out[at] += _moves(places[at] % 1.0)
    return out


def _moves(parts: Floats) -> Floats:
    rows = parts[: parts.size // ROW * ROW].reshape(-1, ROW)
    moves = np.zeros(parts.size)
    for m in range(1, HARMONICS + 1):
        each = 2 * np.exp(2j * np.pi * m * rows).mean(axis=1)
        mean = complex(each.mean())
        if abs(mean) > MOST:
            return np.zeros(parts.size)
        doubt = float(np.mean(np.abs(each - mean) ** 2)) / len(rows)
        mean *= max(0.0, 1 - doubt / max(abs(mean) ** 2, 1e-12))
        moves += (mean * np.exp(-2j * np.pi * m * parts) / (-2j * np.pi * m)).real  # on the average by nothing
    return moves
