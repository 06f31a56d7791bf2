"""Logs of practitioners' own sketches: a line an edge with its time and the level behind it, falling edges alone, or
the level at each poll. Boot messages, prompts and counters stand between, and are passed over.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.formats.level_csv import LEVEL_WORDS
from eager_tern.formats.rates import UNITS_US, rate_named
from eager_tern.formats.timing_text import TERMINAL_CODES, TIME_OF_DAY
from eager_tern.signal.assumed import LONGEST_LEADER_MARK_US
from eager_tern.signal.threshold import edges_of_changes
from eager_tern.signal.values import Edges, Floats, Pulses

FEWEST_LINES = 6  # of a log, of those in a file's head
MOST_OTHERS = 2  # other lines with numbers for each line of the log; boot messages are long
TURNS = 0.8  # of the lines name another level than the one before: each is an edge
FEWEST_POLLS = 64
SILENCE_US = 100_000.0  # taken for granted behind the last edge
LIKELY_MS = 50.0  # median of the intervals below which a clock without a name counts milliseconds
COARSE_US = 250.0  # a clock's step from which on it may be too coarse
COARSE = 2.5  # steps in the shortest pulses, of a clock that will do
WRAPS = (1 << 32, 1 << 16)  # counters that begin anew

LEVELS = {
    **LEVEL_WORDS,
    "0": 0.0,
    "1": 1.0,
    "rising": 1.0,
    "rise": 1.0,
    "up": 1.0,
    "falling": 0.0,
    "fall": 0.0,
    "down": 0.0,
}
LEVEL = "|".join(sorted(map(re.escape, LEVELS), key=len, reverse=True))
EDGE = re.compile(
    rf"^[^\d]{{0,24}}?(\d{{1,20}})\s*(us|µs|μs|ms|ns)?\s*[,;:|\t =>-]+\s*(?:[a-z_]+\s*[=:]\s*)?({LEVEL})\s*;?$",
    re.IGNORECASE,
)
TIME_ONLY = re.compile(r"^(?:[a-z_]{1,8}\s*[=:]?\s*)?(\d{1,20})\s*(us|µs|μs|ms|ns)?\s*[,;]?$", re.IGNORECASE)
UNIT_NAMED = re.compile(
    r"(?<![a-z])(micros(?:econds)?|millis(?:econds)?|nanos(?:econds)?|usec|msec|us|µs|μs|ms|ns)(?![a-z])", re.IGNORECASE
)
UNIT_OF_WORD = {"micro": 1.0, "milli": 1e3, "nano": 1e-3}
FALLING = re.compile(r"\bfall(?:ing|s)?\b|\bperiods?\b", re.IGNORECASE)
POLLS = re.compile(r"[01](?:[\s,;]*[01])*")


@dataclass(frozen=True)
class _Log:
    """Times as written, shape (n,), the levels behind them (empty where none are named), and the line of each.

    ``unit_us`` is None where nothing names it; ``others`` are lines passed over, ``words`` what they say.
    """

    times: NDArray[np.int64]
    levels: Floats
    lines: list[int]
    unit_us: float | None
    others: list[int]
    words: str


def claims(head: bytes, suffix: str) -> bool:
    """Text in which lines of a time and a level recur, levels one after the other, or falling edges that say so."""
    if b"\0" in head:
        return False
    text = head.decode("utf-8-sig", "replace")
    lines = text.splitlines()[:-1] if len(head) >= 4096 else text.splitlines()
    return _is_polls(lines) or _is_edges(lines, _edges(lines)) or _is_falling(_times(lines))


def _is_edges(lines: Sequence[str], log: _Log) -> bool:
    numbers = sum(any(c.isdigit() for c in line) for line in lines)
    if log.times.size < FEWEST_LINES or numbers > (1 + MOST_OTHERS) * log.times.size:
        return False
    rises = np.diff(log.times)
    turns = np.diff(log.levels) != 0
    return bool(np.count_nonzero(rises >= 0) >= rises.size - 2 and turns.mean() > TURNS)


def _is_falling(log: _Log) -> bool:
    return bool(log.times.size >= FEWEST_LINES and FALLING.search(log.words) and len(log.others) <= 3 * log.times.size)


def _is_polls(lines: Sequence[str]) -> bool:
    return sum(len(_polled(line)) for line in lines) >= FEWEST_POLLS


def _bare(line: str) -> str:
    return TIME_OF_DAY.sub("", TERMINAL_CODES.sub("", line)).strip()


def _polled(line: str) -> str:
    """The levels of a line that holds nothing else."""
    bare = _bare(line)
    return re.sub(r"[\s,;]", "", bare) if POLLS.fullmatch(bare) else ""


def _edges(lines: Sequence[str]) -> _Log:
    return _log(lines, EDGE, 3)


def _times(lines: Sequence[str]) -> _Log:
    return _log(lines, TIME_ONLY, 0)


def _log(lines: Sequence[str], pattern: re.Pattern[str], level: int) -> _Log:
    times, levels, places, others, words = [], [], [], [], []
    unit: float | None = None
    for number, line in enumerate(lines, 1):
        found = pattern.match(_bare(line))
        if found is None or len(found[1]) > 18:
            others += [number] if line.strip() else []
            words.append(line)
            continue
        times.append(int(found[1]))
        levels += [LEVELS[found[level].lower()]] if level else []
        places.append(number)
        unit = UNITS_US[found[2].lower()] if found[2] else unit
    told = "\n".join(words)
    return _Log(np.array(times, np.int64), np.array(levels), places, unit or _unit_named(told), others, told)


def _unit_named(words: str) -> float | None:
    for line in words.splitlines()[::-1]:  # the header stands next to the log
        if found := UNIT_NAMED.search(line):
            word = found[1].lower()
            return UNITS_US.get(word) or next(us for begin, us in UNIT_OF_WORD.items() if word.startswith(begin))
    return None


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """The one capture of a log. Raises InputError with the line."""
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(path, "is not text", f"byte {error.start}") from None
    lines = text.splitlines()
    if _is_polls(lines):
        return [_polls(path, lines, options)]
    if _is_edges(lines, log := _edges(lines)):
        return [_edge_capture(path, log)]
    return [_falling_capture(path, _times(lines))]


def _polls(path: Path, lines: Sequence[str], options: ReadOptions) -> Capture:
    polled = [_polled(line) for line in lines]
    others = "\n".join(line for line, levels in zip(lines, polled, strict=True) if not levels)
    rate = options.rate_hz or rate_named(others)
    if not rate:
        first = next(number for number, levels in enumerate(polled, 1) if levels)
        raise InputError(path, "holds levels without times; say how many a second with --rate", f"line {first}")
    levels = np.frombuffer("".join(polled).encode(), np.uint8).astype(np.float64) - ord("0")
    us = 1e6 / rate
    edges = edges_of_changes(np.arange(levels.size, dtype=np.float64) * us, levels, 0.0, levels.size * us)
    return Capture(str(path), FORMAT.name, sample_rate_hz=rate, edges=edges)


def _warnings(log: _Log) -> tuple[str, ...]:
    inside = [number for number in log.others if log.lines[0] < number < log.lines[-1]]
    if not inside:
        return ()
    count = "a line that holds" if len(inside) == 1 else f"{len(inside)} lines that hold"
    return (f"line {inside[0]}: {count} no edge passed over",)


def _unwrapped(path: Path, log: _Log) -> Floats:
    """Times from the first, in the log's own unit; a counter that began anew goes on."""
    steps = np.diff(log.times)
    for at in np.flatnonzero(steps < 0).tolist():
        size = next((wrap for wrap in WRAPS if -steps[at] > wrap // 2 and log.times.max() < wrap), None)
        if size is None:
            raise InputError(path, "time runs backwards", f"line {log.lines[at + 1]}")
        steps[at] += size
    return np.concatenate(([0.0], np.cumsum(steps, dtype=np.float64)))


def _scale(log: _Log, times: Floats) -> float:
    if log.unit_us is not None:
        return log.unit_us
    return 1e3 if float(np.median(np.diff(times))) < LIKELY_MS else 1.0


def _too_coarse(times_us: Floats, scale_us: float) -> float | None:
    """The clock's step in µs, if nothing can be read with it."""
    steps = np.rint(np.diff(times_us) / scale_us).astype(np.int64)
    step_us = float(np.gcd.reduce(steps[steps > 0])) * scale_us if (steps > 0).any() else 0.0
    shortest = float(np.quantile(np.diff(times_us), 0.2))
    return step_us if step_us >= COARSE_US and shortest < COARSE * step_us else None


def _coarse(path: Path, step_us: float, warnings: tuple[str, ...]) -> Capture:
    words = f"its clock counts in steps of {step_us / 1e3:g} ms, too coarse for the pulses: log microseconds"
    return Capture(str(path), FORMAT.name, resolution_us=step_us, warnings=(*warnings, words))


def _edge_capture(path: Path, log: _Log) -> Capture:
    warnings = _warnings(log)
    times = _unwrapped(path, log)
    scale = _scale(log, times)
    times = times * scale
    if (step := _too_coarse(times, scale)) is not None:
        return _coarse(path, step, warnings)
    turns = np.concatenate(([True], np.diff(log.levels) != 0))
    times, levels = times[turns], log.levels[turns]
    rests = np.diff(times) > LONGEST_LEADER_MARK_US
    high = levels[:-1] > 0
    resting = np.count_nonzero(rests & high) - np.count_nonzero(rests & ~high)
    rests_high = bool(resting > 0) if resting else bool(levels[-1] > 0)
    end = float(times[-1]) + SILENCE_US
    if bool(levels[0] > 0) == rests_high:  # the first line tells how the line stood before
        edges = Edges(times[1:], rests_high, 0.0, end)
    else:
        edges = Edges(times, rests_high, 0.0, end)
    return Capture(str(path), FORMAT.name, edges=edges, warnings=warnings)


def _falling_capture(path: Path, log: _Log) -> Capture:
    rising = np.diff(log.times) >= 0
    times = _unwrapped(path, log) if rising.mean() > TURNS else np.concatenate(([0.0], np.cumsum(log.times)))
    scale = _scale(log, times.astype(np.float64))
    times = times.astype(np.float64) * scale
    if (step := _too_coarse(times, scale)) is not None:
        return _coarse(path, step, _warnings(log))
    return Capture(str(path), FORMAT.name, falling_us=times, warnings=_warnings(log))


def write(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """Nothing is written as a log: other formats say the same better."""
    raise InputError(path, "is not written as a log of edges")


FORMAT = Format("edge-log", (), claims, read, write, obeys=frozenset({"rate_hz"}))
