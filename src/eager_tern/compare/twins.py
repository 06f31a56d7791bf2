"""Frames in which each byte is followed by its complement: all else is found in the bytes alone.

With their twins a sum over them is a constant, half of the exclusive-ors of a frame come out by themselves, and each
equation can be solved for any byte of it.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.compare.checks import Found
from eager_tern.compare.counters import Counter
from eager_tern.compare.field import Field
from eager_tern.compare.stack import Stack, runs_of
from eager_tern.protocol.positions import Positions

Columns = NDArray[np.intp]


def bytes_alone(stack: Stack, twins: Sequence[Found]) -> tuple[Stack, Columns]:
    """The stack without some bytes that only turn the one before, and the columns that it keeps."""
    columns = np.setdiff1d(np.arange(stack.columns), [column for twin in twins for column in twin.positions])
    sections = [int(np.sum((columns >= start) & (columns < end))) for start, end in stack.section_bounds]
    return Stack(stack.bits[:, columns], stack.labels, tuple(sections)), columns


def field_of_frame(field: Field, columns: Columns) -> Field:
    """A field that was found in some columns of a frame as one of the frame."""
    others, also = (tuple(field_of_frame(each, columns) for each in some) for some in (field.others, field.also))
    return replace(field, positions=_there(field.positions, columns), others=others, also=also)


def counter_of_frame(counter: Counter, columns: Columns) -> Counter:
    """A counter likewise."""
    return replace(counter, positions=_there(counter.positions, columns))


def check_of_frame(found: Found, columns: Columns) -> Found:
    """A check likewise; what it covers without a break may have breaks there."""
    check = found.check
    at, of, by = (None if each is None else _moved(each, columns) for each in (check.at, check.of, check.by))
    runs = [run for first, last in check.covers for run in runs_of(columns[first : last + 1].tolist())]
    covers = tuple((int(run[0]), int(run[-1])) for run in runs)
    return replace(found, check=replace(check, at=at, of=of, by=by, covers=covers))


def _moved(positions: Positions, columns: Columns) -> Positions:
    return Positions(columns[positions.index], positions.inverted)


def _there(positions: Sequence[int], columns: Columns) -> tuple[int, ...]:
    return tuple(columns[list(positions)].tolist())
