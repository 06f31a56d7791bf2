"""A label's field: where it stands, and what its bits stand for."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.compare.number import Encoding, decoded
from eager_tern.compare.stack import BitRows, Label, Stack, raw_numbers


class Linear(Struct, frozen=True):
    """value = scale × number + offset, the number being read through ``encoding``; rounded, where ``decimals`` says."""

    scale: float
    offset: float
    encoding: Encoding = "binary"
    decimals: int | None = None


class Table(Struct, frozen=True):
    """A word, or a number that follows no line, for each raw number that was seen; of all numbers where they are
    ``ruled``, by a sign beside a magnitude or a part of a step sent apart.
    """

    words: dict[int, float | str]
    ruled: bool = False


class Field(Struct, frozen=True):
    """Bits that carry a label. ``positions`` run from the most significant to the least.

    ``looked_at`` are the rows with a known label in which the field means something (``when``), ``holds`` those of them
    in which its bits say the label. ``chance`` is log10 of the probability of an accident
    given what was tried, ``in_any_order`` the same were the presses in any order: what was set step by step, or in
    blocks, goes along with all else that changes so. ``others`` are fields that explain the label as well: copies of
    it, or what the data cannot tell apart. ``also`` are other descriptions of the same bits that say the same in every
    press: another width, offset or encoding; ``cost`` tells them apart (``Number``).
    """

    name: str
    positions: tuple[int, ...]
    map: Linear | Table
    looked_at: NDArray[np.intp]
    holds: NDArray[np.bool_]
    chance: float
    in_any_order: float
    when: Mapping[str, tuple[float | str, ...]]
    others: tuple[Field, ...] = ()
    also: tuple[Field, ...] = ()
    cost: float = 0.0

    @property
    def explained(self) -> int:
        return int(np.sum(self.holds))

    @property
    def contradicting(self) -> NDArray[np.intp]:
        """The rows whose labels their bits contradict."""
        return self.looked_at[~self.holds]

    @property
    def odds(self) -> list[float]:
        """How probable this description is, and each of those in ``also``, as makers lay numbers."""
        weights = [10.0 ** (self.cost - each.cost) for each in (self, *self.also)]
        return [weight / sum(weights) for weight in weights]

    def apart(self, stack: Stack) -> dict[str, list[Label]]:
        """The values of other labels with which it means nothing, as far as they were pressed."""
        return {
            other: [v for v in dict.fromkeys(stack.labels[other]) if v is not None and v not in allowed]
            for other, allowed in self.when.items()
        }

    def told_apart_by(self, other: Field) -> set[str]:
        """The labels by which no frame has both: they mean something in different kinds of messages."""
        both = self.when.keys() & other.when.keys()
        return {name for name in both if not set(self.when[name]) & set(other.when[name])}

    def shares_bits(self, other: Field) -> bool:
        return not set(self.positions).isdisjoint(other.positions)

    def says(self, bits: BitRows) -> list[Label]:
        """What the field says in each row; None for a number that stands for nothing."""
        raw = raw_numbers(bits, self.positions)
        if isinstance(self.map, Table):
            return [self.map.words.get(number) for number in raw.tolist()]
        number = decoded(raw, self.map.encoding, len(self.positions))
        digits = 9 if self.map.decimals is None else self.map.decimals
        return [round(value, digits) for value in (number * self.map.scale + self.map.offset).tolist()]
