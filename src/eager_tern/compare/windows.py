"""Numbers found as runs of bits through which a line goes: any scale, and what was rounded, when shown or when sent.

A part of a step that is sent apart from the rest follows no line, and still a rule: it becomes a table.
"""

from __future__ import annotations

from math import comb, log10

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.evidence import of_numbers
from eager_tern.compare.number import Encoding, Ints, Number, decoded
from eager_tern.compare.stack import BitRows, raw_numbers
from eager_tern.signal.order import medians
from eager_tern.signal.values import Floats

WIDEST = 16
WIDEST_TABLE = 8  # bits; of more, a table of all numbers is too long to be written
CODINGS: tuple[Encoding, ...] = ("binary", "signed")
PAIRS = 48  # of rows, whose slopes are asked for the median
FAHRENHEIT = (round(5 / 9, 9), 1.8)  # degrees Celsius to one, and the other way round
NICE = (1.0, 0.5, 0.1, 0.25, 0.2, 2.0, 5.0, 10.0, 0.05, 0.01, *FAHRENHEIT)
LEAST_DISTINCT = 3
FEWEST_ROUNDED = 6
MOST_DECIMALS = 4
NEARLY = 1e-4  # of a step, since scales are kept with nine digits
WHOLES = (100.0, 360.0)
MUCH_SURER = 10.0  # log10
HALF_STEP_ERR = 1e-6  # what lies in the middle between two steps is rounded to either
MOST_BOUNDED = 200  # numbers of which every two bound the slope
MOST_BETWEEN = 0.5  # of the values: a line that leaves most of them there says nothing of them
EXACT = -9.0  # log10; no rounded number costs less
A_BIT = 0.06  # log10: a bit that belongs to a number lowers what is left by 0.14 and more, a stranger adds 0.05


def by_windows(bits: BitRows, columns: NDArray[np.intp], values: Floats, step: float, errors: int) -> list[Number]:
    """Runs of bits, either order, through which a straight line goes within half a step of the labels or of its own."""
    usable = np.zeros(bits.shape[1], np.bool_)
    usable[columns] = True
    steady = (bits == bits[:1]).all(axis=0)
    inside = np.concatenate(([0], np.cumsum(~(usable | steady))))
    rng = np.random.default_rng(1)
    first, second = rng.integers(0, len(values), (2, PAIRS * 4))
    apart = values[first] != values[second]
    first, second = first[apart][:PAIRS], second[apart][:PAIRS]
    found: list[Number] = []
    parted: list[set[int]] = []  # whose lowest bits stand elsewhere
    tabled: list[Number] = []
    for width in range(2, WIDEST + 1):
        starts = [
            a for a in columns.tolist()
            if a + width <= bits.shape[1] and usable[a + width - 1] and inside[a + width] == inside[a]
        ]  # fmt: skip
        for turned in (False, True):
            for encoding in CODINGS:
                rows = [range(a, a + width) if not turned else range(a + width - 1, a - 1, -1) for a in starts]
                if not rows:
                    continue
                raws = np.stack([decoded(raw_numbers(bits, list(row)), encoding, width) for row in rows])
                numbers = _on_lines(bits, rows, raws, values, step, errors, (first, second), encoding)
                for number in numbers:
                    beside = _part_apart(bits, columns, number, values)
                    if beside is None:
                        found += [] if _lies_between(bits, number, values, step) else [number]
                        continue
                    parted.append({*number.positions})
                    if width < WIDEST_TABLE:
                        tabled.append(_with_part(bits, number, beside, values, step))
    found = [number for number in found if not any(told.issuperset(number.positions) for told in parted)] + tabled
    # The highest bits of a number alone say it roughly, wrong labels included.
    surest = min((number.chance for number in found), default=0.0)
    found = [number for number in found if number.chance < surest + MUCH_SURER]
    return [number for number in found if not any(_says_roughly(number, other, step) for other in found)]


def _on_lines(
    bits: BitRows, rows: list[range], raws: Ints, values: Floats, step: float, errors: int,
    pairs: tuple[Ints, Ints], encoding: Encoding,
) -> list[Number]:  # fmt: skip
    """Of several windows (``raws`` of shape (windows, rows)) those on whose line all labels but a few lie."""
    first, second = pairs
    run = (raws[:, first] - raws[:, second]).astype(np.float64)
    run[run == 0] = np.nan
    told = np.sum(~np.isnan(run), axis=1) > 0.6 * first.size
    raws, run = raws[told], run[told]
    rows = [row for row, ok in zip(rows, told.tolist(), strict=True) if ok]
    if not rows:
        return []
    slopes = medians((values[first] - values[second]) / run)
    offsets = medians(values - slopes[:, None] * raws)
    grains = np.maximum(np.abs(slopes), step)
    near = np.abs(values - slopes[:, None] * raws - offsets[:, None]) <= 0.75 * grains[:, None]
    found = []
    for at in np.flatnonzero(np.sum(~near, axis=1) <= errors + 0.15 * len(values)).tolist():
        line = _of_a_whole(raws[at], values, near[at], len(rows[at]), step)
        line = line or _fitted(raws[at], values, near[at], step)
        if line is None:
            continue
        scale, offset = line
        rests = values - scale * raws[at] - offset
        grain = _grain(rests[near[at]], scale, step)
        holds = np.abs(rests) <= 0.5 * grain + HALF_STEP_ERR
        distinct = np.unique(raws[at][holds]).size
        if np.sum(~holds) > errors or distinct < LEAST_DISTINCT:
            continue
        exact = np.abs(rests[holds]).max() < 1e-6
        if not exact and min(distinct, np.unique(values[holds]).size) < FEWEST_ROUNDED:
            continue
        spread = float(np.ptp(values[holds])) / grain + 1
        tried = log10(4 * WIDEST * bits.shape[1])
        if errors:
            tried += log10(comb(len(values), int(np.sum(~holds))))
        in_any_order = tried - (float(np.sum(holds)) - 2) * log10(spread)
        # What rises by the same step with every press says no more than a counter would.
        chance = max(in_any_order, tried - of_numbers(np.rint(values[holds] / grain))[1])
        # A bit less below leaves twice as much to rounding, or half as much again; one too many adds to it.
        cost = EXACT if exact else log10(float(np.std(rests[holds])) / step) + A_BIT * len(rows[at])
        decimals = None if exact or _is_on_steps(scale, offset, step) else _decimals(step)
        found.append(Number(tuple(rows[at]), encoding, scale, offset, holds, chance, in_any_order, cost, decimals))
    return found


def _says_roughly(number: Number, other: Number, step: float) -> bool:
    """Whether a number in longer steps than the labels' is another, surer one without its lowest bits."""
    begins = number.positions == other.positions[: len(number.positions)] and number.positions != other.positions
    return begins and abs(number.scale) > step and other.in_any_order < number.in_any_order


def _part_apart(bits: BitRows, columns: NDArray[np.intp], number: Number, values: Floats) -> int | None:
    """The column that says what a line leaves over: then nothing was rounded, and a part of a step is sent apart."""
    rests = _rests(bits, number, values)
    high = rests > (rests.min() + rests.max()) / 2
    if not 0 < high.sum() < high.size or max(np.ptp(rests[high]), np.ptp(rests[~high])) > NEARLY:
        return None
    others = np.setdiff1d(columns, number.positions)
    same = (bits[np.ix_(number.holds, others)] == high[:, None]).mean(axis=0)
    told = others[(same == 0) | (same == 1)]
    return int(told[0]) if told.size else None


def _lies_between(bits: BitRows, number: Number, values: Floats, step: float) -> bool:
    """Whether most values are in the middle between two steps of a line: then it says nothing of them."""
    rests = _rests(bits, number, values)
    half = 0.5 * _grain(rests, number.scale, step)
    return bool(np.mean(np.abs(rests) > half - HALF_STEP_ERR) > MOST_BETWEEN)


def _rests(bits: BitRows, number: Number, values: Floats) -> Floats:
    """What a line leaves over of the values that it says."""
    raw = decoded(raw_numbers(bits, number.positions), number.encoding, len(number.positions))
    rests: Floats = (values - number.scale * raw - number.offset)[number.holds]
    return rests


def _grain(rests: Floats, scale: float, step: float) -> float:
    """In which steps values were rounded: their own, when they were shown, or longer ones, when they were sent."""
    return step if np.abs(rests).max() <= 0.5 * step + HALF_STEP_ERR else max(step, abs(scale))


def _with_part(bits: BitRows, number: Number, beside: int, values: Floats, step: float) -> Number:
    """The number with a bit more, which stands anywhere and adds or takes its part of a step: as a table of all."""
    positions = (*number.positions, beside)
    raw, line = raw_numbers(bits, positions), np.arange(2 << len(number.positions))
    whole = number.scale * decoded(line >> 1, number.encoding, len(number.positions)) + number.offset
    rests, low = values - whole[raw], bits[:, beside]
    parts = np.array([np.median(rests[number.holds & (low == bit)]) for bit in (0, 1)])
    said = np.round(whole + parts[line & 1], 9)
    holds = np.abs(said[raw] - values) < 1e-6
    spread = log10(float(np.ptp(values)) / step + 1)
    tried = log10(4 * WIDEST * bits.shape[1] ** 2) + log10(comb(len(values), int(np.sum(~holds))))
    chance = max(tried - (float(np.sum(holds)) - 3) * spread, tried - of_numbers(np.rint(values[holds] / step))[1])
    table = dict(enumerate(said.tolist()))
    return replace(number, positions=positions, holds=holds, chance=chance, in_any_order=chance, table=table)


def _is_on_steps(scale: float, offset: float, step: float) -> bool:
    """Whether all values in such steps can be sent: what is sent between them is known better than it was shown."""
    steps, first = step / scale, offset / scale
    return abs(steps - round(steps)) < NEARLY and abs(first - round(first)) < NEARLY and round(steps) != 0


def _decimals(step: float) -> int:
    """How many decimals values have that come in such steps."""
    return len(f"{step:.{MOST_DECIMALS}f}".rstrip("0").partition(".")[2])


def _of_a_whole(
    raw: Ints, values: Floats, near: NDArray[np.bool_], width: int, step: float
) -> tuple[float, float] | None:
    """The line where all that the bits can say stands for a whole, a hundred per cent or a turn."""
    for whole in WHOLES:
        for most in ((1 << width) - 1, 1 << width):
            scale = whole / most
            for offset in (0.0, scale / 2):  # rounded to the nearest when it was sent, or down
                if np.abs(values - scale * raw - offset)[near].max() <= 0.5 * max(scale, step) + HALF_STEP_ERR:
                    return round(scale, 9), round(offset, 9)
    return None


def _fitted(raw: Ints, values: Floats, near: NDArray[np.bool_], step: float) -> tuple[float, float] | None:
    """The line through the labels that are near one, with a scale that somebody would choose: within half a step of
    each, if these were rounded, or else within half of what the number counts in.
    """
    number, values = raw[near].astype(np.float64), values[near]
    if np.unique(number).size < 2:
        return None
    slope = float(np.polyfit(number, values, 1)[0])
    grain = step
    between = _slopes(number, values, grain)
    if between is None and abs(slope) > step:
        grain = abs(slope)
        between = _slopes(number, values, grain)
    if between is not None and between[0] <= 0 <= between[1]:  # the same value does as well
        return None
    free = grain / float(np.ptp(number))
    nice = [sign * scale for scale in NICE for sign in (1, -1) if abs(sign * scale - slope) <= free]
    if nice:
        slope = nice[int(np.argmin(np.abs(np.array(nice) - slope)))]
    elif between is not None:
        slope = _simplest(*between)
    rest = values - slope * number
    through = np.ptp(rest) <= grain + 2 * HALF_STEP_ERR
    offset = float(rest.max() + rest.min()) / 2 if through else float(np.median(rest))
    part = min(grain, abs(slope))
    whole = round(offset / part) * part
    near_whole = np.abs(rest - whole).max() <= 0.5 * grain + HALF_STEP_ERR
    return round(slope, 9), round(whole if near_whole or not through else offset, 9)


def _slopes(numbers: Floats, values: Floats, grain: float) -> tuple[float, float] | None:
    """Between which slopes a line passes all values within half a grain; None where none does.

    Each two numbers bound it: what lies higher by more than the line rises, and a grain, is not on it.
    """
    distinct, of = np.unique(numbers, return_inverse=True)
    most, highest, lowest = grain + 2 * HALF_STEP_ERR, np.full(distinct.size, -np.inf), np.full(distinct.size, np.inf)
    np.maximum.at(highest, of, values)
    np.minimum.at(lowest, of, values)
    if (highest - lowest > most).any():
        return None
    some = np.unique(np.linspace(0, distinct.size - 1, MOST_BOUNDED).astype(np.intp))
    one, other = np.tril_indices(some.size, -1)
    above, below = some[one], some[other]
    run = distinct[above] - distinct[below]
    least = float(((highest[above] - lowest[below] - most) / run).max())
    greatest = float(((lowest[above] - highest[below] + most) / run).min())
    return (least, greatest) if least <= greatest else None


def _simplest(low: float, high: float) -> float:
    """The scale between two that has the fewest decimals: degrees Fahrenheit and parts of a power of two have as few
    as any.
    """
    middle = (low + high) / 2
    for decimals in range(1, 9):
        known: list[float] = [sign * scale / 10**decimals for scale in FAHRENHEIT for sign in (1, -1)]
        known += [sign / 2**decimals for sign in (1, -1)]
        nearest = min(known, key=lambda scale: abs(scale - middle))
        if low <= nearest <= high:
            return nearest
        rounded = round(middle, decimals)
        if low <= rounded <= high:
            return rounded
    return middle
