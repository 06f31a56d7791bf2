"""Which bits carry a number that somebody read off a display or typed.

Two ways. *Planes*: were the number binary with some offset, each of its bits would be known for every row; the columns
that say the same are its bits, wherever they stand. *Windows*: bits in a row read as a number, and a straight line laid
through the labels, which allows for any scale and for labels that were rounded.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from math import comb, gcd, log10
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from eager_tern.compare.stack import ENOUGH_ROWS, BitRows, raw_numbers
from eager_tern.signal.values import Floats

Encoding = Literal["binary", "signed", "bcd", "gray"]
Ints = NDArray[np.int64]

MOST_PLANES = 14
WIDEST = 16
MOST_STATES = 400
PLANES_ABOVE = 3  # beyond those of the labels' range: an offset may carry them over a higher border
DECIMALS = 4
GRAY_PLANES = 8
PARTS_OF_STEP = (
    1,
    5,
    3,
    15,
    25,
)  # what is set in tens of minutes may be sent in minutes; an even part only shifts bits
PAIRS = 48  # of rows, whose slopes are asked for the median
NICE = (1.0, 0.5, 0.1, 0.25, 0.2, 2.0, 5.0, 10.0, 0.05, 0.01)
LEAST_DISTINCT = 3
FEWEST_ROUNDED = 6
FEW_WRONG = 2  # rows in which a column may always differ from what a plane should be
PIECE_IN_ROWS = 2


@dataclass(frozen=True)
class Number:
    """A field found for a number. ``positions`` run from the most significant bit to the least.

    value = scale × (raw read through ``encoding``) + offset; ``holds`` tells of each row that was looked at whether it
    does. ``chance`` is the common logarithm of the probability of an accident, given all that was tried.
    """

    positions: tuple[int, ...]
    encoding: Encoding
    scale: float
    offset: float
    holds: NDArray[np.bool_]
    chance: float

    @property
    def pieces(self) -> int:
        """How many runs of neighbouring bits the positions are in."""
        steps = np.diff(self.positions)
        if steps.size == 0:
            return 1
        direction = 1 if np.sum(steps == 1) >= np.sum(steps == -1) else -1
        return 1 + int(np.sum(steps != direction))


def find_number(
    bits: BitRows, columns: NDArray[np.intp], values: Floats, errors: int, windows: bool = True
) -> list[Number]:
    """The fields that explain the values (shape (rows,), all known), best first.

    ``columns`` are those that may be used, ``errors`` the rows that may contradict; ``windows``: by any line, too.
    """
    if np.unique(values).size < 2 or columns.size == 0:
        return []
    step = _step(values)
    found: list[Number] = []
    for part in PARTS_OF_STEP:
        found += _by_planes(bits, columns, values, step / part, errors)
        if any(number.holds.all() for number in found):
            break
    if not any(number.holds.all() for number in found):
        found += _by_other_codes(bits, columns, values, step, errors)
    if windows and not found:
        found += _by_windows(bits, columns, values, step, errors)
    enough = [n for n in found if np.sum(~n.holds) <= errors and (n.encoding != "signed" or n.offset == 0)]
    enough = [n for n in enough if _no_value_fails(n.holds, values)]
    return sorted(enough, key=lambda n: (_cost(n), len(n.positions), n.encoding != "binary"))


def _no_value_fails(holds: NDArray[np.bool_], values: Floats) -> bool:
    """Whether no value is contradicted most of the times that it was set: that is no mistake but another code."""
    return all(holds[at].mean() >= 0.5 for value in np.unique(values) if np.sum(at := values == value) > 1)


def _cost(number: Number) -> int:
    """Rows that contradict, and a field in pieces is to be worth its pieces: a damaged frame must not break it up."""
    return int(np.sum(~number.holds)) + PIECE_IN_ROWS * (number.pieces - 1)


def _step(values: Floats) -> float:
    """The greatest step of which all differences are multiples, to four decimals."""
    whole = np.rint(np.unique(values) * 10**DECIMALS).astype(np.int64)
    return float(gcd(*np.diff(whole).tolist()) / 10**DECIMALS)


# By planes


@dataclass(frozen=True)
class _State:
    """The lowest planes matched: ``offset`` is what was added to the numbers, ``choices`` the columns of each plane."""

    offset: int
    turned: bool
    choices: tuple[tuple[int, ...], ...]


def _by_planes(bits: BitRows, columns: NDArray[np.intp], values: Floats, step: float, errors: int) -> Iterator[Number]:
    q = _steps(values, step)
    if int(q.max()).bit_length() > MOST_PLANES:
        return
    signs = _signs(bits, columns)
    tried: set[tuple[object, ...]] = set()  # offsets that differ in constant bits on top have the same columns
    low = round(values.min() / step)
    states = [_State(0, False, ()), _State(0, True, ())]
    for plane in range(int(q.max()).bit_length() + PLANES_ABOVE):
        states = [each for state in states for each in _grown(state, plane, q, signs, columns, errors)][:MOST_STATES]
        for state in states:
            number = q + state.offset
            above = number >> (plane + 1)
            width = plane + 1
            key = (state.choices, state.turned)
            if (above == above[0]).all():
                if key not in tried:
                    tried.add(key)
                    yield from _assembled(bits, values, state, "binary", step)
            elif state.offset == low & ((1 << width) - 1) and _is_signed(number, plane):
                yield from _assembled(bits, values, state, "signed", step)


def _steps(values: Floats, step: float) -> Ints:
    """The values in steps from the least."""
    steps: Ints = np.rint((values - values.min()) / step).astype(np.int64)
    return steps


def _signs(bits: BitRows, columns: NDArray[np.intp]) -> NDArray[np.float32]:
    """The columns as +1 and −1, shape (rows, columns)."""
    return bits[:, columns].astype(np.float32) * 2 - 1


def _is_signed(number: Ints, plane: int) -> bool:
    """Whether the highest plane tells negative numbers, as two's complement has them."""
    above = number >> (plane + 1)
    return bool(above.max() - above.min() == 1 and ((number >> plane & 1) == (above == above.min())).all())


def _grown(
    state: _State, plane: int, q: Ints, signs: NDArray[np.float32], columns: NDArray[np.intp], errors: int
) -> Iterator[_State]:
    """The state with one plane more, for either bit of the offset."""
    for bit in (0, 1):
        offset = state.offset | bit << plane
        wanted = (q + offset) >> plane & 1
        if plane > int(q.max()).bit_length() and (wanted == wanted[0]).all():
            continue  # nothing is gained by constant bits on top
        choices = _alike(wanted, state.turned, signs, columns, errors)
        if choices is not None:
            yield _State(offset, state.turned, (*state.choices, choices))


def _alike(
    wanted: Ints, turned: bool, signs: NDArray[np.float32], columns: NDArray[np.intp], errors: int
) -> tuple[int, ...] | None:
    """The columns that say what is wanted, nearest first; none are needed where it is always the same."""
    if (wanted == wanted[0]).all():
        return ()
    target = (wanted * 2 - 1).astype(np.float32) * (-1 if turned else 1)
    wrong = (len(wanted) - target @ signs) / 2
    # A plane that is mostly 0 would else be like any column that is.
    fewer = min(int(wanted.sum()), int(len(wanted) - wanted.sum()))
    near = np.flatnonzero(wrong <= min(errors, max((fewer - 1) // 2, min(fewer - 1, FEW_WRONG))))
    if near.size == 0:
        return None
    return tuple(columns[near[np.argsort(wrong[near], kind="stable")]].tolist())


def _by_other_codes(
    bits: BitRows, columns: NDArray[np.intp], values: Floats, step: float, errors: int
) -> Iterator[Number]:
    """Gray code with any offset, binary-coded decimal with none."""
    q, signs = _steps(values, step), _signs(bits, columns)
    width = int(q.max()).bit_length()
    if 2 <= width <= GRAY_PLANES:
        for offset in range(1 << (width + 1)):
            number = q + offset
            yield from _matched(bits, columns, values, "gray", step, number ^ number >> 1, signs, errors)
    for unit in dict.fromkeys((step, 1.0, 0.1)):
        decimal = np.rint(values / unit).astype(np.int64)
        if decimal.min() >= 0 and 10 <= decimal.max() < 10**5 and np.allclose(decimal * unit, values):
            coded = sum((decimal // 10**digit % 10) << 4 * digit for digit in range(len(str(decimal.max()))))
            yield from _matched(bits, columns, values, "bcd", unit, np.asarray(coded), signs, errors)


def _matched(
    bits: BitRows, columns: NDArray[np.intp], values: Floats, encoding: Encoding, step: float, coded: Ints,
    signs: NDArray[np.float32], errors: int,
) -> Iterator[Number]:  # fmt: skip
    """The field whose planes are those of ``coded``."""
    choices = []
    for plane in range(int(coded.max()).bit_length()):
        found = _alike(coded >> plane & 1, False, signs, columns, errors)
        if found is None:
            return
        choices.append(found)
    state = _State(0, False, tuple(choices))
    yield from _assembled(bits, values, state, encoding, step)


def _assembled(bits: BitRows, values: Floats, state: _State, encoding: Encoding, step: float) -> Iterator[Number]:
    """The field with the columns that lie best; its scale and offset from what they say."""
    chosen = _in_a_row(state.choices)
    positions = _filled(chosen, bits)
    if encoding == "bcd" and positions:
        positions = _whole_digits(positions, bits)
    if not positions:
        return
    if encoding == "signed":
        positions = _with_sign(positions, bits)
    raw = decoded(raw_numbers(bits, positions), encoding, len(positions))
    scale = -step if state.turned else step
    offset = round(float(np.median(values - raw * scale)), 9)
    holds = np.abs(raw * scale + offset - values) < 1e-6 * max(1.0, step)
    planes = [column for column in chosen if column is not None]
    yield Number(
        positions, encoding, scale, offset, holds, _chance(bits, planes, int(np.sum(~holds)), len(state.choices))
    )


def _in_a_row(choices: Sequence[tuple[int, ...]]) -> list[int | None]:
    """One column for each plane, so that as many as can be are neighbours (dynamic programming from the lowest up)."""
    # best[column, direction] = (score, the columns so far)
    best: dict[tuple[int, int], tuple[float, list[int | None]]] = {(-9, 0): (0.0, [])}
    for options in choices:
        grown: dict[tuple[int, int], tuple[float, list[int | None]]] = {}
        for (last, direction), (score, path) in best.items():
            for rank, column in enumerate(options or (None,)):
                if column is None:
                    grown[last + direction if last >= 0 else last, direction] = (score, [*path, None])
                    continue
                if column in path:
                    continue
                way = column - last if abs(column - last) == 1 and last >= 0 else 0
                gain = (2.0 if way and way == direction else 1.5 if way else 0.0) - 0.01 * rank
                key = (column, way or direction)
                if key not in grown or grown[key][0] < score + gain:
                    grown[key] = (score + gain, [*path, column])
        best = dict(sorted(grown.items(), key=lambda item: -item[1][0])[:60])
        if not best:
            return []
    return max(best.values(), key=lambda item: item[0])[1]


def _filled(chosen: list[int | None], bits: BitRows) -> tuple[int, ...]:
    """Positions from the highest bit to the lowest; a plane that never changed takes the column between its neighbours.

    Empty where there is none.
    """
    while chosen and chosen[-1] is None:
        chosen = chosen[:-1]
    if not chosen or chosen[0] is None:
        return ()
    found: list[int] = []
    for plane, column in enumerate(chosen):
        if column is not None:
            found.append(column)
            continue
        direction = found[-1] - found[-2] if len(found) > 1 else _direction_above(chosen, plane)
        between = found[-1] + direction
        if abs(direction) != 1 or not 0 <= between < bits.shape[1] or (bits[:, between] != bits[0, between]).any():
            return ()
        found.append(between)
    return tuple(found[::-1])


def _whole_digits(positions: tuple[int, ...], bits: BitRows) -> tuple[int, ...]:
    """The positions with the zeros in front that make four bits of each digit; empty where something else stands."""
    missing = -len(positions) % 4
    direction = positions[0] - positions[1] if len(positions) > 1 else 0
    front = [positions[0] + direction * n for n in range(missing, 0, -1)]
    zeros = all(0 <= column < bits.shape[1] and not bits[:, column].any() for column in front)
    return (*front, *positions) if abs(direction) == 1 and zeros else ()


def _with_sign(positions: tuple[int, ...], bits: BitRows) -> tuple[int, ...]:
    """The positions of a signed number with the columns above that only repeat its sign."""
    direction = positions[0] - positions[1] if len(positions) > 1 else 0
    above = positions[0] + direction
    spared = 1 if len(bits) >= ENOUGH_ROWS else 0
    while abs(direction) == 1 and 0 <= above < bits.shape[1]:
        if np.sum(bits[:, above] != bits[:, positions[0]]) > spared:
            break
        positions = (above, *positions)
        above += direction
    return positions


def _direction_above(chosen: list[int | None], plane: int) -> int:
    above = next(i for i in range(plane, len(chosen)) if chosen[i] is not None)
    top, below = chosen[above], chosen[plane - 1]
    assert top is not None
    assert below is not None
    distance = top - below
    return int(np.sign(distance)) if abs(distance) == above - plane + 1 else 0


def _chance(bits: BitRows, planes: Sequence[int], errors: int, levels: int) -> float:
    """log10 of how likely columns as these say the same by accident, for every column and offset that was tried."""
    rows, columns = bits.shape
    score = 0.3 * levels  # the offsets
    for column in planes:
        ones = int(bits[:, column].sum())
        score += log10(columns) - log10(comb(rows, min(ones, rows - ones)))
    return float(score + len(planes) * log10(comb(rows, errors))) if errors else score


def decoded(raw: Ints, encoding: Encoding, width: int) -> Ints:
    """The numbers that raw ones of ``width`` bits stand for."""
    if encoding == "signed":
        return raw - ((raw >> (width - 1)) << width)
    if encoding == "gray":
        number = raw.copy()
        for shift in (1, 2, 4, 8, 16):
            number ^= number >> shift
        return number
    if encoding == "bcd":
        return np.asarray(sum((raw >> 4 * digit & 15) * 10**digit for digit in range(width // 4)))
    return raw


# By windows


def _by_windows(bits: BitRows, columns: NDArray[np.intp], values: Floats, step: float, errors: int) -> list[Number]:
    """Runs of bits, either order, through which a straight line goes within half a step of the labels."""
    usable = np.zeros(bits.shape[1], np.bool_)
    usable[columns] = True
    steady = (bits == bits[:1]).all(axis=0)
    inside = np.concatenate(([0], np.cumsum(~(usable | steady))))
    rng = np.random.default_rng(1)
    first, second = rng.integers(0, len(values), (2, PAIRS * 4))
    apart = values[first] != values[second]
    first, second = first[apart][:PAIRS], second[apart][:PAIRS]
    found = []
    for width in range(2, WIDEST + 1):
        starts = [
            a for a in columns.tolist()
            if a + width <= bits.shape[1] and usable[a + width - 1] and inside[a + width] == inside[a]
        ]  # fmt: skip
        for turned in (False, True):
            for encoding in ("binary", "signed"):
                rows = [range(a, a + width) if not turned else range(a + width - 1, a - 1, -1) for a in starts]
                if not rows:
                    continue
                raws = np.stack([decoded(raw_numbers(bits, list(row)), encoding, width) for row in rows])
                found += _on_lines(bits, rows, raws, values, step, errors, (first, second), encoding)
    return found


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
    slopes = np.nanmedian((values[first] - values[second]) / run, axis=1)
    offsets = np.median(values - slopes[:, None] * raws, axis=1)
    near = np.abs(values - slopes[:, None] * raws - offsets[:, None]) <= 0.75 * step
    found = []
    for at in np.flatnonzero(np.sum(~near, axis=1) <= errors + 0.15 * len(values)).tolist():
        line = _fitted(raws[at], values, near[at], step)
        if line is None:
            continue
        scale, offset = line
        holds = np.abs(values - scale * raws[at] - offset) <= 0.5 * step + 1e-6
        distinct = np.unique(raws[at][holds]).size
        if np.sum(~holds) > errors or distinct < LEAST_DISTINCT:
            continue
        exact = np.abs(values - scale * raws[at] - offset)[holds].max() < 1e-6
        # Labels that were rounded are coarser than what was read, and there are enough of them to tell.
        if not exact and (abs(scale) > 0.5 * step or np.unique(values[holds]).size < FEWEST_ROUNDED):
            continue
        spread = np.ptp(values[holds]) / step + 1
        chance = -(np.sum(holds) - 2) * log10(spread) + log10(4 * WIDEST * bits.shape[1])
        if errors:
            chance += log10(comb(len(values), int(np.sum(~holds))))
        found.append(Number(tuple(rows[at]), encoding, scale, offset, holds, chance))
    return found


def _fitted(raw: Ints, values: Floats, near: NDArray[np.bool_], step: float) -> tuple[float, float] | None:
    """The line through the labels that are near one, with a scale that somebody would choose if any such fits."""
    if np.unique(raw[near]).size < 2:
        return None
    slope, offset = (float(part) for part in np.polyfit(raw[near], values[near], 1))
    free = step / max(int(raw[near].max() - raw[near].min()), 1)
    nice = [sign * scale for scale in NICE for sign in (1, -1) if abs(sign * scale - slope) <= free]
    if nice:
        slope = nice[int(np.argmin(np.abs(np.array(nice) - slope)))]
        middle = np.median(values[near] - slope * raw[near])
        rest = values[near] - slope * raw[near]
        offset = (rest.max() + rest.min()) / 2 if np.ptp(rest) <= step else middle
        grain = min(step, abs(slope))
        whole = round(offset / grain) * grain
        offset = whole if np.abs(rest - whole).max() <= 0.5 * step + 1e-6 or np.ptp(rest) > step else offset
    return round(float(slope), 9), round(float(offset), 9)
