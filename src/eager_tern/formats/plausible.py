"""How much speaks for numbers being durations of marks and spaces in turn: few lengths, each again and again."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.formats.lists import RISING
from eager_tern.formats.rows import MOST_COLUMNS
from eager_tern.signal.assumed import SURE_GAP_US
from eager_tern.signal.order import median
from eager_tern.signal.values import Floats

APART = 0.18  # between two lengths, as a part: what jitter spreads is one
CLOSE = 0.05  # lengths that are no further apart are as good as equal
FEWEST = 6  # numbers of which something can be said
FEWEST_TIMES = 10  # numbers that do not rise by chance
# Of the steps between numbers that count or tell the time, as many as RISING lead upwards or nowhere, and so many
# upwards: a mark and a space may have one number.
COUNTING = 0.2
MOST_SILENT = 8  # numbers at least for each that lasts as long as a silence
FEW = 4  # times at least that each of a column's numbers stands in it, if it names or numbers something,
UNLIKE = 8.0  # and that it is larger or smaller than the pulses it stands beside
LENGTHS = 240.0  # that could be told apart, from 1 µs to a second
FEWEST_LENGTHS = 3  # of marks and spaces together that say anything
TOLD = 1.5  # nat for each number of a text that is told at all
EVEN = 4.0  # nats against a burst that does not end with the kind of pulse it begins with: one in fifty was cut


def holds_others(bursts: Sequence[Sequence[Floats]]) -> bool:
    """Whether numbers in a column of the bursts' lines, or every second of a burst, are something else beside
    durations: they rise all along, or are a few far from all others. Nothing but 0 and 1 are levels, and few are
    silences.
    """
    lines = [line for burst in bursts for line in burst]
    flat = np.concatenate(lines) if lines else np.empty(0)
    if ((flat == 0) | (np.abs(flat) == 1)).all():
        return True
    if MOST_SILENT * np.count_nonzero(np.abs(flat) >= SURE_GAP_US) > max(flat.size, MOST_SILENT):
        return True
    columns = [whole[at::2] for burst in bursts if burst for whole in [np.concatenate(burst)] for at in (0, 1)]
    short = [line for line in lines if 0 < line.size <= MOST_COLUMNS]
    columns.append(np.array([line[0] for line in short]))
    width = int(median(np.array([line.size for line in short]))) if short else 0
    columns += list(np.array([line for line in short if line.size == width]).T) if width > 1 else []
    return any(_is_no_duration(column, flat) for column in columns if column.size >= FEWEST)


def are_times(burst: Floats) -> bool:
    """Whether numbers rise all along, as the times of edges do and no durations."""
    return burst.size >= FEWEST_TIMES and bool(burst[0] >= 0 and np.all(np.diff(burst) > 0))


def takes_turns(burst: Floats) -> bool:
    """Whether signs, if there are any, tell marks and spaces in turn."""
    return not (burst < 0).any() or bool(((burst[1:] < 0) != (burst[:-1] < 0)).all())


def _is_no_duration(column: Floats, among: Floats) -> bool:
    steps = np.diff(column)
    if np.mean(steps >= 0) >= RISING and np.mean(steps > 0) >= COUNTING:
        return True
    few = _values(column)
    if few.size > column.size / FEW:
        return False
    others = among[few[np.searchsorted(few, among).clip(max=few.size - 1)] != among]
    if not others.size:
        return False
    if few.size == 1 and _values(others).size > others.size / FEW:
        return True  # no recorder measures one length the same each time, and all others anew
    sizes, usual = np.abs(few), median(np.abs(others))
    return bool(sizes.max() < usual / UNLIKE or sizes.min() > usual * UNLIKE)


def _values(numbers: Floats) -> Floats:
    """The numbers that occur; NumPy's own way loads its masked arrays."""
    ordered = np.sort(numbers)
    return ordered[np.concatenate(([True], np.diff(ordered) > 0))]


def evidence(bursts: Sequence[Floats]) -> float:
    """By how many nats numbers are told better by a few lengths of marks and a few of spaces than one by one.

    ``bursts`` are unsigned or signed, marks and spaces in turn; the first is a mark, unless it is a silence.
    """
    sides: list[list[Floats]] = [[], []]
    against = 0.0
    if not bursts:
        return 0.0
    for values in bursts:
        sizes = np.abs(values)
        first = int(sizes.size > 0 and sizes[0] >= SURE_GAP_US)
        sides[first].append(sizes[0::2])
        sides[1 - first].append(sizes[1::2])
        inside = sizes.size - first - int(sizes.size > 1 and sizes[-1] >= SURE_GAP_US)
        against += EVEN * (inside % 2 == 0) - TOLD * np.count_nonzero((sizes > 0) & (sizes < SURE_GAP_US))
    told, lengths = zip(*(_of_one_side(np.concatenate(side)) for side in sides if side), strict=True)
    return sum(told) - float(against) if sum(lengths) >= FEWEST_LENGTHS else 0.0


def evidence_of_periods(lengths: Floats) -> float:
    """The same for numbers of which each is a mark and its space."""
    return _of_one_side(lengths)[0] + TOLD * float(np.count_nonzero((lengths > 0) & (lengths < SURE_GAP_US)))


def _of_one_side(lengths: Floats) -> tuple[float, int]:
    """How many nats are saved by telling marks, or spaces, by lengths that recur, and how many lengths these are."""
    lengths = np.sort(lengths[(lengths > 0) & (lengths < SURE_GAP_US)])
    if not lengths.size:
        return 0.0, 0
    logs = np.log(lengths)
    group = np.concatenate(([0], np.cumsum(np.diff(logs) > APART)))
    counts = np.bincount(group)
    firsts = np.searchsorted(group, np.arange(counts.size))
    widths = logs[firsts + counts - 1] - logs[firsts]
    spread = np.log(np.maximum(widths / CLOSE, 1.0))
    again = counts * (np.log(LENGTHS * counts / lengths.size) - spread) > np.log(LENGTHS)
    each = np.log(LENGTHS * counts[again] / max(counts[again].sum(), 1)) - spread[again]
    number = int(np.count_nonzero(again))
    return float(counts[again] @ each) - number * float(np.log(LENGTHS)), number
