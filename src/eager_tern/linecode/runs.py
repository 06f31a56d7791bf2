"""Rows of symbols among a burst's pulses; everything before, between and behind them is no data.

A code's few lengths recur with every bit, a leader's once a section. So the lengths that recur are found first, then
the pulses that are made of them; leaders of any shape, run-ins, syncs and gaps are what is left. Which code it is, the
likelihood of all pulses decides: those in symbols by how close they lie, the others as pulses that could be anything.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode import prices
from eager_tern.linecode.alphabets import Alphabet, Span, first_alphabets, settle, told_by
from eager_tern.linecode.clock import expected_durations, fit_clock
from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.clusters import SAME_RATIO, are_even
from eager_tern.linecode.halves import in_halves, is_surely_joined, most_joined, read_in_halves
from eager_tern.linecode.rows import (
    FEWEST_PAIRS,
    FEWEST_RUN_IN,
    FEWEST_SYMBOLS,
    RECURRING,
    Parsed,
    Row,
    repeats_itself,
    score_of,
)
from eager_tern.linecode.units import small_units
from eager_tern.linecode.values import Bits, Code, LineReading
from eager_tern.signal.assumed import LONGEST_IN_DATA_US
from eager_tern.signal.values import Floats

MOST_BOUNDS = 4  # kinds of length beyond which no more is tried as the longest of the data
LEVELS = (3, 4, 5)
FEWEST_OF_MANY = 12  # symbols in which each of three or more is expected
STEP_TO_NO_SYMBOL = 2.5  # of the step below: 1, 2, 4 and 8 rise by twice as much each
NEARLY_ALL = 0.9  # of the pulses, on one clean ruler: then no other code could explain them better
MOSTLY = 0.85  # of the pulses: what explains as many needs no code of more symbols beside it


def parsed(durations_us: Floats) -> tuple[Parsed, ...]:
    """The codes that the burst's pulses could be in, likeliest first. ``durations_us``: shape (n,), a mark first.

    Bi-phase, and more than two symbols, are tried only where something simpler leaves much unexplained.
    """
    return _parsed(durations_us.tobytes())


@lru_cache(maxsize=1024)  # a burst is read by itself, and with those beside it
def _parsed(durations: bytes) -> tuple[Parsed, ...]:
    durations_us = np.frombuffer(durations)
    nearly_all = NEARLY_ALL * durations_us.size
    halves = in_halves(durations_us)
    joined = list(read_in_halves(durations_us, halves)) if most_joined(halves) >= nearly_all else None
    if joined and any(_covered(each) >= nearly_all and is_surely_joined(each) for each in joined):
        return _best_of_each(joined)
    if are_even(durations_us):  # symbols of marks and spaces are told apart by their lengths
        return _best_of_each(joined if joined is not None else list(read_in_halves(durations_us, halves)))
    found = list(_paired(durations_us, (2,)))
    covered = max((_covered(each) for each in found), default=0)
    if joined is None and covered < nearly_all:
        joined = list(read_in_halves(durations_us, halves))
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
        for begun in first_alphabets(marks, spaces, (2, *LEVELS)):
            tail = durations_us.size % 2 == 1
            found.append(_as_parsed(durations_us, begun, [(0, pairs - 1, tail)]))
        found += read_in_halves(durations_us, in_halves(durations_us, unit_us))
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
            for begun in first_alphabets(marks[data], spaces[data], counts):
                settled = settle(d, begun)
                if settled is None:
                    continue
                alphabet, rows = settled
                key = (*np.round(alphabet.marks), *np.round(alphabet.spaces))
                if key not in seen:
                    seen.add(key)
                    found = _as_parsed(d, alphabet, rows)
                    if counts != (2,) and _longest_is_no_symbol(alphabet, found.rows):
                        continue
                    covered = max(covered, _covered(found))
                    yield found
            if covered >= NEARLY_ALL * d.size:  # longer ones are leaders and gaps
                return


def _longest_is_no_symbol(alphabet: Alphabet, rows: Sequence[Row]) -> bool:
    """Whether the longest one is far longer than the others, and stands nowhere but before or behind them: a leader's,
    or the silence before the next copy.
    """
    lengths = alphabet.spaces if alphabet.code == "pulse-distance" else alphabet.marks
    steps = np.diff(lengths)
    if steps[-1] < STEP_TO_NO_SYMBOL * steps[-2]:
        return False
    longest = np.unpackbits(np.array([alphabet.marks.size - 1], np.uint8))[-alphabet.bits :]
    places = [(row.line.bits.reshape(-1, alphabet.bits) == longest).all(axis=1) for row in rows]
    return not any(is_longest[1:-1].any() for is_longest in places)


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


def _as_parsed(d: Floats, alphabet: Alphabet, spans: list[Span]) -> Parsed:
    """The rows with their bits, and the score of all pulses."""
    told = told_by(d, alphabet)
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
        # A short mark left over behind an even number of bits, as nearly all gadgets send, is the sync before the long
        # pause, and no bit. Of a fixed period, and symbols that stand for no whole number of bits, it is so in two
        # cases of three, since each of them could stand there.
        digits = alphabet.marks.size != 1 << alphabet.bits and _is_of_fixed_period(alphabet)
        left_over = data.size % 2 == 1 or digits
        if wide and tail and left_over and data[-1] == 0 and data.size > FEWEST_SYMBOLS:
            data = data[:-1]
        line = _line(d[2 * first : stop + 1], alphabet, data, symbols, units)
        rows.append(Row(2 * first, stop, line, bool((symbols[: last + 1 - first] == symbols[0]).all())))
    score = score_of(d, rows, expected, float(np.log(alphabet.marks.size)), alphabet.numbers)
    score += prices.SELDOM_SYMBOLS if alphabet.marks.size > 2 else 0.0
    return Parsed(alphabet.code, alphabet.bits, tuple(rows), score)


def _is_of_fixed_period(alphabet: Alphabet) -> bool:
    """Whether each symbol lasts as long as the others: a longer mark leaves a shorter space."""
    return bool(np.ptp(alphabet.marks + alphabet.spaces) < np.ptp(alphabet.marks) / 2)


def _line(
    d: Floats, alphabet: Alphabet, data: NDArray[np.intp], symbols: NDArray[np.intp], units: tuple[Floats, Floats]
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
