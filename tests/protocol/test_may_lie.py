"""What a glance rules out before the likeliest frame is sought, and what it never may."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.linecode.likeliest import CodeShape
from eager_tern.protocol.loading import library
from eager_tern.protocol.may_lie import may_lie
from eager_tern.protocol.shapes import code_shapes
from eager_tern.signal.values import Pulses, pulses_from_signed

SHAPES = [shape for shape in code_shapes(library()) if shape.bits]


def damaged(rng: np.random.Generator, shape: CodeShape, unit: float, strays: int) -> Pulses:
    """A frame of the shape as a receiver hears it, with a few strays; each turns a few dozen µs of the line."""
    bits = rng.integers(0, 2, shape.bits)
    parts = [*shape.leader, *(part for bit in bits for part in (shape.zero, shape.one)[bit]), *shape.trailer]
    edges = np.concatenate(([0.0], np.cumsum(np.abs(parts)))) * unit
    level = np.sign(parts)
    for at in rng.uniform(unit, edges[-1] - unit, strays).tolist():
        where = int(np.searchsorted(edges, at))
        edges = np.insert(edges, where, [at, at + 0.3 * unit])
        level = np.insert(level, where, [-level[where - 1], level[where - 1]])
    lengths = np.maximum(np.diff(edges) + rng.normal(0, 0.08 * unit, level.size), 0.05 * unit)
    return pulses_from_signed(np.array([-1e5, *(lengths * level)]))


@pytest.mark.parametrize("strays", [0, 2])
def test_a_frame_that_is_there_is_never_ruled_out(rng: np.random.Generator, strays: int) -> None:
    for shape in SHAPES:
        low, high = shape.unit_us
        unit = rng.uniform(0.3 * high + 0.7 * low, 0.7 * high + 0.3 * low)
        pulses = damaged(rng, shape, unit, strays)
        for known in (None, (0.9 * unit, 1.1 * unit)):
            narrowed = may_lie(shape, pulses, known)
            assert narrowed is not None, shape
            assert narrowed.unit_us[0] / 1.03 <= unit <= narrowed.unit_us[1] * 1.03


def test_most_of_what_chatter_could_be_is_ruled_out(rng: np.random.Generator, monkeypatch: pytest.MonkeyPatch) -> None:
    bursts = [Pulses(40 + rng.exponential(400, size)) for size in (2 * rng.integers(12, 40, 60) + 1).tolist()]

    def left() -> int:
        return sum(may_lie(shape, burst, None) is not None for burst in bursts for shape in SHAPES)

    with_a_glance = left()
    monkeypatch.setattr("eager_tern.protocol.may_lie.MOST_WRONG", 1.0)
    assert with_a_glance < 0.5 * left()
