"""Frames that stand alone, with a mark or a space lost."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import random_press, record


def read_alone(signed: list[float], rng: np.random.Generator) -> list[Frame]:
    noisy = record([-3e5, *signed, -3e5], rng, jitter_us=20, excess_us=20)
    return read_pulses(pulses_from_signed(noisy), library()).frames


def joined_at(signed: list[float], at: int) -> list[float]:
    """The frame without the pulse ``at``, which those beside it take up."""
    whole = sum(map(abs, signed[at - 1 : at + 2]))
    return [*signed[: at - 1], float(np.copysign(whole, signed[at - 1])), *signed[at + 2 :]]


def sure_and_wrong(rng: np.random.Generator, protocols: Sequence[str], each: int, lost: int) -> tuple[int, int]:
    """How many lone frames without one mark (``lost`` 0) or space (1) are taken for something else above 0.9, and of
    how many.
    """
    sure = asked = 0
    for protocol in protocols:
        for toggle in range(each):
            press, sent = random_press(rng, protocol, toggle % 2)
            frame = press[: next((i for i, d in enumerate(press) if d < -9000), len(press))]
            asked += 1
            for found in read_alone(joined_at(frame, 2 * int(rng.integers(2, len(frame) // 2 - 1)) + lost), rng):
                wrong = any(found.reading.fields.get(name) != value for name, value in sent.fields.items())
                sure += found.reading.confidence > 0.9 and (found.reading.protocol != sent.protocol or wrong)
    return sure, asked
