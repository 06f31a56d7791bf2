"""What damage leaves of a frame, told from another section."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import UNKNOWN, read_frame
from eager_tern.protocol.take import read_pulses
from eager_tern.protocol.wholeness import is_damaged_copy
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import distance_frame, record

BITS = [1, 0, 1, 1, 0, 0, 1, 0, 1, 1, 1, 0, 0, 1, 0, 1, 1, 0, 1, 0, 0, 1, 1, 0, 1, 0, 0, 0, 1, 1, 0, 1]


def frame_of(bits: list[int], length: float = 1.0) -> Frame:
    """A frame that says these bits; ``length`` stretches its last mark, which says nothing, by a part of the whole."""
    signed = distance_frame([3000.0, -3000.0], 400.0, (1, 3), bits)
    signed[0] += (length - 1) * float(np.abs(signed).sum())
    pulses = pulses_from_signed(np.array(signed))
    return Frame(0, len(signed) - 1, pulses, read_frame(pulses, library()))


def as_long_as(frame: Frame, whole: Frame, part: float) -> Frame:
    return frame_of(frame.reading.bits.tolist(), 1 + part * whole.pulses.duration_us / frame.pulses.duration_us - 1)


@pytest.mark.parametrize(
    ("ahead", "odd", "behind", "part", "copy"),
    [
        (10, 4, 12, 1.0, True),
        (10, 4, 12, 0.965, True),
        (10, 4, 12, 0.95, False),
        (5, 8, 4, 1.0, True),
        (4, 10, 4, 1.0, False),
    ],
)
def test_damage_takes_bits_and_no_time(ahead: int, odd: int, behind: int, part: float, copy: bool) -> None:
    """Some bits at both ends are left as they were, some between them are others, the rest is lost."""
    whole = frame_of(BITS)
    left = [*BITS[:ahead], *[1 - bit for bit in BITS[ahead : ahead + odd - 1]], 1 - BITS[-behind - 1], *BITS[-behind:]]
    assert is_damaged_copy(as_long_as(frame_of(left), whole, part), whole) == copy


@pytest.mark.parametrize(("turned", "copy"), [(6, True), (10, False)])
def test_a_copy_of_as_many_bits_is_alike_in_most(turned: int, copy: bool) -> None:
    hurt = frame_of([*BITS[:10], *[1 - bit for bit in BITS[10 : 10 + turned]], *BITS[10 + turned :]])
    assert is_damaged_copy(as_long_as(hurt, frame_of(BITS), 1.0), frame_of(BITS)) == copy


def duty(bits: list[int], unit_us: float = 420.0) -> list[float]:
    return [d for bit in bits for d in ([3 * unit_us, -unit_us] if bit else [unit_us, -3 * unit_us])]


@pytest.mark.parametrize("presses", [1, 3])
def test_what_is_left_of_a_longer_frame_is_no_fixed_code(presses: int, rng: np.random.Generator) -> None:
    """The recording begins within a frame, of which as many bits are left as a fixed code has: a damaged copy."""
    bits = [*BITS, *BITS[::-1], *BITS[:8]]
    frame = [*duty(bits)[:-1], -43_000.0]
    signed = [*frame[-48:], *(frame * 2 * presses)]
    first, *others = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=10)), library()).frames
    assert first.reading.protocol == UNKNOWN
    assert first.mended
    assert all(frame.reading.bits.tolist() == bits for frame in (first, *others))


def test_a_fixed_code_is_itself_beside_a_longer_misreading(rng: np.random.Generator) -> None:
    bits = BITS[:24]
    copy = [*duty(bits), 420.0, -31 * 420.0]
    signed = [*copy, *duty([1, 0, 1, 0]), *copy, *copy, *copy]
    frames = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=10)), library()).frames
    sure = [frame for frame in frames if frame.reading.protocol == "fixed-code" and frame.reading.confidence > 0.9]
    assert len(sure) >= 3
