"""Radio signals made without the code under test: keyed carriers in white noise, as IQ recordings."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np


def code_24(bits: list[int], unit_us: float, repeats: int = 1) -> list[float]:
    """A fixed code of 1 to 3 and 3 to 1, the sync mark and its pause behind the bits."""
    frame: list[float] = []
    for bit in bits:
        frame += [3 * unit_us, -unit_us] if bit else [unit_us, -3 * unit_us]
    return [*frame, unit_us, -31 * unit_us] * repeats


def marks(signed: list[float], rate_hz: float) -> np.ndarray:
    """Whether there is a mark, for each sample."""
    ends = np.cumsum(np.abs(signed)) * rate_hz / 1e6
    at = np.searchsorted(ends, np.arange(int(ends[-1])) + 0.5, side="right")
    return np.array(signed)[at] > 0


def on_off(signed: list[float], rate_hz: float, offset_hz: float, low: float = 0.0) -> np.ndarray:
    level = marks(signed, rate_hz)
    return np.where(level, 1.0, low) * np.exp(2j * np.pi * offset_hz / rate_hz * np.arange(level.size))


def two_tones(signed: list[float], rate_hz: float, offset_hz: float, deviation_hz: float) -> np.ndarray:
    """The higher tone during marks, the lower during spaces within a frame, nothing in long silences."""
    level = marks(signed, rate_hz)
    at = np.flatnonzero(level)
    sent = np.zeros(level.size)
    for run in np.split(at, np.flatnonzero(np.diff(at) > 0.02 * rate_hz) + 1):
        sent[max(run[0] - int(5e-4 * rate_hz), 0) : run[-1] + int(1e-3 * rate_hz)] = 1.0
    tone = np.where(level, offset_hz + deviation_hz, offset_hz - deviation_hz)
    return sent * np.exp(2j * np.pi * np.cumsum(tone) / rate_hz)


def with_noise(signal: np.ndarray, rng: np.random.Generator, rate_hz: float, unit_us: float, db: float) -> np.ndarray:
    """White noise added; ``db`` is the energy of a unit's mark (amplitude 1) over the noise's density."""
    variance = unit_us * 1e-6 * rate_hz / 10 ** (db / 10)
    noise = rng.normal(size=signal.size) + 1j * rng.normal(size=signal.size)
    return signal + noise * np.sqrt(variance / 2)


def save_sigmf(path: Path, signal: np.ndarray, rate_hz: float, datatype: str, **extra: object) -> Path:
    """Write the pair; ``path`` is that of the description."""
    parts = np.column_stack((signal.real, signal.imag)).ravel()
    scaled = 0.9 * parts / np.abs(parts).max()
    written = {
        "cu8": lambda: np.rint(scaled * 127.5 + 127.5).astype(np.uint8),
        "ci8": lambda: np.rint(scaled * 127).astype(np.int8),
        "ci16_le": lambda: np.rint(scaled * 32767).astype("<i2"),
        "ci16_be": lambda: np.rint(scaled * 32767).astype(">i2"),
        "cf32_le": lambda: parts.astype("<f4"),
        "cf64_le": lambda: parts.astype("<f8"),
    }[datatype]()
    written.tofile(path.with_suffix(".sigmf-data"))
    document = {
        "global": {"core:datatype": datatype, "core:sample_rate": rate_hz, "core:version": "1.0.0"},
        "captures": [{"core:sample_start": 0, "core:frequency": 433_920_000}],
        "annotations": [{"core:sample_start": 1000, "core:sample_count": 500, "core:label": "window shutter"}],
        **extra,
    }
    path.write_text(json.dumps(document))
    return path


def unstripped(signed: list[float], rate_hz: float, carrier_hz: float, duty: float) -> np.ndarray:
    """An infrared signal with its carrier, each sample the mean over its own time."""
    over = 8
    times = (np.arange(int(np.abs(signed).sum() * rate_hz / 1e6) * over) + 0.5) / (rate_hz * over) * 1e6
    ends = np.cumsum(np.abs(signed))
    at = np.searchsorted(ends, times, side="right")
    phase = ((times - (ends[at] - np.abs(signed)[at])) * carrier_hz / 1e6) % 1
    return ((np.array(signed)[at] > 0) & (phase < duty)).astype(float).reshape(-1, over).mean(axis=1)
