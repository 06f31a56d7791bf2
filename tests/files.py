"""Signals as files, written without the code under test."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import soundfile

from tests.handsets import join


def level_at(signed: np.ndarray, times_us: np.ndarray) -> np.ndarray:
    """1 during marks, 0 during spaces."""
    joined = join(list(signed))
    edges = np.concatenate(([0.0], np.cumsum(np.abs(joined))))
    index = np.clip(np.searchsorted(edges, times_us, side="right") - 1, 0, joined.size - 1)
    return (joined[index] > 0).astype(float)


def write_text(path: Path, signed: np.ndarray, style: str) -> None:
    """One of the styles people paste. The leading silence is left out where the style cannot say it."""
    joined = join(list(signed))
    if style == "signed":
        path.write_text("# a recording\n" + " ".join(f"{d:+.0f}" for d in joined) + "\n")
    elif style == "words":
        path.write_text("\n".join(f"{'mark' if d > 0 else 'space'} {abs(d):.0f}" for d in joined))
    else:
        body = ", ".join(f"{abs(d):.0f}" for d in (joined[1:] if joined[0] < 0 else joined))
        path.write_text(body if style == "plain" else f"const unsigned int raw[] = {{{body}}};\n")


def write_changes_csv(path: Path, signed: np.ndarray, unit: str = "us", mark: int = 1) -> None:
    joined = join(list(signed))
    scale = {"s": 1e-6, "ms": 1e-3, "us": 1.0, "ns": 1e3}[unit]
    times = np.concatenate(([0.0], np.cumsum(np.abs(joined)))) * scale
    levels = [mark if d > 0 else 1 - mark for d in joined] + [1 - mark]
    rows = [f"{t:.9g},{level}" for t, level in zip(times, levels, strict=True)]
    path.write_text("\n".join([f"time_{unit},level", *rows]) + "\n")


def write_samples_csv(path: Path, signed: np.ndarray, rate_hz: float, low: float = 0.0, high: float = 1.0) -> None:
    """Samples of an active-low line: low during a mark."""
    times = np.arange(0, np.abs(signed).sum(), 1e6 / rate_hz)
    level = np.where(level_at(signed, times) > 0, low, high)
    rows = [f"{t / 1e6:.8f};{v:g}" for t, v in zip(times, level, strict=True)]
    path.write_text("\n".join(["Time [s];Channel 0", *rows]) + "\n")


def audio_line(
    signed: np.ndarray,
    rate_hz: int,
    rng: np.random.Generator,
    *,
    mark_high: bool = True,
    amplitude: float = 0.5,
    noise: float = 0.003,
    coupling_hz: float = 0.0,
) -> np.ndarray:
    """The line as a sound card hears it: band-limited (each sample the mean over its own time), AC-coupled, noisy."""
    edges = np.concatenate(([0.0], np.cumsum(np.abs(signed))))
    in_marks = np.concatenate(([0.0], np.cumsum(np.maximum(signed, 0.0))))
    times = np.arange(int(edges[-1] * rate_hz / 1e6) + 1) / rate_hz * 1e6
    line = np.diff(np.interp(times, edges, in_marks)) * rate_hz / 1e6
    line = (line if mark_high else 1 - line) * 2 - 1
    if coupling_hz:
        a = np.exp(-2 * np.pi * coupling_hz / rate_hz)
        low = np.empty_like(line)
        state = line[0]
        for i, value in enumerate(line):  # a first-order low-pass, to be taken away
            state = a * state + (1 - a) * value
            low[i] = state
        line = line - low
    return amplitude * line + rng.normal(0, noise, line.size)


def write_audio(path: Path, line: np.ndarray, rate_hz: int, subtype: str = "PCM_16") -> None:
    soundfile.write(path, line, rate_hz, subtype=subtype)
