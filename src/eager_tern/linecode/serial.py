"""Asynchronous serial: a start bit (a mark), data bits with the lowest first, parity, stop bits (a space)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.biphase import UnitGrids, best_grids, grid_expected
from eager_tern.linecode.clock import alternating, expected_durations, fit_clock
from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.clusters import quantile
from eager_tern.linecode.likelihood import any_pulse_score, parameter_cost, probabilities, timing_score
from eager_tern.linecode.values import Bits, Clock, Framing, LineReading, Parity
from eager_tern.signal.assumed import EDGE_JITTER_US, SPEED_SIGMA
from eager_tern.signal.values import Floats

FEWEST_PULSES = 7
SPEEDS = np.array([75.0, 100, 110, 150, 200, 300, 600, 1200, 2400, 4800])  # baud, of hobby gadgets and their receivers
UNUSUAL_SPEED = 0.003  # how often it is another one
FEWEST_CHARACTERS = 2
UNITS_US = (190.0, 11_000.0)  # 5000 to 100 baud, and a little
EXCESSES = np.linspace(-0.44, 0.44, 9)  # of the unit
FACTORS = np.linspace(0.82, 1.4, 30)
SHORT_PART = 0.12  # of the marks and of the spaces: these have one bit
LONGEST_RUN = 9.5  # bits within a character
LONGEST_MARK = 12.5  # all bits of the longest character but its stop bit, on a clock that is off by an eighth
CLOCKS_TRIED = 8
CLOCKS_IN_A_ROW = 48
FIRST_PULSES = 40  # of a row, of which a clock is found that is fine enough for twice as many
CLOSER = np.linspace(-2.0, 2.0, 9)  # units by which the last edge may then be off
PARTS = (1.0, 1.5, 2.0, 2.5, 3.0)  # what the shortest mark and the shortest space may be, in bits, on the average
COARSEST = 0.3  # of a unit: durations err more than the edges' places do
LN2 = float(np.log(2.0))
PARITIES: tuple[tuple[Parity, float], ...] = (("none", 1.0), ("even", 0.06), ("odd", 0.03))
# How usual a framing is.
USUAL: dict[Framing, float] = {
    (data, parity, stop): float(np.log(of_data * of_parity * of_stop))
    for data, of_data in ((8, 0.85), (7, 0.1), (6, 0.02), (5, 0.03))
    for parity, of_parity in PARITIES
    for stop, of_stop in ((1, 1.0), (2, 0.1))
}


@dataclass(frozen=True)
class CharacterGrid:
    """Pulses as characters of ``levels.shape[1]`` bits: ``levels`` are True in a mark, ``starts_us`` the start bits.

    ``expected_us`` is NaN for the silence between characters.
    """

    clock: Clock
    levels: NDArray[np.bool_]
    starts_us: Floats
    expected_us: Floats


@dataclass(frozen=True)
class Characters:
    """Data bits in the order sent, and where each stands."""

    bits: Bits
    bit_spans_us: Floats


def on_serial_grid(
    durations_us: Floats, clocks: Sequence[tuple[float, float]], lengths: Iterable[int]
) -> dict[int, CharacterGrid]:
    """The pulses as characters of each of some lengths that they can be.

    Each by the best of several clocks (unit and excess, µs; the likeliest first).
    """
    units, excesses = np.array(clocks).T
    on_grid = _one_grid(durations_us[None], units[None], excesses[None])
    best = {length: _best_grid(durations_us, on_grid, 0, clocks, length) for length in lengths}
    return {length: placed for length, placed in best.items() if placed is not None}


def _best_grid(
    durations_us: Floats, on_grid: UnitGrids, at: int, clocks: Sequence[tuple[float, float]], length: int
) -> CharacterGrid | None:
    """Characters of a length by the way that fits best; one grid for the whole row, the ``at``-th of several, first."""
    row = _in_a_row(durations_us, on_grid, at, length)
    if row is not None and row.clock.rms_us < min(CLEAN * row.clock.unit_us, EDGE_JITTER_US):
        return row  # of a slow one, a rest of half a bit would pass for whole ones if its unit were all that counts
    tried = row, _one_by_one(durations_us, clocks[:CLOCKS_TRIED], length)
    return min((each for each in tried if each is not None), key=lambda each: _rms(each.clock), default=None)


def _in_a_row(durations_us: Floats, on_grid: UnitGrids, at: int, length: int) -> CharacterGrid | None:
    """Characters that follow each other without a rest, or with one of whole bits: on one grid for all, which bears
    twice the jitter that a grid does that begins anew with each start bit. None where no such characters stand.
    """
    if not on_grid.fits[at]:
        return None
    places = on_grid.places[at]
    lengths = np.diff(places)
    if (lengths[::2] >= 2 * length).any():  # a whole character of it is mark, its stop bit too
        return None
    levels = np.repeat(np.arange(lengths.size) % 2 == 0, lengths)
    marks = np.flatnonzero(levels)
    begins = [0]
    while begins[-1] + length <= marks[-1]:
        begins.append(int(marks[np.searchsorted(marks, begins[-1] + length)]))
    starts = np.array(begins)
    rows = np.concatenate((levels, np.zeros(length, np.bool_)))[starts[:, None] + np.arange(length)]
    if rows[:, -1].any():
        return None
    clock = Clock(float(on_grid.units_us[at]), float(on_grid.excesses_us[at]), float(on_grid.rms_us[at]))
    expected = grid_expected(clock, places)
    offset = float(np.mean(np.cumsum(np.append(0.0, durations_us - expected))))
    after_rest = starts[1:][np.diff(starts) > length]
    expected[np.searchsorted(places, after_rest) - 1] = np.nan
    return CharacterGrid(clock, rows, offset + clock.unit_us * starts, expected)


def _one_grid(durations_us: Floats, units_us: Floats, excesses_us: Floats) -> UnitGrids:
    """All edges on the best of several grids, for each of several frames (shapes as in ``best_grids``): the longer the
    row, the finer its clock has to be known, so that it is found from the beginning on.
    """
    size = FIRST_PULSES
    while True:
        on_grid = best_grids(durations_us[:, :size], units_us, excesses_us)
        if size >= durations_us.shape[1] or not on_grid.fits.any():
            return on_grid
        size *= 2
        finer = 1 + CLOSER / on_grid.places[:, -1:]
        units_us = np.where(on_grid.fits, on_grid.units_us, np.nan)[:, None] * finer
        excesses_us = np.repeat(on_grid.excesses_us[:, None], CLOSER.size, axis=1)


def _one_by_one(durations_us: Floats, clocks: Iterable[tuple[float, float]], length: int) -> CharacterGrid | None:
    """Characters with any rest between them: on a grid that begins anew with each start bit."""
    best: CharacterGrid | None = None
    tried: set[bytes] = set()
    for unit, excess in clocks:
        first = _placed(durations_us, unit, excess, length)
        if first is None or first[0].tobytes() in tried:  # then it comes to the same as another clock
            continue
        tried.add(first[0].tobytes())
        clock = fit_clock(durations_us, first[0])
        placed = _placed(durations_us, clock.unit_us, clock.excess_us, length) if clock.unit_us > 0 else None
        if placed is None:
            continue
        units, levels, starts = placed
        clock = fit_clock(durations_us, units)
        if clock.unit_us > 0 and (best is None or _rms(clock) < _rms(best.clock)):
            edges = np.concatenate(([0.0], np.cumsum(durations_us)))
            best = CharacterGrid(clock, levels, edges[starts], expected_durations(clock, units))
    return best


def _rms(clock: Clock) -> float:
    return clock.rms_us / clock.unit_us


def clocks_about(durations_us: Floats, unit_us: float) -> list[tuple[float, float]]:
    """The clocks about a unit on which the pulses no longer than a character lie best, unit and excess each."""
    inside = durations_us < LONGEST_RUN * unit_us
    signs = alternating(durations_us.size)[inside]
    units, excesses = (a.ravel() for a in np.meshgrid(unit_us * FACTORS, EXCESSES))
    exact = durations_us[inside] / units[:, None] - excesses[:, None] * signs
    misfit = ((exact - np.maximum(np.rint(exact), 1.0)) ** 2).sum(axis=1)
    longest = durations_us[0::2].max() / units - excesses
    best = [i for i in np.argsort(misfit)[:CLOCKS_IN_A_ROW] if longest[i] < LONGEST_MARK]
    return [(float(units[i]), float(excesses[i] * units[i])) for i in best]


def characters(placed: CharacterGrid, data_bits: int, parity: str, stop_bits: int) -> Characters | None:
    """The data bits, if start, parity and stop bits are what they should be in every character."""
    levels = placed.levels
    data = ~levels[:, 1 : 1 + data_bits]
    if levels[:, levels.shape[1] - stop_bits :].any() or not levels[:, 0].all():
        return None
    if parity != "none":
        odd = data.sum(axis=1) % 2 == 1
        sent = ~levels[:, 1 + data_bits]
        if not (sent == (odd if parity == "even" else ~odd)).all():
            return None
    bounds = 1 + np.arange(data_bits)[:, None] + np.array([0, 1])
    spans = placed.starts_us[:, None, None] + bounds * placed.clock.unit_us
    return Characters(data.astype(np.uint8).ravel(), spans.reshape(-1, 2))


def async_serial(durations_us: Floats, unit_us: float | None = None) -> LineReading | None:
    """The likeliest speed and framing of the pulses, None where they are no characters.

    ``unit_us`` is about how long a bit is, where somebody knows.
    """
    return max(serial_readings(durations_us, unit_us).values(), key=lambda r: r.score, default=None)


def serial_readings(durations_us: Floats, unit_us: float | None = None) -> Mapping[Framing, LineReading]:
    """The likeliest reading in each framing in which the pulses are characters."""
    return _serial_readings(durations_us.tobytes(), unit_us)


@lru_cache(maxsize=1024)  # a frame by itself, among others of its line code, and among those of its framing
def _serial_readings(durations: bytes, unit_us: float | None) -> Mapping[Framing, LineReading]:
    durations_us = np.frombuffer(durations)
    best: dict[Framing, LineReading] = {}
    if durations_us.size < FEWEST_PULSES:
        return best
    shortest = float(_shortest(durations_us))
    for part in PARTS if unit_us is None else (shortest / unit_us,):
        unit = shortest / part
        if not UNITS_US[0] * 0.8 < unit < UNITS_US[1] * 1.2:
            continue
        if not (clocks := clocks_about(durations_us, unit)):
            continue
        for length, placed in on_serial_grid(durations_us, clocks, range(7, 13)).items():
            if _rms(placed.clock) > COARSEST:
                continue
            for framing in USUAL:
                if _length(framing) != length:
                    continue
                if (line := _as_line(durations_us, placed, framing)) is None:
                    continue
                score = line.score - part * LN2
                if framing not in best or score > best[framing].score:
                    best[framing] = replace(line, score=score)
        if any(_rms(reading.clock) < CLEAN for reading in best.values()):
            break  # a finer grid would fit whatever it is
    return best


def read_at(durations_us: Floats, clock: Clock, framing: Framing) -> list[LineReading | None]:
    """Each of several frames, shape (frames, pulses), as characters of a framing whose clock is about known; None for
    those that are none.
    """
    read: list[LineReading | None] = [None] * len(durations_us)
    if durations_us.shape[1] < FEWEST_PULSES:
        return read
    in_bits = _shortest(durations_us) / clock.unit_us
    rows = np.flatnonzero((in_bits > PARTS[0] / FACTORS[-1]) & (in_bits < PARTS[-1] / FACTORS[0]))
    if rows.size == 0:
        return read
    known, length, some = (clock.unit_us, clock.excess_us), _length(framing), durations_us[rows]
    on_grid = _one_grid(some, *(np.full((rows.size, 1), each) for each in known))
    for at, row in enumerate(rows.tolist()):
        placed = _best_grid(some[at], on_grid, at, [known], length)
        read[row] = _as_line(some[at], placed, framing) if placed is not None else None
    return read


def _shortest(durations_us: Floats) -> Floats:
    """What the short marks and spaces last on the average, shape (..., n) to (...): a bit, or a few."""
    marks, spaces = (quantile(durations_us[..., of::2], SHORT_PART) for of in (0, 1))
    shortest: Floats = (marks + spaces) / 2
    return shortest


def _as_line(durations_us: Floats, placed: CharacterGrid, framing: Framing) -> LineReading | None:
    """Characters that stand on a grid as a reading of the pulses; None where they are not framed so."""
    read = characters(placed, *framing)
    if read is None or read.bits.size < FEWEST_CHARACTERS * framing[0]:
        return None
    idle = np.isnan(placed.expected_us)
    score = float(timing_score(durations_us - placed.expected_us) + any_pulse_score(durations_us[idle]))
    score += USUAL[framing] + _usual_speed(placed.clock.unit_us)
    score -= read.bits.size * LN2 + parameter_cost(3, durations_us.size)
    return LineReading(
        "async-serial", placed.clock, read.bits, read.bit_spans_us, placed.expected_us, 0, score,
        symbol_bits=framing[0], framing=framing,
    )  # fmt: skip


def _length(framing: Framing) -> int:
    """Of a character, in bits."""
    data, parity, stop = framing
    return 1 + data + (parity != "none") + stop


def _usual_speed(unit_us: float) -> float:
    """Nats for a bit of that length: senders keep to the usual speeds, within what their clocks and receivers err."""
    off = float(np.min(np.abs(np.log(1e6 / unit_us / SPEEDS)))) / SPEED_SIGMA
    return max(-0.5 * off * off, float(np.log(UNUSUAL_SPEED)))


def framing_of_all(frames: Sequence[Mapping[Framing, LineReading]]) -> tuple[Framing, float] | None:
    """The likeliest framing of frames that share one, and how probable it is that their bytes are those that it gives;
    None where none fits them all.

    How usual it is counts once, not with every frame, and so does a character that stands in the same place in many.
    """
    common = sorted(set(USUAL).intersection(*frames))
    if not common:
        return None
    scores, said = [], []
    for framing in common:
        lines = [each[framing] for each in frames]
        size = framing[0]
        told = {(at, line.bits[at : at + size].tobytes()) for line in lines for at in range(0, line.bits.size, size)}
        again = sum(line.bits.size for line in lines) - size * len(told)
        scores.append(sum(line.score for line in lines) + LN2 * again - (len(lines) - 1) * USUAL[framing])
        said.append((size, [line.bits.tobytes() for line in lines]))
    chances, best = probabilities(scores), int(np.argmax(scores))
    return common[best], sum(chance for chance, bits in zip(chances, said, strict=True) if bits == said[best])


def _placed(
    d: Floats, unit: float, excess: float, length: int
) -> tuple[Floats, NDArray[np.bool_], NDArray[np.intp]] | None:
    """Lengths of the pulses in bits (NaN: silence between characters), the characters' levels, and where they begin.

    None where no characters stand, or only silence is between marks.
    """
    exact = np.maximum((d - excess * alternating(d.size)) / unit, 0.0)
    units = np.empty(d.size)
    rows: list[list[bool]] = []
    starts: list[int] = []
    row: list[bool] = []
    at = 0.0  # where the character stands, not rounded, so that errors do not add up
    for i, length_here in enumerate(exact.tolist()):
        mark = i % 2 == 0
        if not row:
            if not mark:
                return None
            starts.append(i)
            at = 0.0
        end = round(at + length_here)
        count = max(end - len(row), 1)
        if mark:
            if len(row) + count > length - 1:  # the stop bit is a space
                return None
            row += [True] * count
            units[i] = count
        elif len(row) + count >= length:
            over = len(row) + count > length
            units[i] = np.nan if over else count
            rows.append(row + [False] * (length - len(row)))
            row = []
            continue
        else:
            row += [False] * count
            units[i] = count
        at += length_here
    if row:
        rows.append(row + [False] * (length - len(row)))
    if np.isnan(units).all():
        return None
    return units, np.array(rows, dtype=np.bool_), np.array(starts, dtype=np.intp)
