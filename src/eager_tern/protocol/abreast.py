"""The pulses of many frames in one row, so that a question is put to all of them at once."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.linecode.lengths import centres_of, lengths_of
from eager_tern.protocol.presses import Frame
from eager_tern.signal.values import Floats


class Abreast(Struct, frozen=True, dict=True):
    """Of each pulse, shape (n,): its frame's number, its place in it, the number of its group (the marks of a frame,
    or its spaces), how long it is and how long it should be; NaN where it belongs to no bit.

    ``firsts`` are the frames' first pulses, and ``symbols`` how many their codes have, shape (frames,) both.
    """

    frame: NDArray[np.intp]
    place: NDArray[np.intp]
    group: NDArray[np.intp]
    durations_us: Floats
    expected_us: Floats
    firsts: NDArray[np.intp]
    symbols: NDArray[np.intp]

    @cached_property
    def lengths_us(self) -> Floats:
        """The lengths that each group's bits have; as ``lengths_of`` gives them."""
        told = ~np.isnan(self.expected_us)
        return lengths_of(self.expected_us[told], self.group[told], 2 * self.firsts.size)

    @property
    def centres_us(self) -> Floats:
        """The same, those of one symbol together; as ``centres_of`` gives them."""
        return centres_of(self.lengths_us, np.repeat(self.symbols, 2))


def abreast(frames: Sequence[Frame]) -> Abreast:
    """The pulses that these frames were read from; there is one frame at least, and each has a reading."""
    sizes = np.array([frame.as_read.durations_us.size for frame in frames], np.intp)
    firsts = np.cumsum(sizes) - sizes
    number = np.repeat(np.arange(sizes.size), sizes)
    place = np.arange(number.size) - firsts[number]
    return Abreast(
        number,
        place,
        2 * number + place % 2,
        np.concatenate([frame.as_read.durations_us for frame in frames]),
        np.concatenate([frame.reading.expected_us for frame in frames]),
        firsts,
        np.array([frame.reading.symbols for frame in frames], np.intp),
    )
