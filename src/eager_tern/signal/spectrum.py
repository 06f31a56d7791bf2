"""Where in time and frequency a recording holds more than noise."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.signal.order import median
from eager_tern.signal.recording import Recording
from eager_tern.signal.stretches import stretches

BIN_HZ = 2000.0  # about the width of the shortest pulses' own spectrum
ROW_S = 4e-3  # time over which the power of a bin is averaged
BLOCK_ROWS = 256
FEWEST_HOPS = 64  # of a block that tell how strong the noise is; else it is as before
DETECTION = 2.3  # times the noise, averaged over three rows
AT_ONCE = 4.5  # times the noise, in one row
SPILL_HZ = 2500.0  # what a carrier's hard edges spill falls with the square of the distance from there on
BELOW_STRONGEST = 1e-4  # of the strongest bin at the time, at any distance
JOIN_S = 0.05  # silences shorter than this lie within a burst
SHORTEST_S = 3e-3
QUIETEST_QUARTER = 0.288  # the lower quartile of a mean-1 exponential distribution (ln 4/3)


class Patch(Struct, frozen=True):
    """A stretch of time and frequency with a signal in it. ``noise`` is the density there, in power per Hz."""

    first: int
    last: int
    low_hz: float
    high_hz: float
    noise: float
    power: float


class _Open(Struct, eq=False):
    """A patch that may still grow: rows, and the power seen in each bin."""

    first: int
    last: int
    power: NDArray[np.float64]
    noise: float


def find_patches(recording: Recording, lowest_hz: float | None = None) -> list[Patch]:
    """The stretches that hold a signal, in order of time.

    For a real recording only frequencies from ``lowest_hz`` on are looked at. Bins are two thousand Hz wide, so a
    patch's edges are rough.
    """
    real = lowest_hz is not None
    bins = 1 << max(3, round(float(np.log2(recording.rate_hz / BIN_HZ))))
    hop = bins // 2
    hops_per_row = max(1, round(ROW_S * recording.rate_hz / hop))
    row = hop * hops_per_row
    frequencies = np.asarray(
        np.fft.rfftfreq(bins, 1 / recording.rate_hz) if real else _frequencies(bins, recording.rate_hz), np.float64
    )
    looked_at = frequencies >= lowest_hz if lowest_hz is not None else np.ones(bins, np.bool_)
    growing: list[_Open] = []
    done: list[_Open] = []
    join = max(1, round(JOIN_S / (row / recording.rate_hz)))
    rows = -(-recording.size // row)
    density = 0.0
    for start in range(0, rows, BLOCK_ROWS):
        count = min(BLOCK_ROWS, rows - start)
        samples = recording.padded(start * row, (start + count) * row + hop)
        power, quiet = _row_power(samples, bins, hop, hops_per_row, real)
        # Behind the recording's end there is nothing, not even noise.
        whole = max((recording.size - start * row - bins) // hop + 1, 0)
        if density == 0.0 or whole >= FEWEST_HOPS:
            density = _noise(quiet[: max(whole, 1), looked_at], recording.rate_hz)
        usual = density * recording.rate_hz
        active = (_three_rows(power) > DETECTION * usual) | (power > AT_ONCE * usual)
        active &= (power > _spilled(power, frequencies, looked_at)) & looked_at
        for i in np.flatnonzero(active.any(axis=1)).tolist():
            _grow(growing, done, start + i, power[i], active[i], density, join)
    patches = [_patch(p, row, frequencies) for p in [*done, *growing] if (p.last - p.first + 1) * row >= SHORTEST_S]
    return sorted(patches, key=lambda p: (p.first, p.low_hz))


def _frequencies(bins: int, rate_hz: float) -> NDArray[np.float64]:
    return np.fft.fftshift(np.fft.fftfreq(bins, 1 / rate_hz))


def _row_power(
    samples: NDArray[np.generic], bins: int, hop: int, hops_per_row: int, real: bool
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Power of each bin, averaged over each row, and of the single hops; white noise of variance v gives v."""
    window = np.hanning(bins + 1)[:-1]
    window /= np.sqrt(np.sum(window**2))
    frames = np.lib.stride_tricks.sliding_window_view(samples, bins)[::hop]
    if real:
        spectra = np.fft.rfft(frames * window.astype(np.float32), axis=1)
    else:
        spectra = np.fft.fftshift(np.fft.fft((frames - samples.mean()) * window.astype(np.float32), axis=1), axes=1)
    power = spectra.real**2 + spectra.imag**2
    count = power.shape[0] // hops_per_row * hops_per_row
    return power[:count].reshape(-1, hops_per_row, power.shape[1]).mean(axis=1), power


def _three_rows(power: NDArray[np.float64]) -> NDArray[np.float64]:
    padded = np.pad(power, ((1, 1), (0, 0)), mode="edge")
    return np.asarray((padded[:-2] + padded[1:-1] + padded[2:]) / 3)


def _spilled(
    power: NDArray[np.float64], frequencies: NDArray[np.float64], looked_at: NDArray[np.bool_]
) -> NDArray[np.float64]:
    """What the strongest carrier of each row may have put into the other bins."""
    strongest = np.argmax(np.where(looked_at, power, 0.0), axis=1)
    away = np.abs(frequencies[None, :] - frequencies[strongest][:, None])
    part = np.maximum((SPILL_HZ / np.maximum(away, SPILL_HZ)) ** 2, BELOW_STRONGEST)
    own = away < 2 * SPILL_HZ
    return np.where(own, 0.0, part * power[np.arange(len(power)), strongest][:, None])


def _noise(power: NDArray[np.float64], rate_hz: float) -> float:
    """The noise's density: of the quietest quarter of time of the usual bin, since a signal fills but few."""
    floor = np.quantile(power, 0.25, axis=0) / QUIETEST_QUARTER
    return max(median(floor), 1e-12 * float(power.max()), 1e-20) / rate_hz


def _grow(
    growing: list[_Open],
    done: list[_Open],
    row: int,
    power: NDArray[np.float64],
    active: NDArray[np.bool_],
    noise: float,
    join: int,
) -> None:
    """Add a row's active bins to the patches they touch, or begin new ones."""
    for old in [p for p in growing if row - p.last > join]:
        growing.remove(old)
        done.append(old)
    for low, high in stretches(active):
        here = np.zeros_like(power)
        here[low : high + 1] = power[low : high + 1]
        touched = [p for p in growing if p.power[max(low - 1, 0) : high + 2].any()]
        if not touched:
            growing.append(_Open(row, row, here, noise))
            continue
        patch = touched[0]
        patch.power += here
        patch.last = row
        for other in touched[1:]:
            patch.first = min(patch.first, other.first)
            patch.power += other.power
            growing.remove(other)


def _patch(found: _Open, row: int, frequencies: NDArray[np.float64]) -> Patch:
    bins = np.flatnonzero(found.power)
    half = (frequencies[1] - frequencies[0]) / 2
    low, high = float(frequencies[bins[0]] - half), float(frequencies[bins[-1]] + half)
    return Patch(found.first * row, (found.last + 1) * row, low, high, found.noise, float(found.power.max()))
