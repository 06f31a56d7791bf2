"""The rest of a field: low bits that never changed, constant ones above, and the order in which a word's are read."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

from msgspec.structs import replace

from eager_tern.compare.checks import BYTE
from eager_tern.compare.field import Field, Linear, Table
from eager_tern.compare.number import NEXT_BYTE
from eager_tern.compare.stack import Stack
from eager_tern.compare.windows import FAHRENHEIT

FEWEST_ABOVE = 2  # constant bits: one is there by accident too often
NEARLY_WHOLE = 1e-6  # scales and offsets are kept with nine digits


def steps_down(fields: Sequence[Field], lowest_first: bool) -> int:
    """By how much a position is above the next lower bit's in most numbers: 1 where the lowest bit is sent first."""
    steps = [f.positions[0] - f.positions[1] for f in fields if len(f.positions) > 2 and isinstance(f.map, Linear)]
    up, down = sum(step > 0 for step in steps), sum(step < 0 for step in steps)
    return 1 if (lowest_first if up == down else up > down) else -1


def in_order(field: Field, step: int) -> Field:
    """A field of words whose bits stand in a row, read in the order in which the frame's numbers are."""
    run, table = field.positions, field.map
    if not isinstance(table, Table) or table.ruled or len(run) < 2 or {a - b for a, b in pairwise(run)} != {-step}:
        return field
    words = {int(f"{raw:0{len(run)}b}"[::-1], 2): word for raw, word in table.words.items()}
    return replace(field, positions=run[::-1], map=Table(words))


def completed(fields: Sequence[Field], stack: Stack, claimed: set[int]) -> list[Field]:
    """The fields with low bits that never changed: where only every second value was set, the bit below stayed.

    Of a field of one bit, which side is below is as in the others.
    """
    steps = [f.positions[0] - f.positions[1] for f in fields if len(f.positions) > 1]
    usual = -1 if sum(step < 0 for step in steps) > sum(step > 0 for step in steps) else 1
    steady = stack.bits.min(axis=0) == stack.bits.max(axis=0)
    out = []
    for field in fields:
        line, positions = field.map, field.positions
        while isinstance(line, Linear) and line.encoding == "binary" and line.scale % 2 == 0:
            step = positions[0] - positions[1] if len(positions) > 1 else usual
            below = positions[-1] - step
            if not 0 <= below < stack.columns or not steady[below] or below in claimed:
                break
            positions = (*positions, below)
            half = line.scale / 2
            line = replace(line, scale=half, offset=line.offset - half * int(stack.bits[0, below]))
            claimed.add(below)
        out.append(_with_bits_above(replace(field, map=line, positions=positions), stack, claimed))
    return out


def _with_bits_above(field: Field, stack: Stack, claimed: set[int]) -> Field:
    """The field with the constant bits above it, where they say what its offset adds: then it is a part of a number."""
    line, positions = field.map, field.positions
    if not isinstance(line, Linear) or line.encoding != "binary" or line.scale <= 0 or len(positions) < 2:
        return field
    freezing = _freezing_at(line.scale)
    fewest = FEWEST_ABOVE if freezing is None else 1  # where it is cold is no accident
    origin = freezing or 0.0
    added = (line.offset - origin) / line.scale
    above, rest = divmod(round(added), 1 << len(positions))
    step, width = positions[-2] - positions[-1], above.bit_length()
    if abs(added - round(added)) > NEARLY_WHOLE or rest or above < 0 or width < fewest or abs(step) != 1:
        return field
    # Behind a byte's highest bit comes its neighbour, or the lowest bit of the next byte.
    for jump in (step, -NEXT_BYTE * step):
        columns = _above(positions[0], step, jump, width)
        inside = all(0 <= c < stack.columns and c not in claimed for c in columns)
        if inside and all((stack.bits[:, c] == (above >> n & 1)).all() for n, c in enumerate(columns)):
            return replace(field, map=replace(line, offset=origin), positions=(*columns[::-1], *positions))
    return field


def _freezing_at(scale: float) -> float | None:
    """What a number of 0 stands for in degrees Celsius, where it counts degrees Fahrenheit or parts of ten of them."""
    parts = FAHRENHEIT[0] / scale
    return -32 * FAHRENHEIT[0] if any(abs(parts - ten) < NEARLY_WHOLE * ten for ten in (1, 10)) else None


def _above(highest: int, step: int, jump: int, width: int) -> list[int]:
    """The next higher bits of a number, lowest first; ``jump`` leads from one of its bytes to the next."""
    columns, at = [], highest
    for _ in range(width):
        at += jump if at % BYTE == (0 if step < 0 else BYTE - 1) else step
        columns.append(at)
    return columns
