"""How much speaks for numbers being durations of marks and spaces in turn: few lengths, each again and again."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.signal.assumed import SURE_GAP_US
from eager_tern.signal.values import Floats

APART = 0.18  # between two lengths, as a part: what jitter spreads is one
CLOSE = 0.05  # lengths that are no further apart are as good as equal
FEWEST = 6  # numbers of which something can be said
RISING = 0.9  # of the steps between numbers that count or tell the time lead upwards, or nowhere,
COUNTING = 0.2  # and of these lead upwards: a mark and a space may have one number
MOST_COLUMNS = 7  # of a line that is a row of a table
SMALL = 8.0  # times less than a pulse is none that stands beside it
LENGTHS = 240.0  # that could be told apart, from 1 µs to a second
TOLD = 1.0  # nat for each number of a text that is told at all
EVEN = 3.0  # nats against a burst that does not end with the kind of pulse it begins with: one in twenty was cut


def holds_others(bursts: Sequence[Sequence[Floats]]) -> bool:
    """Whether numbers in a column of the bursts' lines, or every second of a burst, are something else beside
    durations: they rise all along, or are one or two small ones. Nothing but 0 and 1 are levels.
    """
    lines = [line for burst in bursts for line in burst]
    flat = np.concatenate(lines) if lines else np.empty(0)
    if np.isin(np.abs(flat), (0, 1)).all():
        return True
    usual = float(np.quantile(np.abs(flat), 0.75))
    columns = [whole[at::2] for burst in bursts if burst for whole in [np.concatenate(burst)] for at in (0, 1)]
    columns.append(np.array([line[0] for line in lines if line.size]))
    width = int(np.median([line.size for line in lines]))
    if 1 < width <= MOST_COLUMNS:
        rows = [line for line in lines if line.size == width]
        columns += list(np.array(rows).T)
    return any(_is_no_duration(column, usual) for column in columns if column.size >= FEWEST)


def takes_turns(burst: Floats) -> bool:
    """Whether signs, if there are any, tell marks and spaces in turn."""
    return not (burst < 0).any() or bool(((burst[1:] < 0) != (burst[:-1] < 0)).all())


def _is_no_duration(column: Floats, usual: float) -> bool:
    steps = np.diff(column)
    if np.mean(steps >= 0) >= RISING and np.mean(steps > 0) >= COUNTING:
        return True
    return np.unique(column).size <= 2 and bool(np.abs(column).max() < usual / SMALL)


def evidence(bursts: Sequence[Floats]) -> float:
    """By how many nats numbers are told better by a few lengths of marks and a few of spaces than one by one.

    ``bursts`` are unsigned or signed, marks and spaces in turn; the first is a mark, unless it is a silence.
    """
    sides: list[list[Floats]] = [[], []]
    against = 0.0
    for values in bursts:
        sizes = np.abs(values)
        first = int(sizes.size > 0 and sizes[0] >= SURE_GAP_US)
        sides[first].append(sizes[0::2])
        sides[1 - first].append(sizes[1::2])
        inside = sizes.size - first - int(sizes.size > 1 and sizes[-1] >= SURE_GAP_US)
        against += EVEN * (inside % 2 == 0) - TOLD * sizes.size
    return sum(_of_one_side(np.concatenate(side)) for side in sides if side) - float(against)


def _of_one_side(lengths: Floats) -> float:
    lengths = np.sort(lengths[(lengths > 0) & (lengths < SURE_GAP_US)])
    if not lengths.size:
        return 0.0
    logs = np.log(lengths)
    group = np.concatenate(([0], np.cumsum(np.diff(logs) > APART)))
    counts = np.bincount(group)
    firsts = np.searchsorted(group, np.arange(counts.size))
    widths = logs[firsts + counts - 1] - logs[firsts]
    spread = np.log(np.maximum(widths / CLOSE, 1.0))
    again = counts * (np.log(LENGTHS * counts / lengths.size) - spread) > np.log(LENGTHS)
    each = np.log(LENGTHS * counts[again] / max(counts[again].sum(), 1)) - spread[again]
    return float(counts[again] @ each - np.count_nonzero(again) * np.log(LENGTHS))
