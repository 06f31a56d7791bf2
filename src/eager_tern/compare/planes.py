"""Numbers found plane by plane, wherever their bits stand.

Were a number binary with some offset, each of its bits would be known for every row; the columns that say the same are
its bits.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from math import comb, log10

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.contiguous import laid_cost, offset_cost
from eager_tern.compare.evidence import turns
from eager_tern.compare.number import Encoding, Ints, Number, decoded
from eager_tern.compare.stack import ENOUGH_ROWS, BitRows, raw_numbers
from eager_tern.signal.order import median
from eager_tern.signal.values import Floats

MOST_PLANES = 14
MOST_STATES = 400
PLANES_ABOVE = 3  # beyond those of the labels' range: an offset may carry them over a higher border
GRAY_PLANES = 8
FEW_WRONG = 2  # rows in which a column may always differ from what a plane should be


class _State(Struct, frozen=True):
    """The lowest planes matched: ``offset`` is what was added to the numbers, ``choices`` the columns of each plane."""

    offset: int
    turned: bool
    choices: tuple[tuple[int, ...], ...]


def by_planes(bits: BitRows, columns: NDArray[np.intp], values: Floats, step: float, errors: int) -> Iterator[Number]:
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


def by_other_codes(
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
    offset = round(median(values - raw * scale), 9)
    holds = np.abs(raw * scale + offset - values) < 1e-6 * max(1.0, step)
    planes = [column for column in chosen if column is not None]
    chance = _chance(bits, planes, int(np.sum(~holds)), len(state.choices))
    cost = laid_cost(bits, positions, encoding, scale, offset) + offset_cost(offset, scale)
    yield Number(positions, encoding, scale, offset, holds, chance, chance, cost)


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
    """The positions with the zeros in front that make four bits of each digit, or as they are where something else
    stands there; empty where they are in no row.
    """
    missing = -len(positions) % 4
    direction = positions[0] - positions[1] if len(positions) > 1 else 0
    front = [positions[0] + direction * n for n in range(missing, 0, -1)]
    zeros = all(0 <= column < bits.shape[1] and not bits[:, column].any() for column in front)
    if abs(direction) != 1:
        return ()
    return (*front, *positions) if zeros else positions


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
    rows, varying = len(bits), int(np.count_nonzero(np.ptp(bits, axis=0)))
    score = 0.3 * levels  # the offsets
    for column in planes:
        score += log10(varying) - turns(bits[:, column])
    return float(score + len(planes) * log10(comb(rows, errors))) if errors else score
