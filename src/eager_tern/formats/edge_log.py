"""Logs of practitioners' own sketches: a line an edge with its time and the level behind it, a line a level with how
long it lasted, falling edges alone, or the level at each poll. Boot messages, prompts and counters stand between, and
are passed over.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from itertools import pairwise
from pathlib import Path

import numpy as np
from msgspec import Struct

from eager_tern.errors import InputError
from eager_tern.formats import level_csv, written
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.formats.encoded import decoded, text_of
from eager_tern.formats.numbers import is_number
from eager_tern.formats.plain_words import COMMA_BEFORE_UNIT, with_arrows_named
from eager_tern.formats.plausible import evidence, evidence_of_periods
from eager_tern.formats.rates import clock_named, rate_named, tick_named, unit_named
from eager_tern.formats.rows import LINE, LOOKED_AT, Roles, Rows, bare, numbered_lines, roles_of, rows_of
from eager_tern.signal.assumed import LONGEST_LEADER_MARK_US, SURE_GAP_US
from eager_tern.signal.order import median
from eager_tern.signal.threshold import edges_of_changes
from eager_tern.signal.values import Edges, Floats, Pulses

FEWEST_LINES = 6  # of those in a file's head
FEWEST_POLLS = 64
MOST_NUMBERS = 0.1  # of the lines are numbers and no polls: else 1010 is a sample of some height
SILENCE_US = 100_000.0  # taken for granted behind the last edge
LIKELY_S, LIKELY_MS = 0.05, 50.0  # medians of the intervals below which a clock without a name counts s and ms
LIKELY_NS = 40_000.0  # above which it counts ns: few pulses last so many µs
LIKELY_US = 4000.0  # above which it does not count µs: of a processor's clock that a boot message names, it might
COARSE_US = 250.0  # a clock's step from which on it may be too coarse
ALIKE, AGREE = 0.1, 0.8  # within which two columns say the same of an edge, and of how many edges they do
COARSE = 2.5  # steps in the shortest pulses, of a clock that will do
WRAPS = (1 << 32, 1 << 16)  # counters that begin anew
FULL = 0.9  # of such a counter's range is seen

HALF = "it holds falling edges alone, of which only pulse distance can be read: log the rising ones, too"
FALLING = re.compile(r"\bfall(?:ing|s)?\b|\bperiods?\b", re.IGNORECASE)
LASTING = re.compile(r"(?<![a-z])(?:width|dur|len|long)", re.IGNORECASE)
THOUSANDS = re.compile(r"(?<![\d.,])\d{1,3}(?:,\d{3}){2,3}(?![\d,])")  # one group may be a column, more a list
DECIMAL_COMMA = re.compile(r"(\d),(\d+)([;\t])")
A_ROW = re.compile(r"^[ \t]*\d+(?:\.\d+)?(?:[ \t,;]+\d+(?:\.\d+)?){7,}[ \t,;]*$", re.MULTILINE)  # of one column's
HIGH_LOW = str.maketrans("HLhl", "1010")
PLACE = re.compile(r"^\d+\s*[:|]\s+")  # of a line's first level
POLLS = re.compile(r"[01](?:[\s,;]*[01])*")
IN_BRACKETS = re.compile(r"[\[{(]\s*([01](?:\s*,\s*[01]){7,})\s*(?:[\]})]|,?\s*$)")  # whatever names them
HAS_A_LIST = re.compile(r"(?:\d[\d.]*\s*,\s*){7,}")  # of times, perhaps, beside one of levels
RUN_OF_POLLS = re.compile(r"([01])(?:\s+[xX]\s*|\s*[*×]\s*|(?<=1)[xX]\s*|(?<=0)[xX]\s+)(\d{1,6})")  # 0x10 is a number
RISE_OR_FALL = re.compile(r"\b([RF])(?=[\s:=]*\d)")
HEX_TIME = re.compile(r"^(\s*)(?:0x)?([0-9a-f]{6,8})(?=[\s,;])", re.MULTILINE | re.IGNORECASE)
WITH_LETTERS = 0.5  # of hexadecimal numbers at least: of eight digits, all are decimal in one number of forty


class _Log(Struct, frozen=True):
    """Rows and what their columns are: times of edges, how long levels lasted, or falling edges alone (``times`` or
    intervals, where no level is told).
    """

    rows: Rows
    roles: Roles

    @property
    def of_edges(self) -> bool:
        return bool(self.roles.times and self.roles.level.size and self._times_tell_more)

    @property
    def _times_tell_more(self) -> bool:
        """Whether the times pass as the durations say, where both are told: a logger's own clock is coarser."""
        if len(self.roles.durations) != 1:
            return True
        steps = np.diff(self.rows.table[:, self.finest])
        lengths = np.abs(self.rows.table[:, self.roles.durations[0]])
        # How long it was since the edge before, or until the next one.
        return not self.rows.marks and (_proportional(steps, lengths[1:]) or _proportional(steps, lengths[:-1]))

    @property
    def of_levels(self) -> bool:
        return bool(len(self.roles.durations) == 1 and self.roles.level.size and not self.rows.marks)

    @property
    def of_falling(self) -> bool:
        columns = self.roles.times or self.roles.durations
        return bool(len(columns) == 1 and not self.roles.level.size and FALLING.search(self.rows.words))

    @property
    def of_pulses(self) -> bool:
        """Whether it tells of each pulse when it began, and when it ended or, in so many words, how long it was."""
        if self.roles.level.size or not self.roles.times:
            return False
        return self._pulses_are_apart and bool(len(self.roles.times) == 2 or LASTING.search(self.rows.words))

    @property
    def _pulses_are_apart(self) -> bool:
        begins, ends = self.begins_and_ends()
        return bool(ends.size and np.all(begins < ends) and np.mean(ends[:-1] < begins[1:]) > AGREE)

    def begins_and_ends(self) -> tuple[Floats, Floats]:
        """Of each pulse, in the log's own unit; empty where two columns do not tell both."""
        columns = [*self.roles.times, *self.roles.durations]
        if len(columns) != 2 or np.isnan(self.rows.table[:, columns]).any():
            return np.empty(0), np.empty(0)
        one, other = self.rows.table[:, columns].T
        return one, (other if len(self.roles.times) == 2 else one + other)

    @property
    def evidence(self) -> float:
        """How much speaks for what it tells as pulses; see ``plausible``."""
        if self.of_edges:
            return _evidence_of(self, self.finest, np.diff(self.rows.table[:, self.finest]))
        if self.of_pulses:
            begins, ends = self.begins_and_ends()
            return _evidence_of(self, self.finest, np.diff(np.stack((begins, ends), axis=1).ravel()))
        if not self.roles.durations:
            return 0.0
        if self.of_falling:
            return evidence_of_periods(self.rows.table[:, self.roles.durations[0]])
        bursts = np.split(self.rows.table[:, self.roles.durations[0]], np.flatnonzero(self.rows.begins[1:]) + 1)
        return evidence(bursts)

    @property
    def finest(self) -> int:
        """The column of times whose clock is the finest: a logger's own stands beside it, perhaps."""
        return max(self.roles.times, key=lambda at: np.unique(self.rows.table[:, at]).size)


def _evidence_of(log: _Log, column: int, intervals: Floats) -> float:
    """How much speaks for what lies between the times in a column as pulses, bursts of them between silences."""
    lengths_us = intervals * _scale(log, column, intervals)
    silent = np.flatnonzero(np.abs(lengths_us) >= SURE_GAP_US)
    return evidence([each[int(at > 0) :] for at, each in enumerate(np.split(lengths_us, silent))])


def _proportional(some: Floats, others: Floats) -> bool:
    """Whether most of them say the same, in whatever units."""
    known = (some > 0) & (others > 0)
    ratios = some[known] / others[known]
    return ratios.size > 0 and int(np.sum(np.abs(ratios / median(ratios) - 1) < ALIKE)) > AGREE * some.size


def claims(head: bytes, suffix: str) -> bool:
    """Text in which lines of a time and a level recur, levels one after the other, or falling edges that say so."""
    text = decoded(head)
    if text is None:
        return False
    lines = text.splitlines()
    if _is_polls(text, lines):
        return True
    if DECIMAL_COMMA.search(text) and level_csv.names_time(text):
        return False
    log = _log(text if len(lines) < 2 or len(head) < 4096 else "\n".join(lines[:-1]))
    if log is None or log.rows.lines.size < FEWEST_LINES:
        return False
    told_by_times = log.of_edges and not log.roles.durations
    if not told_by_times and written.holds_likelier(text, log.evidence):
        return False
    return (log.of_edges and not _is_table(log, text)) or log.of_levels or log.of_falling or log.of_pulses


def _is_table(log: _Log, text: str) -> bool:
    """Whether it is a level table rather: a time column with its unit, several levels, or fractions and no words."""
    fractions = bool((log.rows.table[:, log.roles.times[0]] % 1).any())
    return ((fractions and log.rows.plain) or log.roles.levels > 1) and level_csv.names_time(text)


def _log(text: str) -> _Log | None:
    text = with_arrows_named(text)
    if ";" in text or "\t" in text:
        text = COMMA_BEFORE_UNIT.sub(r"\1.\2", DECIMAL_COMMA.sub(r"\1.\2\3", text))
    text = _with_decimal_times(THOUSANDS.sub(lambda found: found[0].replace(",", ""), text))
    if {found[1] for found in RISE_OR_FALL.finditer(text)} == {"R", "F"}:
        text = RISE_OR_FALL.sub(lambda found: {"R": "rising ", "F": "falling "}[found[1]], text)
    said = text.lower()
    if ("fall" in said or "period" in said) and FALLING.search(text):  # the search alone takes its time
        text = A_ROW.sub(lambda found: re.sub(r"[ \t,;]+", "\n", found[0]), text)
    rows = rows_of(numbered_lines(text))
    return _Log(rows, roles_of(rows)) if rows is not None else None


def _with_decimal_times(text: str) -> str:
    """A log whose lines begin with hexadecimal times, with decimal ones."""
    times = [found[2] for found in HEX_TIME.finditer(text)]
    lettered = sum(not time.isdecimal() for time in times)
    if len(set(map(len, times))) != 1 or lettered < max(WITH_LETTERS * len(times), FEWEST_LINES):
        return text
    return HEX_TIME.sub(lambda found: f"{found[1]}{int(found[2], 16)}", text)


def _is_polls(text: str, lines: Sequence[str]) -> bool:
    """Whether levels, one a poll, are all that is logged: no table of times, either."""
    polled = [_polled(line) for line in lines[:LOOKED_AT]]
    others = sum(is_number(line.strip()) for line, levels in zip(lines, polled, strict=False) if not levels)
    if sum(map(len, polled)) < FEWEST_POLLS or others > MOST_NUMBERS * len(polled):
        return False
    return not level_csv.names_time(text) and not _have_times(lines)


def _have_times(lines: Sequence[str]) -> bool:
    """Whether what stands before single levels passes unevenly, as the times of edges do."""
    places = [int(found[0].rstrip(" \t:|")) for line in lines[:LOOKED_AT] if (found := PLACE.match(bare(line)))]
    return len(places) > FEWEST_LINES and len({b - a for a, b in pairwise(places)}) > FEWEST_LINES


def _polled(line: str) -> str:
    """The levels of a line that holds nothing else."""
    said = PLACE.sub("", bare(line)).rstrip(",; ")
    if (listed := IN_BRACKETS.search(said)) is not None and not HAS_A_LIST.search(IN_BRACKETS.sub("", said)):
        said = listed[1]
    if said.lower() in LINE:
        return f"{LINE[said.lower()]:.0f}"
    plain = said.translate(HIGH_LOW)
    if (run := RUN_OF_POLLS.fullmatch(plain)) is not None:
        return run[1] * int(run[2])
    return re.sub(r"[\s,;]", "", plain) if POLLS.fullmatch(plain) else ""


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """The one capture of a log. Raises InputError with the line."""
    text = text_of(path)
    lines = text.splitlines()
    if _is_polls(text, lines):
        return [_polls(path, lines, options)]
    log = _log(text)
    if log is None:
        raise InputError(path, "begins as a log of edges does, and holds hardly any")
    if log.of_edges:
        return [_edge_capture(path, log)]
    if log.of_pulses:
        return [_pulse_capture(path, log)]
    return [_level_capture(path, log) if log.of_levels else _falling_capture(path, log)]


def _polls(path: Path, lines: Sequence[str], options: ReadOptions) -> Capture:
    polled = [_polled(line) for line in lines]
    others = "\n".join(IN_BRACKETS.sub(" ", line) for line in lines if not POLLS.fullmatch(line))
    rate = options.rate_hz or rate_named(others)
    if not rate:
        first = next(number for number, levels in enumerate(polled, 1) if levels)
        raise InputError(path, "holds levels without times; say how many a second with --rate", f"line {first}")
    levels = np.frombuffer("".join(polled).encode(), np.uint8).astype(np.float64) - ord("0")
    us = 1e6 / rate
    edges = edges_of_changes(np.arange(levels.size, dtype=np.float64) * us, levels, 0.0, levels.size * us)
    return Capture(str(path), FORMAT.name, sample_rate_hz=rate, edges=edges)


def _warnings(rows: Rows) -> tuple[str, ...]:
    inside = [number for number in rows.others if rows.lines[0] < number < rows.lines[-1]]
    if not inside:
        return ()
    count = "a line that holds" if len(inside) == 1 else f"{len(inside)} lines that hold"
    return (f"line {inside[0]}: {count} no edge passed over",)


def _unwrapped(path: Path, log: _Log, written: Floats) -> Floats:
    """Times from the first, in the log's own unit; a counter that began anew goes on."""
    steps = np.diff(written)
    for at in np.flatnonzero(steps < 0).tolist():
        size = next((wrap for wrap in WRAPS if -steps[at] > wrap // 2 and written.max() < wrap), None)
        if size is None and FULL * WRAPS[-1] < written.max() < WRAPS[-1]:
            size = WRAPS[-1]  # which begins anew every 65 ms: the step may be small
        if size is None:
            raise InputError(path, "time runs backwards", f"line {log.rows.lines[at + 1]}")
        steps[at] += size
    return np.concatenate(([0.0], np.cumsum(steps)))


def _scale(log: _Log, column: int, intervals: Floats) -> float:
    """What one of a column's numbers is, µs."""
    said = log.rows.words
    if (unit := log.rows.units_us[column] or tick_named(said) or unit_named(said)) is not None:
        return unit
    usual = median(intervals[intervals > 0])
    if usual > LIKELY_US and (tick_us := clock_named(said)) is not None:
        return tick_us
    if usual > LIKELY_NS:
        return 1e-3
    return 1e6 if usual < LIKELY_S else 1e3 if usual < LIKELY_MS else 1.0


def _too_coarse(times_us: Floats, scale_us: float) -> float | None:
    """The clock's step in µs, if nothing can be read with it."""
    written = np.diff(times_us) / scale_us
    if np.any(np.abs(written - np.rint(written)) > 1e-6):
        return None
    steps = np.rint(written).astype(np.int64)
    step_us = float(np.gcd.reduce(steps[steps > 0])) * scale_us if (steps > 0).any() else 0.0
    shortest = float(np.quantile(np.diff(times_us), 0.2))
    return step_us if step_us >= COARSE_US and shortest < COARSE * step_us else None


def _coarse(path: Path, step_us: float, warnings: tuple[str, ...]) -> Capture:
    words = f"its clock counts in steps of {step_us / 1e3:g} ms, too coarse for the pulses: log microseconds"
    return Capture(str(path), FORMAT.name, resolution_us=step_us, warnings=(*warnings, words))


def _edge_capture(path: Path, log: _Log) -> Capture:
    warnings = _warnings(log.rows)
    times, levels = _unwrapped(path, log, log.rows.table[:, log.finest]), log.roles.level
    turns = np.concatenate(([True], np.diff(levels) != 0))  # some log the level just before an edge, too
    turns &= ~np.isnan(levels)  # of a row that was cut short
    times, levels = times[turns], levels[turns]
    scale = _scale(log, log.finest, np.diff(times))
    times = times * scale
    if (step := _too_coarse(times, scale)) is not None:
        return _coarse(path, step, warnings)
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


def _level_capture(path: Path, log: _Log) -> Capture:
    """Levels and how long each lasted; the line rests between the presses, and where a level follows on its like."""
    (column,) = log.roles.durations
    known = ~np.isnan(log.rows.table[:, column]) & ~np.isnan(log.roles.level)
    lengths, levels = np.abs(log.rows.table[known, column]), log.roles.level[known]
    lengths = lengths * _scale(log, column, lengths)
    begins = log.rows.begins[known] | np.concatenate(([True], levels[1:] == levels[:-1]))
    at = np.flatnonzero(begins)
    rests = np.where(lengths[at] > LONGEST_LEADER_MARK_US, levels[at], 1 - levels[at])
    levels = np.append(np.insert(levels, at, rests), rests[0])
    lengths = np.append(np.insert(lengths, at, SILENCE_US), SILENCE_US)
    ends = np.cumsum(lengths)
    edges = edges_of_changes(ends - lengths, levels, 0.0, float(ends[-1]))
    return Capture(str(path), FORMAT.name, edges=edges, warnings=_warnings(log.rows))


def _pulse_capture(path: Path, log: _Log) -> Capture:
    begins, ends = log.begins_and_ends()
    written = np.column_stack((begins, ends)).ravel()
    times = (written - written[0]) * _scale(log, log.finest, np.diff(written))
    rests = np.diff(times)[::2] > LONGEST_LEADER_MARK_US  # then what is told is how long the line rests each time
    beside = 0.0 if rests.any() else SILENCE_US
    edges = Edges(times, False, -beside, float(times[-1]) + beside)
    return Capture(str(path), FORMAT.name, edges=edges, warnings=_warnings(log.rows))


def _falling_capture(path: Path, log: _Log) -> Capture:
    if log.roles.times:
        written = _unwrapped(path, log, log.rows.table[:, log.finest])
        column = log.finest
    else:
        (column,) = log.roles.durations
        written = np.concatenate(([0.0], np.cumsum(log.rows.table[:, column])))
    scale = _scale(log, column, np.diff(written))
    times = written * scale
    if (step := _too_coarse(times, scale)) is not None:
        return _coarse(path, step, _warnings(log.rows))
    return Capture(str(path), FORMAT.name, falling_us=times, warnings=(*_warnings(log.rows), HALF))


def write(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """Nothing is written as a log: other formats say the same better."""
    raise InputError(path, "is not written as a log of edges")


FORMAT = Format("edge-log", (), claims, read, write, obeys=frozenset({"rate_hz"}))
