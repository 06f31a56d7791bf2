"""Rows of symbols among a burst's pulses; everything before, between and behind them is no data.

A code's few lengths recur with every bit, a leader's once a section. So the lengths that recur are found first, then
the pulses that are made of them; leaders of any shape, run-ins, syncs and gaps are what is left. Which code it is, the
likelihood of all pulses decides: those in symbols by how close they lie, the others as pulses that could be anything.
"""

from __future__ import annotations

import math
from collections.abc import Iterator
from functools import lru_cache

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.linecode import prices
from eager_tern.linecode.biphase import edges_on_grid, grid_expected, guess_unit
from eager_tern.linecode.clock import alternating, expected_durations, fit_clock
from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.clusters import SAME_RATIO, are_even, split_in_two
from eager_tern.linecode.levels import FEWEST_OF_EACH, centres_of, levels_of
from eager_tern.linecode.likelihood import LN2, any_pulse_score, parameter_cost, timing_score
from eager_tern.linecode.units import small_units
from eager_tern.linecode.values import Bits, Clock, Code, LineReading
from eager_tern.signal.assumed import CLOCK_WANDERS, LONGEST_IN_DATA_US, USUAL_JITTER_US
from eager_tern.signal.order import quantile
from eager_tern.signal.stretches import stretches
from eager_tern.signal.values import Floats

FEWEST_SYMBOLS = 4  # of a row: fewer are a leader's pulses that happen to be as long
FEWEST_PAIRS = 6  # of all rows together, of which lengths can be learned
RECURRING = 0.4  # of the pulses at the least are data; leaders and gaps are few
MOST_BOUNDS = 4  # kinds of length beyond which no more is tried as the longest of the data
ROUNDS = 3  # in which lengths and rows settle
SPREAD_WEIGHT = 6.0  # durations that what is usually so is worth
FARTHEST = 4.0  # spreads from its centre a duration still belongs to it
OTHER_SIDE = 0.75  # of the way to the other symbol, from where a duration is no more this one's
FARTHEST_INSIDE = 6.5  # between two that fit: one duration in some thousands is off by four
COARSEST_APART = 0.3  # spread of what tells two symbols apart: 60 µs of jitter at a unit of 300
LEAST_APART = 0.3  # of what lies between two symbols on the average: 1, 2, 4 and 8 have 0.43 between the first two
COARSEST_SPREAD = 0.4  # of the shortest length, which a receiver may have shortened
GROUP, BYTE = 4, 8  # bits
ALIKE, ALIKE_US = 0.4, 4 * math.sqrt(2.0) * 40  # by how much equal pulses differ: four times what 40 µs make of two
FEWEST_RUN_IN = 6  # equal pulses in a row that are no accident
LEVELS = (3, 4, 5)
FEWEST_OF_MANY = 12  # symbols in which each of three or more is expected
NEARLY_ALL = 0.9  # of the pulses, on one clean ruler: then no other code could explain them better
MOSTLY = 0.75  # of the pulses: what explains as many needs no code of more symbols beside it
UNALIKE = 0.35  # standard deviation of equal lengths, of their mean: two lengths, 1 and 2, have a third of it


class Row(Struct, frozen=True):
    """Symbols in a row: pulses ``first`` to ``last`` (both included) with a reading of them, ``first`` at 0.

    ``bare`` tells that all its symbols are alike, but for a last mark that may be a sync's.
    """

    first: int
    last: int
    line: LineReading
    bare: bool


class Parsed(Struct, frozen=True):
    """A burst as rows of symbols of one code. ``score`` is the log likelihood of all its pulses, less what it cost."""

    code: Code
    symbol_bits: int
    rows: tuple[Row, ...]
    score: float


class _Alphabet(Struct, frozen=True):
    """Symbols of a mark and the space behind it: centres in µs, shape (symbols,), and the durations' spread.

    ``bits`` is how many a symbol stands for, ``numbers`` how many numbers were fitted.
    """

    code: Code
    marks: Floats
    spaces: Floats
    spread_us: float
    bits: int
    numbers: int


def parsed(durations_us: Floats) -> tuple[Parsed, ...]:
    """The codes that the burst's pulses could be in, likeliest first. ``durations_us``: shape (n,), a mark first.

    Bi-phase, and more than two symbols, are tried only where something simpler leaves much unexplained.
    """
    return _parsed(durations_us.tobytes())


@lru_cache(maxsize=1024)  # a burst is read by itself, and with those beside it
def _parsed(durations: bytes) -> tuple[Parsed, ...]:
    durations_us = np.frombuffer(durations)
    nearly_all = NEARLY_ALL * durations_us.size
    halves = _in_halves(durations_us)
    joined = list(_joined(durations_us, halves)) if _most_joined(halves) >= nearly_all else None
    if joined and any(_covered(each) >= nearly_all and _is_surely_joined(each) for each in joined):
        return _best_of_each(joined)
    if are_even(durations_us):  # symbols of marks and spaces are told apart by their lengths
        return _best_of_each(joined if joined is not None else list(_joined(durations_us, halves)))
    found = list(_paired(durations_us, (2,)))
    covered = max((_covered(each) for each in found), default=0)
    if joined is None and covered < nearly_all:
        joined = list(_joined(durations_us, halves))
    if joined and (covered < nearly_all or covered < _covered(joined[0])):
        found += joined
    if max((_covered(each) for each in found), default=0) < MOSTLY * durations_us.size:
        found += (each for each in _paired(durations_us, LEVELS) if not _has_rows_of_two(each))
    return _best_of_each(found)


def all_in_one_row(durations_us: Floats, unit_us: float | None = None) -> tuple[Parsed, ...]:
    """The same where all pulses are data, however badly they fit; ``unit_us`` is about a half bit, where known."""
    pairs = durations_us.size // 2
    marks, spaces = durations_us[: 2 * pairs : 2], durations_us[1 : 2 * pairs : 2]
    found = []
    if pairs >= FEWEST_SYMBOLS:
        for begun in _begun(marks, spaces, (2, *LEVELS)):
            tail = durations_us.size % 2 == 1
            found.append(_as_parsed(durations_us, begun, [(0, pairs - 1, tail)]))
        found += _joined(durations_us, _in_halves(durations_us, unit_us))
    return _best_of_each(found)


def _best_of_each(found: list[Parsed]) -> tuple[Parsed, ...]:
    best: dict[tuple[Code, int], Parsed] = {}
    for each in sorted(found, key=lambda p: -p.score):
        best.setdefault((each.code, each.symbol_bits), each)
    return tuple(best.values())


def _covered(parsed: Parsed) -> int:
    """Pulses in its rows, where they lie close on its ruler."""
    return sum(
        row.last - row.first + 1 for row in parsed.rows if row.line.clock.rms_us < CLEAN * row.line.clock.unit_us
    )


def _has_rows_of_two(parsed: Parsed) -> bool:
    """Whether half of the rows and more have two symbols only: then the others are of what collided with them."""
    said = [row.line.bits.reshape(-1, parsed.symbol_bits) for row in parsed.rows if not row.bare]
    counts = [len(np.unique(symbols, axis=0)) for symbols in said if len(symbols) >= FEWEST_OF_MANY]
    return 2 * sum(count <= 2 for count in counts) >= len(counts) > 0


def _paired(d: Floats, counts: tuple[int, ...]) -> Iterator[Parsed]:
    pairs = d.size // 2
    if pairs < FEWEST_PAIRS:
        return
    marks, spaces = d[: 2 * pairs : 2], d[1 : 2 * pairs : 2]
    seen: set[tuple[float, ...]] = set()
    # Equal pairs of a run-in would pass for one of three symbols and more, so these are learned behind it.
    after_run_in = np.arange(pairs) >= (_pairs_running_in(d) if counts != (2,) else 0)
    for mark_bound in _bounds(marks):
        for space_bound in _bounds(spaces):
            inside = (marks <= mark_bound) & (spaces <= space_bound)
            if inside.sum() < max(FEWEST_PAIRS, RECURRING * pairs):
                continue
            covered = 0
            data = inside & after_run_in if (inside & after_run_in).sum() >= FEWEST_PAIRS else inside
            for begun in _begun(marks[data], spaces[data], counts):
                settled = _settled(d, begun)
                if settled is None:
                    continue
                alphabet, rows = settled
                key = (*np.round(alphabet.marks), *np.round(alphabet.spaces))
                if key not in seen:
                    seen.add(key)
                    found = _as_parsed(d, alphabet, rows)
                    covered = max(covered, _covered(found))
                    yield found
            if covered >= NEARLY_ALL * d.size:  # longer ones are leaders and gaps
                return


def _pairs_running_in(d: Floats) -> int:
    """With how many equal pairs the pulses begin, where these are too many for an accident."""
    alike = int(np.argmin(np.append(repeats_itself(d), False)))
    return (alike + 2) // 2 if alike >= FEWEST_RUN_IN else 0


def _bounds(lengths: Floats) -> list[float]:
    """Each possible upper bound of the recurring lengths: where sorted neighbours lie far apart."""
    ordered = np.sort(lengths)
    ordered = ordered[ordered < LONGEST_IN_DATA_US]
    cuts = np.flatnonzero(ordered[1:] > SAME_RATIO * ordered[:-1])
    tops = [*cuts.tolist(), ordered.size - 1] if ordered.size else []
    enough = [at for at in tops if at + 1 >= RECURRING * lengths.size]
    return [float(ordered[at]) for at in enough[:MOST_BOUNDS]]


def _begun(marks: Floats, spaces: Floats, counts: tuple[int, ...]) -> Iterator[_Alphabet]:
    """First alphabets of so many symbols for some pairs of recurring lengths."""
    if 2 in counts:
        yield from _begun_of_two(marks, spaces)
    for count in counts:
        if count == 2:
            continue
        bits = (count - 1).bit_length()
        if _are_alike(marks) and (level := levels_of(spaces, count)) is not None:
            alike = np.full(count, float(marks.mean()))
            yield _alphabet("pulse-distance", alike, centres_of(spaces, level, count), bits, 3)
        if (level := levels_of(marks, count)) is not None:
            lengths, behind = centres_of(marks, level, count), centres_of(spaces, level, count)
            if behind[0] - behind[-1] < (lengths[-1] - lengths[0]) / 2:
                if not _are_alike(spaces):
                    continue
                behind = np.full(count, float(spaces.mean()))
            yield _alphabet("pulse-width", lengths, behind, bits, 4)


def _are_alike(lengths: Floats) -> bool:
    """Whether lengths that should be one vary no more than a receiver makes them."""
    mean = float(lengths.mean())
    return float(lengths.std()) < max(UNALIKE * mean, USUAL_JITTER_US * 2)


def _begun_of_two(marks: Floats, spaces: Floats) -> Iterator[_Alphabet]:
    long_space, long_mark = _long(spaces), _long(marks)
    if long_space is not None:
        alike = np.full(2, float(marks.mean()))
        yield _alphabet("pulse-distance", alike, centres_of(spaces, long_space, 2), 1, 3)
    if long_mark is not None:
        yield _alphabet("pulse-width", centres_of(marks, long_mark, 2), np.full(2, float(spaces.mean())), 1, 3)
    if long_mark is not None and long_space is not None:
        makes_up = long_mark != long_space  # of a fixed period, whatever equal pulses stand before it
        if FEWEST_OF_EACH <= (makes_up & long_mark).sum() <= makes_up.sum() - FEWEST_OF_EACH:
            long, m, s = long_mark[makes_up], marks[makes_up], spaces[makes_up]
            yield _alphabet("pulse-width", centres_of(m, long, 2), centres_of(s, long, 2), 1, 4)


def _alphabet(code: Code, marks: Floats, spaces: Floats, bits: int, numbers: int) -> _Alphabet:
    return _Alphabet(code, marks, spaces, 2 * USUAL_JITTER_US, bits, numbers)


def _long(lengths: Floats) -> NDArray[np.bool_] | None:
    bound = split_in_two(lengths)
    if np.isnan(bound):
        return None
    long = lengths > bound
    if not FEWEST_OF_EACH <= long.sum() <= long.size - FEWEST_OF_EACH:
        return None
    return long if lengths[long].mean() > SAME_RATIO * lengths[~long].mean() else None


class _Told(Struct, frozen=True):
    """For each mark and the space behind it: the nearest symbol, and whether both are its, or the mark at least."""

    symbol: NDArray[np.intp]
    both: NDArray[np.bool_]
    mark: NDArray[np.bool_]


def _told(d: Floats, alphabet: _Alphabet) -> _Told:
    marks = d[0::2]
    spaces = np.append(d[1::2], np.inf)[: marks.size]
    off_mark = _off(marks, alphabet.marks, alphabet.spread_us)
    off_space = _off(spaces, alphabet.spaces, alphabet.spread_us)
    near = off_mark**2 + off_space**2
    symbol = np.argmin(near, axis=1)
    at = np.arange(marks.size)
    far = np.maximum(off_mark[at, symbol], off_space[at, symbol])
    both = (far < FARTHEST) & ~_between(marks, spaces, symbol, alphabet)
    inside = np.concatenate(([False], both[:-2] & both[2:], [False])) if both.size > 2 else both
    both |= inside & (far < FARTHEST_INSIDE)
    by_mark = np.where(both, symbol, np.argmin(off_mark, axis=1))
    return _Told(by_mark, both, off_mark.min(axis=1) < FARTHEST)


def _between(marks: Floats, spaces: Floats, symbol: NDArray[np.intp], alphabet: _Alphabet) -> NDArray[np.bool_]:
    """Whether a pair has the mark of one symbol and the space of the other, where both tell them apart: a run-in's."""
    between = np.zeros(symbol.size, np.bool_)
    if alphabet.marks.size == 2 and np.ptp(alphabet.marks) and np.ptp(alphabet.spaces):
        for lengths, centres in ((marks, alphabet.marks), (spaces, alphabet.spaces)):
            between |= np.abs(lengths - centres[symbol]) > OTHER_SIDE * np.ptp(centres)
    return between


def _off(lengths: Floats, centres: Floats, spread_us: float) -> Floats:
    """By how many spreads each length lies off each centre: shape (lengths, centres)."""
    return np.abs(lengths[:, None] - centres) / np.hypot(spread_us, CLOCK_WANDERS * centres)


Span = tuple[int, int, bool]  # pairs first to last, and whether the mark behind them belongs to them


def _settled(d: Floats, alphabet: _Alphabet) -> tuple[_Alphabet, list[Span]] | None:
    """The alphabet with the centres that its own rows have, and these rows; None where none are left."""
    before: NDArray[np.intp] | None = None
    for _ in range(ROUNDS):
        told = _told(d, alphabet)
        rows = _rows(told)
        if not rows:
            return None
        if before is not None and np.array_equal(before, np.where(told.both, told.symbol, -1)):
            break
        before = np.where(told.both, told.symbol, -1)
        inside = np.zeros(told.symbol.size, np.bool_)
        for first, last, _tail in rows:
            inside[first : last + 1] = True
        symbol = told.symbol[inside]
        counts = np.bincount(symbol, minlength=alphabet.marks.size)
        if symbol.size < FEWEST_PAIRS or np.count_nonzero(counts) < alphabet.marks.size:
            return None
        marks, spaces = d[0::2][inside], d[1::2][inside[: d.size // 2]]
        if spaces.size < marks.size:
            marks, symbol = marks[: spaces.size], symbol[: spaces.size]
        new_marks = _refit(marks, symbol, alphabet.marks)
        new_spaces = _refit(spaces, symbol, alphabet.spaces)
        rest = np.concatenate((marks - new_marks[symbol], spaces - new_spaces[symbol]))
        spread = np.sqrt((np.sum(rest**2) + SPREAD_WEIGHT * USUAL_JITTER_US**2) / (rest.size + SPREAD_WEIGHT))
        alphabet = _Alphabet(alphabet.code, new_marks, new_spaces, float(spread), alphabet.bits, alphabet.numbers)
    apart = np.abs(np.diff(alphabet.marks)) + np.abs(np.diff(alphabet.spaces))
    shortest = min(float(alphabet.marks.min()), float(alphabet.spaces.min()))
    most = min(COARSEST_APART * float(apart.min()), COARSEST_SPREAD * shortest)
    # Lengths that were told apart by their jitter alone are alike once the others have drawn their symbols together.
    alike = alphabet.code == "pulse-width" and alphabet.marks.max() < SAME_RATIO * alphabet.marks.min()
    alike |= bool(apart.min() < LEAST_APART * apart.mean())
    return (alphabet, rows) if alphabet.spread_us < most and not alike else None


def _refit(lengths: Floats, symbol: NDArray[np.intp], centres: Floats) -> Floats:
    """The centres anew; where all are one, they stay one."""
    if centres[0] == centres[-1]:
        return np.full(centres.size, lengths.mean())
    counts = np.bincount(symbol, minlength=centres.size)
    sums = np.bincount(symbol, lengths, minlength=centres.size)
    return np.where(counts > 0, sums / np.maximum(counts, 1), centres)


def _rows(told: _Told) -> list[Span]:
    """The rows of symbols. The mark behind the last one may belong to it, its space being a gap."""
    rows = []
    for first, last in stretches(told.both):
        tail = last + 1 < told.mark.size and bool(told.mark[last + 1])
        if last + 1 - first + tail >= FEWEST_SYMBOLS:
            rows.append((first, last, tail))
    return rows


def _as_parsed(d: Floats, alphabet: _Alphabet, spans: list[Span]) -> Parsed:
    """The rows with their bits, and the score of all pulses."""
    told = _told(d, alphabet)
    wide = alphabet.code == "pulse-width"
    units = small_units(alphabet.marks, alphabet.spaces)
    expected = np.full(d.size, np.nan)
    rows = []
    for first, last, tail in spans:
        symbols = told.symbol[first : last + 1 + int(tail)]
        stop = 2 * last + 1 + int(tail)
        stop = min(stop, d.size - 1)
        own = np.empty(2 * symbols.size)
        own[0::2], own[1::2] = alphabet.marks[symbols], alphabet.spaces[symbols]
        expected[2 * first : stop + 1] = own[: stop + 1 - 2 * first]
        data = symbols if wide or not tail else symbols[:-1]
        # A short mark left over behind whole groups of bits is the sync before the long pause, and no bit; of more
        # symbols it is one in two cases of three, since each of them could stand there.
        left_over = data.size % GROUP == 1 if alphabet.marks.size == 2 else True
        if wide and tail and left_over and data[-1] == 0 and data.size > GROUP:
            data = data[:-1]
        line = _line(d[2 * first : stop + 1], alphabet, data, symbols, units)
        rows.append(Row(2 * first, stop, line, bool((symbols[: last + 1 - first] == symbols[0]).all())))
    score = _score(d, rows, expected, float(np.log(alphabet.marks.size)), alphabet.numbers)
    score += prices.SELDOM_SYMBOLS if alphabet.marks.size > 2 else 0.0
    return Parsed(alphabet.code, alphabet.bits, tuple(rows), score)


def _line(
    d: Floats, alphabet: _Alphabet, data: NDArray[np.intp], symbols: NDArray[np.intp], units: tuple[Floats, Floats]
) -> LineReading:
    """A row's pulses as a reading; ``data`` are the symbols that are bits, ``symbols`` those that have pulses."""
    lengths = np.empty(2 * symbols.size)
    lengths[0::2], lengths[1::2] = units[0][symbols], units[1][symbols]
    lengths = lengths[: d.size]
    clock = fit_clock(d, lengths)
    edges = np.concatenate(([0.0], np.cumsum(d)))
    first = np.arange(0, 2 * data.size, 2)
    bounds = np.linspace(edges[first], edges[np.minimum(first + 2, d.size)], alphabet.bits + 1)
    spans = np.stack((bounds[:-1].T, bounds[1:].T), axis=2).reshape(-1, 2)
    shifts = np.arange(alphabet.bits - 1, -1, -1)
    bits: Bits = (data[:, None] >> shifts & 1).astype(np.uint8).ravel()
    expected = expected_durations(clock, lengths)
    return LineReading(
        alphabet.code, clock, bits, spans, expected, 0, 0.0, symbol_bits=alphabet.bits, symbols=alphabet.marks.size
    )  # fmt: skip


def _score(d: Floats, rows: list[Row], expected_us: Floats, a_symbol: float, numbers: int) -> float:
    """Log likelihood of all pulses, less what the hypothesis costs; ``expected_us`` is NaN outside the rows.

    Equal pulses before the first of the other rows, and equal pulses outside the rows, run in: they are as certain as
    data and say nothing but how many there are.
    """
    expected_us = expected_us.copy()
    score = 0.0
    for first, end in _runs_in(d, np.isnan(expected_us)):
        for begin in (first, first + 1):  # marks, and spaces
            expected_us[begin:end:2] = d[begin:end:2].mean()
        score += prices.RUN_IN
    begins = next((i for i, row in enumerate(rows) if not row.bare), 0)
    for at, row in enumerate(rows):
        cost = row.line.bits.size / row.line.symbol_bits * a_symbol
        score -= min(cost, -prices.RUN_IN) if at < begins else cost
    score += float(timing_score(d - expected_us)) + float(any_pulse_score(d[np.isnan(expected_us)]))
    return score - parameter_cost(numbers, d.size) + prices.ROW_BEGINS * len(rows)


def repeats_itself(d: Floats) -> NDArray[np.bool_]:
    """For each pulse but the first two, whether it is as long as the previous mark or space."""
    return np.asarray(np.abs(d[2:] - d[:-2]) < np.maximum(ALIKE * np.minimum(d[2:], d[:-2]), ALIKE_US))


def _runs_in(d: Floats, outside: NDArray[np.bool_]) -> Iterator[tuple[int, int]]:
    """Stretches of pulses outside the rows that are as long as the ones two before them: first and end."""
    alike = outside[2:] & outside[:-2] & repeats_itself(d)
    for first, last in stretches(alike):
        if last + 1 - first >= FEWEST_RUN_IN:
            yield first, last + 3


FEWEST_JOINED = 6  # a pulse of two half bits could be anything; an even number of single ones has to follow each
LONGEST_RUN = 2.5  # half bits
SHORTEST_RUN = 0.5


def _is_surely_joined(parsed: Parsed) -> bool:
    """Whether half bits are joined so often that no code of pulse pairs could look like it."""
    clocks = [(row.line.expected_us, row.line.clock.unit_us) for row in parsed.rows]
    return sum(int(np.count_nonzero(expected > 1.5 * unit)) for expected, unit in clocks) >= FEWEST_JOINED


class _InHalves(Struct, frozen=True):
    """Stretches of pulses (first and last index) that one or two half bits may be, and about how long a half is."""

    stretches: tuple[tuple[int, int], ...]
    unit_us: float = 0.0
    excess_us: float = 0.0


def _in_halves(d: Floats, unit_us: float | None = None) -> _InHalves:
    """What could be bi-phase of some pulses; ``unit_us`` is a half bit's approximate length, if known."""
    short = quantile(d, 0.2)
    inside = d < 2.9 * short
    if inside.sum() < max(2 * FEWEST_PAIRS, RECURRING * d.size):
        return _InHalves(())
    odd = np.arange(d.size) % 2 == 1
    if not (inside & odd).any() or not (inside & ~odd).any():
        return _InHalves(())
    alike = np.empty(2 * min(int((inside & odd).sum()), int((inside & ~odd).sum())))
    alike[0::2], alike[1::2] = d[inside & ~odd][: alike.size // 2], d[inside & odd][: alike.size // 2]
    unit, excess = guess_unit(alike) if unit_us is None else (unit_us, 0.0)
    if unit <= 0:
        return _InHalves(())
    exact = (d - excess * alternating(d.size)) / unit
    data = (exact > SHORTEST_RUN) & (exact < LONGEST_RUN)
    enough = [(a, b) for a, b in stretches(data) if b + 1 - a >= 2 * FEWEST_SYMBOLS - 2]
    return _InHalves(tuple(enough), unit, excess)


def _most_joined(halves: _InHalves) -> int:
    """How many pulses could be bi-phase at the most."""
    return sum(last + 1 - first for first, last in halves.stretches)


def _joined(d: Floats, halves: _InHalves) -> Iterator[Parsed]:
    """Bi-phase: pulses of one or two half bits."""
    rows, expected = [], np.full(d.size, np.nan)
    for first, last in halves.stretches:
        row = _halves(d, first, last, halves.unit_us, halves.excess_us)
        if row is None and first and last - first >= 2 * FEWEST_SYMBOLS:
            # A leader's last pulse may be as long as data is, and ends where a bit begins.
            first += 1
            row = _halves(d, first, last, halves.unit_us, halves.excess_us)
        if row is not None:
            rows.append(row)
            expected[first : last + 1] = row.line.expected_us
    if not rows or all(row.bare for row in rows):
        return
    yield Parsed("biphase", 1, tuple(rows), _score(d, rows, expected, LN2, 3))


def _halves(d: Floats, first: int, last: int, unit: float, excess: float) -> Row | None:
    """Pulses of one or two half bits with a change in the middle of each bit; mark, then space is 1.

    The first half bit may have joined the pulse before, the last one the pulse behind.
    """
    own = d[first : last + 1]
    begins_high = first % 2 == 0
    sign = 1.0 if begins_high else -1.0  # the ruler takes its first pulse for a mark
    places, laid = edges_on_grid(own, unit, sign * excess)
    clock = Clock(laid.unit_us, sign * laid.excess_us, laid.rms_us)
    lengths = np.diff(places)
    if clock.unit_us <= 0 or lengths.max() > 2:
        return None
    levels = np.repeat((np.arange(own.size) % 2 == 0) == begins_high, lengths)
    best: tuple[int, Bits, int] | None = None
    for shift in (0, 1):
        halves = np.concatenate(([not levels[0]] * shift, levels))
        if halves.size % 2:
            halves = np.append(halves, not halves[-1])
        pairs = halves.reshape(-1, 2)
        wrong = int(np.sum(pairs[:, 0] == pairs[:, 1]))
        if best is None or wrong < best[2]:
            best = shift, pairs[:, 0].astype(np.uint8), wrong
    assert best is not None
    shift, bits, wrong = best
    if wrong or bits.size < FEWEST_SYMBOLS:
        return None
    spans = clock.unit_us * (np.arange(bits.size)[:, None] * 2 + np.array([0, 2]) - shift)
    if bits.size > BYTE:  # what only half of is seen may be a leader's space, or a sync
        if shift and not begins_high and bits.size % 2:
            bits, spans = bits[1:], spans[1:]
        elif (levels.size + shift) % 2 and bits.size % BYTE == 1:
            bits, spans = bits[:-1], spans[:-1]
    line = LineReading("biphase", clock, bits, spans, grid_expected(laid, places), 0, 0.0)
    return Row(first, last, line, bool((lengths == 1).all()))
