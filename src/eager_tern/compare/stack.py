"""The stack: frames of one gadget laid under one another, bit under bit, with what was said about each."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from itertools import accumulate
from typing import Any, TypeVar

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from eager_tern.protocol.positions import numbers_of
from eager_tern.signal.values import Floats

ENOUGH_ROWS = 12  # beside which one may be damaged
BitRows = NDArray[np.uint8]
Label = float | str | None
Answer = TypeVar("Answer", int, bool)


class Stack(Struct, frozen=True, dict=True):
    """``bits`` has shape (rows, columns), rows in shooting order. ``labels`` name what was varied: a value a row, None
    where it is not known. ``sections`` are the bits of each section."""

    bits: BitRows
    labels: Mapping[str, tuple[Label, ...]] = field(default_factory=dict)
    sections: tuple[int, ...] = ()

    @property
    def rows(self) -> int:
        return len(self.bits)

    @property
    def columns(self) -> int:
        return int(self.bits.shape[1])

    @cached_property
    def varies(self) -> NDArray[np.bool_]:
        """Whether a column is not the same in all rows."""
        varies: NDArray[np.bool_] = (self.bits != self.bits[:1]).any(axis=0)
        return varies

    @cached_property
    def varying(self) -> NDArray[np.intp]:
        """The columns that are not the same in all rows."""
        return np.flatnonzero(self.varies)

    @cached_property
    def steady(self) -> NDArray[np.bool_]:
        """Whether a column is the same in all rows, but for one that may be damaged."""
        ones = self.bits.sum(axis=0)
        least: NDArray[np.bool_] = np.minimum(ones, self.rows - ones) <= (1 if self.rows >= ENOUGH_ROWS else 0)
        return least

    @cached_property
    def constant(self) -> NDArray[np.intp]:
        return np.flatnonzero(~self.varies)

    def most_alike(self, first: int, width: int) -> int:
        """In how many rows a run of bits says what it says in most."""
        return self.answered(_most_alike, first, width)

    def answered(self, question: Callable[[BitRows, int, int], Answer], first: int, width: int) -> Answer:
        """What a question says of a run of bits; every search for a check asks it of every place."""
        key = question, first, width
        if key not in self._answers:
            self._answers[key] = question(self.bits, first, width)
        answer: Answer = self._answers[key]
        return answer

    @cached_property
    def _answers(self) -> dict[object, Any]:
        return {}

    def of_rows(self, rows: Sequence[int] | NDArray[np.intp]) -> Stack:
        """The stack of some of its rows."""
        labels = {name: tuple(values[row] for row in rows) for name, values in self.labels.items()}
        return Stack(self.bits[rows], labels, self.sections)

    def section_start(self, column: int) -> int:
        """Where the section begins that a column is in."""
        return max(start for start, _ in self.section_bounds if start <= column)

    @cached_property
    def section_bounds(self) -> list[tuple[int, int]]:
        """Where each section begins, and where it ends (not included)."""
        ends = list(accumulate(self.sections or (self.columns,)))
        return list(zip([0, *ends[:-1]], ends, strict=True))


def _most_alike(bits: BitRows, first: int, width: int) -> int:
    return int(np.unique(raw_numbers(bits, range(first, first + width)), return_counts=True)[1].max())


def numbers(values: Sequence[Label]) -> Floats | None:
    """A label's values as numbers, NaN where not known; None where they are words."""
    if any(isinstance(value, str) for value in values):
        return None
    return np.array([np.nan if value is None else float(value) for value in values])


def runs_of(positions: Sequence[int]) -> list[NDArray[np.intp]]:
    """Positions in their order, parted where two are no neighbours."""
    return np.split(np.array(positions, np.intp), np.flatnonzero(np.abs(np.diff(positions)) != 1) + 1)


def raw_numbers(bits: BitRows, positions: Sequence[int] | NDArray[np.intp]) -> NDArray[np.int64]:
    """The number at some positions (most significant first) in each row, shape (rows,)."""
    return numbers_of(bits[:, np.asarray(positions, np.intp)])


def as_integers(bits: BitRows, columns: Sequence[int]) -> list[int]:
    """Each row's bits at some columns as one number, the first the highest; equal rows once, in their order."""
    packed = np.packbits(bits[:, np.asarray(columns, np.intp)], axis=1)
    size, spare = packed.shape[1], -len(columns) % 8
    text = packed.tobytes()
    every = (int.from_bytes(text[at : at + size], "big") >> spare for at in range(0, len(text), size))
    return list(dict.fromkeys(every))


def label_word(value: Label) -> str:
    """A label's value as a person writes it."""
    return f"{value:g}" if isinstance(value, float) else str(value)
