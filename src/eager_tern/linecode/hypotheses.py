"""The line codes a frame can be tried on for, each with what it would mean and how well it fits."""

from __future__ import annotations

from functools import cache
from itertools import product

import numpy as np

from eager_tern.linecode.biphase import edges_on_grid, grid_expected, guess_unit
from eager_tern.linecode.clock import alternating, expected_durations, fit_clock
from eager_tern.linecode.clusters import SAME_RATIO, split_in_two
from eager_tern.linecode.likelihood import any_pulse_score, gaussian_score, parameter_cost, timing_score
from eager_tern.linecode.values import Bits, Code, LineReading
from eager_tern.signal.values import Floats

FEWEST_BITS = 4
GROUP = 4  # bits
FEWEST_OF_EACH = 2  # a single odd one among equals is damage rather than a bit
LN2 = float(np.log(2.0))
LONGEST_SYMBOL = 8  # units
LENGTH_ERROR, LENGTH_COST = 0.06, 1.2  # of a centre, of the unit; of each unit in a symbol: short ones are usual
EXCESS_SIGMA, EXCESS_SIGMA_US = 0.12, 80.0  # of the unit; at least
FEWEST_SYMBOLS = 6  # of two bits
ROUNDS = 3
COARSEST_STEP = 0.25  # rms of the lengths about the four, of the step between them
SELDOM = float(np.log(0.05))  # that a code has symbols of two bits


def pulse_distance(durations_us: Floats, leader: int) -> LineReading | None:
    """Marks of one length; the space after each tells the bit, a long one is 1. The last mark ends the last space."""
    marks, spaces = durations_us[leader::2], durations_us[leader + 1 :: 2]
    return _two_lengths("pulse-distance", durations_us, leader, marks, spaces, spaces)


def pulse_width(durations_us: Floats, leader: int) -> LineReading | None:
    """Marks of two lengths, a long one is 1; spaces of one length or filling up a fixed period."""
    marks, spaces = durations_us[leader::2], durations_us[leader + 1 :: 2]
    return _two_lengths("pulse-width", durations_us, leader, marks, spaces, marks)


def _two_lengths(
    code: Code, durations: Floats, leader: int, marks: Floats, spaces: Floats, carrying: Floats
) -> LineReading | None:
    if carrying.size < FEWEST_BITS or spaces.size < 1:
        return None
    bound = split_in_two(carrying)
    long = carrying > bound
    if np.isnan(bound) or not FEWEST_OF_EACH <= long.sum() <= long.size - FEWEST_OF_EACH:
        return None
    if carrying[long].mean() < SAME_RATIO * carrying[~long].mean():
        return None
    n = spaces.size
    mark_centres, mark_rest = _centres(marks, long[: marks.size] if code == "pulse-width" else None)
    # In a duty code the space makes up for the mark: its length depends on the bit as well.
    depends = code == "pulse-distance" or _makes_up(spaces, long[:n])
    space_centres, space_rest = _centres(spaces, long[:n] if depends else None)
    mark_units, space_units = _small_units(mark_centres, space_centres)
    pulse_units = np.full(durations.size, np.nan)
    pulse_units[leader::2] = np.where(long, mark_units[1], mark_units[0]) if code == "pulse-width" else mark_units[0]
    pulse_units[leader + 1 :: 2] = np.where(long[:n], space_units[1], space_units[0])
    clock = fit_clock(durations[leader:], pulse_units[leader:])
    centres = 2 + int(depends) + int(code == "pulse-width") + 1
    expected = expected_durations(clock, pulse_units)
    # On the ruler the places of the edges tell; lengths that are no whole units are judged by their own centres.
    on_ruler = float(timing_score((durations - expected)[leader:]))
    on_centres = float(gaussian_score(np.concatenate((mark_rest, space_rest))))
    score = max(on_ruler, on_centres) - carrying.size * LN2
    score += float(any_pulse_score(durations[:leader])) - parameter_cost(centres, durations.size)
    edges = np.concatenate(([0.0], np.cumsum(durations)))
    # A short mark that is left over behind whole groups of a fixed period's bits is the sync before the long pause.
    sync = code == "pulse-width" and depends and carrying.size % GROUP == 1 and not long[-1]
    bits: Bits = long[: carrying.size - int(sync)].astype(np.uint8)
    starts = edges[leader::2][: bits.size]
    ends = np.minimum(np.arange(leader, leader + 2 * bits.size, 2) + 2, durations.size)
    spans = np.column_stack((starts, edges[ends]))
    return LineReading(code, clock, bits, spans, expected, leader, score)


def _centres(values: Floats, long: np.ndarray | None) -> tuple[tuple[float, float], Floats]:
    """Centres of the short and the long ones (equal where they are not told apart) and what remains."""
    if long is None or not 0 < long.sum() < long.size:
        centre = float(values.mean())
        return (centre, centre), values - centre
    short_centre, long_centre = float(values[~long].mean()), float(values[long].mean())
    return (short_centre, long_centre), values - np.where(long, long_centre, short_centre)


def _makes_up(values: Floats, long: np.ndarray) -> bool:
    """Whether the spaces are the shorter, the longer the mark, so that telling them apart halves their spread."""
    if not 1 < long.sum() < long.size - 1:
        return False
    (of_zero, of_one), rest = _centres(values, long)
    return of_one < of_zero and float(np.std(rest)) < 0.5 * float(np.std(values))


def two_bits_in_spaces(durations_us: Floats, leader: int) -> LineReading | None:
    """Marks of one length; the space after each is one of four, evenly apart, for two bits; the shortest is 00."""
    return _four_lengths("pulse-distance", durations_us, leader, 1)


def two_bits_in_marks(durations_us: Floats, leader: int) -> LineReading | None:
    """Spaces of one length; the mark before each is one of four, evenly apart, and stands for two bits."""
    return _four_lengths("pulse-width", durations_us, leader, 0)


def _four_lengths(code: Code, durations: Floats, leader: int, at: int) -> LineReading | None:
    """``at``: whether the marks (0) or the spaces (1) carry the bits. All four lengths have to be there."""
    carrying, others = durations[leader + at :: 2], durations[leader + 1 - at :: 2]
    if carrying.size < FEWEST_SYMBOLS:
        return None
    base, step = float(carrying.min()), float(np.ptp(carrying)) / 3
    for _ in range(ROUNDS):
        if step <= 0:
            return None
        level = np.clip(np.rint((carrying - base) / step), 0, 3)
        if not all(np.count_nonzero(level == each) for each in range(4)):
            return None
        above = level - level.mean()
        step = float(above @ carrying / (above @ above))
        base = float(carrying.mean() - step * level.mean())
    rest = carrying - base - step * level
    if float(np.sqrt(np.mean(rest**2))) > COARSEST_STEP * step or base <= 0:
        return None
    lengths = _small_four(float(others.mean()), base, step, at)
    units = np.full(durations.size, np.nan)
    units[leader + at :: 2] = lengths[1] + lengths[2] * level
    units[leader + 1 - at :: 2] = lengths[0]
    clock = fit_clock(durations[leader:], units[leader:])
    expected = expected_durations(clock, units)
    on_ruler = float(timing_score((durations - expected)[leader:]))
    on_centres = float(gaussian_score(np.concatenate((others - others.mean(), rest))))
    score = max(on_ruler, on_centres) - 2 * carrying.size * LN2 + SELDOM
    score += float(any_pulse_score(durations[:leader])) - parameter_cost(4, durations.size)
    bits: Bits = (level.astype(np.uint8)[:, None] >> np.array([1, 0]) & 1).astype(np.uint8).ravel()
    edges = np.concatenate(([0.0], np.cumsum(durations)))
    first = np.arange(leader, leader + 2 * carrying.size, 2)
    bounds = np.linspace(edges[first], edges[np.minimum(first + 2, durations.size)], 3)
    spans = np.stack((bounds[:-1].T, bounds[1:].T), axis=2).reshape(-1, 2)
    return LineReading(code, clock, bits, spans, expected, leader, score, symbol_bits=2)


@cache
def _four_choices() -> Floats:
    """Small whole lengths of the equal pulses, of the shortest of the four and of the step between, shape (n, 3)."""
    lengths = range(1, LONGEST_SYMBOL + 1)
    return np.array([c for c in product(lengths, repeat=3) if min(c) <= 2], dtype=np.float64)


def _small_four(equal: float, base: float, step: float, at: int) -> Floats:
    """The smallest whole lengths (equal ones, shortest of four, step) that the centres can stand in."""
    choices = _four_choices()
    sign = 1.0 if at else -1.0  # of the equal ones' excess
    # Two equations tell unit and excess from the sum of both, which holds no excess, and the step.
    whole = choices[:, 0] + choices[:, 1]
    unit = (whole * (equal + base) + choices[:, 2] * step) / (whole**2 + choices[:, 2] ** 2)
    excess = sign * (equal - base - unit * (choices[:, 0] - choices[:, 1])) / 2
    rest = np.hypot(equal + base - unit * whole, step - unit * choices[:, 2])
    cost = (rest / (LENGTH_ERROR * unit)) ** 2 + _implausible(excess, unit) + LENGTH_COST * choices.sum(axis=1)
    best: Floats = choices[int(np.argmin(cost))]
    return best


def _implausible(excess_us: Floats, unit_us: Floats) -> Floats:
    """What an excess speaks against the lengths that it goes with: receivers add up to 150 µs, whatever the unit."""
    return (excess_us / np.maximum(EXCESS_SIGMA * unit_us, EXCESS_SIGMA_US)) ** 2


@cache
def _unit_choices(marks_grow: int, spaces_grow: int) -> Floats:
    """Every assignment of small whole lengths to the mark and space of a 0 and those of a 1, shape (n, 4).

    The signs say whether a 1 has the longer one (1), the shorter one (−1) or the same (0).
    """

    def pairs(grow: int) -> list[tuple[int, int]]:
        lengths = range(1, LONGEST_SYMBOL + 1)
        return [(a, b) for a in lengths for b in lengths if np.sign(b - a) == grow]

    choices = [(m[0], s[0], m[1], s[1]) for m, s in product(pairs(marks_grow), pairs(spaces_grow)) if min(*m, *s) <= 2]
    return np.array(choices, dtype=np.float64)


def _small_units(
    marks: tuple[float, float], spaces: tuple[float, float]
) -> tuple[tuple[float, float], tuple[float, float]]:
    """The smallest whole lengths in units that the centres can stand in, with the least mark excess."""
    choices = _unit_choices(int(np.sign(marks[1] - marks[0])), int(np.sign(spaces[1] - spaces[0])))
    signs = alternating(4)
    observed = np.array([marks[0], spaces[0], marks[1], spaces[1]])
    # Least squares of observed = unit·k ± excess, for every choice at once.
    kk, ks = np.einsum("ij,ij->i", choices, choices), choices @ signs
    dk, ds = choices @ observed, observed @ signs
    determinant = kk * 4 - ks * ks
    determinant[determinant == 0] = np.nan
    unit, excess = (dk * 4 - ds * ks) / determinant, (ds * kk - dk * ks) / determinant
    rest = observed - unit[:, None] * choices - excess[:, None] * signs
    with np.errstate(divide="ignore", invalid="ignore"):
        cost = (rest**2).mean(axis=1) / (LENGTH_ERROR * unit) ** 2 + _implausible(excess, unit)
    cost += LENGTH_COST * choices.sum(axis=1)
    cost[~(unit > 0)] = np.inf
    best = choices[int(np.nanargmin(cost))]
    return (float(best[0]), float(best[2])), (float(best[1]), float(best[3]))


def biphase(durations_us: Floats, leader: int, unit_us: float | None = None) -> LineReading | None:
    """Runs of one or two half bits with a change in the middle of each bit; mark then space is 1.

    ``unit_us`` is about how long a half bit is, where somebody knows.
    Which half comes first follows from the code itself: two half bits of one level only stand across two bits.
    """
    data = durations_us[leader:]
    if data.size < FEWEST_BITS:
        return None
    unit, excess = guess_unit(data) if unit_us is None else (unit_us, 0.0)
    if unit <= 0:
        return None
    places, clock = edges_on_grid(data, unit, excess)
    lengths = np.diff(places)
    if lengths.max() > 2 or clock.unit_us <= 0 or not np.any(lengths == 2):
        return None
    best: tuple[int, Bits, int] | None = None
    for shift in (0, 1):  # 1: the first half bit was a space and cannot be seen
        levels = np.repeat(np.arange(data.size) % 2 == 0, lengths)
        halves = np.concatenate((np.zeros(shift, np.bool_), levels))
        if halves.size % 2:
            halves = np.append(halves, False)
        pairs = halves.reshape(-1, 2)
        wrong = int(np.sum(pairs[:, 0] == pairs[:, 1]))
        if best is None or wrong < best[2]:
            best = shift, pairs[:, 0].astype(np.uint8), wrong
    assert best is not None
    shift, bits, wrong = best
    if wrong or bits.size < FEWEST_BITS:
        return None
    expected = np.full(durations_us.size, np.nan)
    expected[leader:] = grid_expected(clock, places)
    score = float(timing_score(data - expected[leader:])) - bits.size * LN2
    score += float(any_pulse_score(durations_us[:leader])) - parameter_cost(3, durations_us.size)
    start = float(durations_us[:leader].sum())
    spans = start + clock.unit_us * (np.arange(bits.size)[:, None] * 2 + np.array([0, 2]) - shift)
    return LineReading("biphase", clock, bits, spans, expected, leader, score)
