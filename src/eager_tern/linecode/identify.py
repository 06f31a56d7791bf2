"""Which line code a frame is in, found from the frame alone."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.closeness import CLEAN, COARSEST
from eager_tern.linecode.clusters import are_even
from eager_tern.linecode.likelihood import noise_score, probabilities
from eager_tern.linecode.parts import LONGEST_BEHIND, is_mostly_data, parts_of
from eager_tern.linecode.plain import plain_bits
from eager_tern.linecode.prices import NOISE_HEAD_START
from eager_tern.linecode.rows import Parsed, Row
from eager_tern.linecode.runs import all_in_one_row, parsed
from eager_tern.linecode.serial import FEWEST_PULSES as FEWEST_SERIAL
from eager_tern.linecode.serial import async_serial
from eager_tern.linecode.values import Clock, Code, LineReading
from eager_tern.signal.assumed import FEWEST_BITS
from eager_tern.signal.values import Floats, Pulses

FEWEST_PULSES = 17  # eight bits and a trailer: with less, chatter looks like a code too often


def identify(pulses: Pulses) -> tuple[LineReading, ...]:
    """The line codes that fit, most probable first; empty where random pulses explain the frame as well, or
    bits that are sent as they are.
    """
    d = pulses.durations_us
    if d.size < FEWEST_SERIAL:
        return ()
    tried = [_whole(d, each) for each in parsed(d)] if d.size >= FEWEST_PULSES else []
    fitting = [
        r
        for r in tried
        if r is not None
        and r.clock.rms_us < COARSEST * r.clock.unit_us
        and is_mostly_data(d, r.leader, int(np.count_nonzero(~np.isnan(r.expected_us))))
    ]
    # Serial characters are sought at length, and only where something simpler leaves much unexplained.
    clean = any(r.clock.rms_us < CLEAN * r.clock.unit_us and _is_one_row(r.expected_us, r.leader) for r in fitting)
    if not clean and not are_even(d) and (characters := async_serial(d)) is not None:
        fitting.append(characters)
    plain = plain_bits(d) if fitting and not clean and d.size >= FEWEST_PULSES and not are_even(d) else None
    others = [float(noise_score(d)) + NOISE_HEAD_START, *([plain.score] if plain is not None else [])]
    chances = probabilities([*(r.score for r in fitting), *others])
    ranked = sorted(zip(fitting, chances, strict=False), key=lambda pair: -pair[1])
    known = tuple(replace(reading, probability=chance) for reading, chance in ranked)
    return known if known and known[0].probability > 0.5 else ()


def _is_one_row(expected_us: Floats, leader: int) -> bool:
    """Whether nothing but a leader and a trailer is left beside one row of symbols."""
    told = np.flatnonzero(~np.isnan(expected_us))
    behind = expected_us.size - 1 - int(told[-1])
    return bool(told[-1] - told[0] + 1 == told.size and told.size > 2 * leader and behind <= LONGEST_BEHIND)


def read_as(
    pulses: Pulses,
    code: Code | None = None,
    leader: int | None = None,
    unit_us: float | None = None,
    symbol_bits: int | None = None,
) -> LineReading | None:
    """The likeliest reading in a line code, with so many pulses before the data, however badly it fits.

    ``symbol_bits`` is how many bits a symbol stands for (serial characters find that out). What is None is found out; a
    unit is asked for only by the codes that are read on a grid. None where the frame cannot be read so at all.
    """
    d = pulses.durations_us
    if code == "async-serial":
        return async_serial(d, unit_us)

    def fits(each: Parsed) -> bool:
        return code in (None, each.code) and symbol_bits in (None, each.symbol_bits)

    if leader is None:
        found = next((each for each in parsed(d) if fits(each)), None)
        if found is not None and (line := _whole(d, found)) is not None:
            return line
    before = leader or 0
    found = next((each for each in all_in_one_row(d[before:], unit_us) if fits(each)), None)
    if found is None:
        return None
    return as_one(d, found, found.rows, -before)


def _whole(durations_us: Floats, found: Parsed) -> LineReading | None:
    """The burst as one frame including the gaps between its sections; None where it holds no data."""
    rows = [row for _, _, rows in parts_of(durations_us, found.rows) for row in rows]
    bits = sum(row.line.bits.size for row in rows)
    return as_one(durations_us, found, rows) if rows and bits >= FEWEST_BITS * len(rows) else None


def as_one(durations_us: Floats, found: Parsed, rows: Sequence[Row], offset: int = 0) -> LineReading:
    """Pulses as one frame whose bits are those of all rows of data.

    ``offset`` is the index of the first of these pulses among those that the rows count.
    """
    edges = np.concatenate(([0.0], np.cumsum(durations_us)))
    expected = np.full(durations_us.size, np.nan)
    for row in rows:
        expected[row.first - offset : row.last + 1 - offset] = row.line.expected_us
    return LineReading(
        found.code,
        clock_of_all([row.line.clock for row in rows]),
        np.concatenate([row.line.bits for row in rows]),
        np.concatenate([row.line.bit_spans_us + edges[row.first - offset] for row in rows]),
        expected,
        rows[0].first - offset,
        found.score,
        symbol_bits=found.symbol_bits,
        symbols=rows[0].line.symbols,
    )


def clock_of_all(clocks: Sequence[Clock]) -> Clock:
    """One clock for several stretches: what they have on the average."""
    units, excesses, rms = np.array([[c.unit_us, c.excess_us, c.rms_us] for c in clocks]).T
    return Clock(float(units.mean()), float(excesses.mean()), float(np.sqrt(np.mean(rms**2))))
