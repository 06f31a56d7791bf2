"""Which frames may lie in a line with errors at all: what a glance rules out before the likeliest is sought."""

from __future__ import annotations

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.likeliest import SLIPS, STEPS, CodeShape, units_tried
from eager_tern.signal.evidence import LineEvidence
from eager_tern.signal.values import Floats, Pulses

MOST_GLITCHES = 4  # pulses in a burst that are none of the frame that it is
FEWEST_CELLS = 0.9  # of a frame's length in units: that of its bits, and of its rests, is not quite the sheet's
LEAST_AGREEMENT = 0.75  # of what a line without errors would gain
# Of a frame's length, what then can be on the wrong level.
MOST_WRONG = (1 - LEAST_AGREEMENT) * LineEvidence.RIGHT / (LineEvidence.RIGHT - LineEvidence.WRONG)
ON_GRID = (max(SLIPS) + 0.5) / STEPS  # of a unit, which a pulse may differ on the grid of times from what it should be


def may_lie(shape: CodeShape, pulses: Pulses, unit_us: tuple[float, float] | None) -> CodeShape | None:
    """The shape with its unit narrowed down to what can lie in the pulses, None where no frame can.

    Where the unit is not known, nothing but the frame stands there: it is all of the pulses but a few strays.
    """
    if unit_us is None and not _about_as_many(shape, pulses):
        return None
    low, high = shape.unit_us
    if unit_us is not None:
        low, high = max(low, unit_us[0]), min(high, unit_us[1])
    leader, zero, one, trailer = (sum(map(abs, part)) for part in (shape.leader, shape.zero, shape.one, shape.trailer))
    high = min(high, pulses.duration_us / (FEWEST_CELLS * (leader + shape.bits * min(zero, one) + trailer)))
    if unit_us is None and shape.bits:
        longest = leader + shape.bits * max(zero, one) + trailer
        low = max(low, FEWEST_CELLS * _without_strays_us(pulses, shape) / longest)
    if low >= high:
        return None
    narrowed = replace(shape, unit_us=(low, high))
    return _where_most_agrees(narrowed, pulses) if shape.bits else narrowed


def _where_most_agrees(shape: CodeShape, pulses: Pulses) -> CodeShape | None:
    """The shape with the units in which so much of the pulses could be right as a frame has to have.

    A pulse that is none of the code's lengths is wrong for at least as long as it differs from the nearest, or covers
    another one; no two marks share an edge, nor do two spaces. Each pair of pulses too few is wrong for a pulse, too.
    """
    units = units_tried(shape.unit_us)
    zero, one = (sum(map(abs, symbol)) for symbol in (shape.zero, shape.one))
    parts = [*shape.leader, *shape.zero, *shape.one, *shape.trailer]
    shortest = min(map(abs, parts))
    most = MOST_WRONG * (sum(map(abs, (*shape.leader, *shape.trailer))) + shape.bits * max(zero, one))
    size = pulses.durations_us.size
    wrong = np.zeros((2, units.size, size + 1))
    for of, sign in enumerate((1, -1)):
        in_units = pulses.durations_us[of::2] / units[:, None]
        lengths = _lengths(shape, [sign * part for part in parts if sign * part > 0])
        off = np.abs(in_units[..., None] - lengths).min(axis=2) - ON_GRID
        wrong[of, :, 1 + of :: 2] = np.clip(np.minimum(np.minimum(off, in_units), shortest), 0.0, None)
    fewest = min(max(_sizes(shape)[0] - int(2 * most / shortest), 1), size)
    wrong = wrong.cumsum(axis=2)
    agrees = (wrong[:, :, fewest:] - wrong[:, :, :-fewest]).max(axis=0).min(axis=1) <= most
    some = units[agrees]
    return replace(shape, unit_us=(float(some[0]), float(some[-1]))) if some.size else None


def _lengths(shape: CodeShape, parts: list[float]) -> Floats:
    """The lengths in units that marks, or spaces, have, whose parts those of symbols are."""
    joined = [one + other for one in parts for other in parts] if _joins(shape) else []
    return np.unique([*parts, *joined, *([] if parts else [np.inf])])


def _without_strays_us(pulses: Pulses, shape: CodeShape) -> float:
    """How long a frame of the shape is at least, if it is all of the pulses but the pairs that it has not."""
    strays = max(pulses.durations_us.size - _sizes(shape)[0], 0) // 2 + 1  # one pair for what was lost in the frame
    starts, ends = pulses.edge_times_us[0:-1:2], pulses.edge_times_us[1::2]
    if strays >= starts.size:
        return 0.0
    return float(np.min(ends[ends.size - 1 - strays :] - starts[: strays + 1]))


def _about_as_many(shape: CodeShape, pulses: Pulses) -> bool:
    """Whether a burst has as many pulses as a frame of the shape, give or take a few strays."""
    fewest, most = _sizes(shape)
    return fewest - 2 * MOST_GLITCHES <= pulses.durations_us.size <= most + 2 * MOST_GLITCHES


def _sizes(shape: CodeShape) -> tuple[int, int]:
    """How many pulses a frame of the shape has, at least and at most."""
    size = len(shape.leader) + len(shape.zero) * shape.bits + len(shape.trailer)
    return size // 2 if _joins(shape) else size, size


def _joins(shape: CodeShape) -> bool:
    """Whether pulses of neighbouring symbols make one."""
    return shape.zero[0] * shape.one[0] < 0
