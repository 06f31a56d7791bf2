"""Numbers over time: a sensor's frames, of which few have a value typed beside them."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.compare.curves import filled_in, fitted, follow
from eager_tern.compare.stack import Stack


def sensor(
    rng: np.random.Generator, width: int, turned: bool, negative: bool
) -> tuple[Stack, np.ndarray, tuple[int, ...]]:
    """Sixty frames, three minutes to an hour apart, of a temperature in tenths among bits that change by themselves."""
    times = np.cumsum(rng.uniform(180, 3600, 60))
    middle = -2.0 if negative else 9.0
    degrees = middle + 6 * np.sin(times / 14_000 + 1) + 2 * np.sin(times / 51_000)
    raw = np.rint(degrees * 10).astype(np.int64) % (1 << width)
    own = (raw[:, None] >> np.arange(width)[:: 1 if turned else -1]) & 1
    first = int(rng.integers(4, 20))
    bits = np.hstack([rng.integers(0, 2, (60, first)), own, rng.integers(0, 2, (60, 9))]).astype(np.uint8)
    typed = [float(f"{d:.1f}") if number % 4 == 1 else None for number, d in enumerate(degrees)]
    at = tuple(range(first, first + width)[:: -1 if turned else 1])
    return Stack(bits, {"temperature": tuple(typed)}), times, at


@pytest.mark.parametrize("turned", [False, True])
@pytest.mark.parametrize(("width", "negative"), [(9, False), (10, True), (12, True)])
def test_bits_are_known_by_the_curve_they_follow(
    rng: np.random.Generator, width: int, negative: bool, turned: bool
) -> None:
    right = 0
    for _ in range(5):
        stack, times, at = sensor(rng, width, turned, negative)
        curve = follow(stack, "temperature", times)
        assert curve is not None
        assert curve.same > 0.95
        # Its highest bits may not have changed, its lowest are less than what lies between two typed values.
        right += set(curve.positions) <= set(at) and len(curve.positions) >= width - 5
        assert curve.encoding == ("signed" if negative else curve.encoding)
    assert right >= 4


def test_a_sign_above_a_magnitude_is_followed(rng: np.random.Generator) -> None:
    stack, times, at = sensor(rng, 12, turned=False, negative=True)
    raw = stack.bits[:, at].astype(np.int64) @ (1 << np.arange(12)[::-1])
    signed = raw - ((raw >> 11) << 12)
    stack.bits[:, at] = (np.abs(signed) | (signed < 0) << 11)[:, None] >> np.arange(12)[::-1] & 1
    curve = follow(stack, "temperature", times)
    assert curve is not None
    assert curve.encoding == "magnitude"
    assert curve.same > 0.95


def test_nothing_follows_what_is_random(rng: np.random.Generator) -> None:
    stack, times, _ = sensor(rng, 9, turned=False, negative=False)
    noise = Stack(rng.integers(0, 2, stack.bits.shape).astype(np.uint8), stack.labels)
    assert follow(noise, "temperature", times) is None


def test_what_lies_between_typed_values_is_filled_in() -> None:
    times = np.array([0.0, 10, 20, 30, 40])
    filled = filled_in((None, 2.0, 3.0, None, 7.0), times)
    assert filled is not None
    assert np.isnan(filled[0])
    assert filled[1:].tolist() == [2, 3, 5, 7]
    assert filled_in((1.0, None, 2.0, None, None), times) is None
    assert filled_in(("dry", None, "cool", "dry", None), times) is None
    assert fitted(np.array([1, 2, 3]), np.array([12.0, np.nan, 16.0])) == pytest.approx((2, 10, 1))
    assert fitted(np.array([1, 1, 1]), np.array([12.0, 13.0, 16.0]))[2] == 0
    raw = np.array([9, 8, 6, 4, 1, 2, 3, 4, 3, 13, 12, 8, 5, 4])
    typed = raw + 17.0
    typed[3] = 40
    assert fitted(raw, typed)[:2] == pytest.approx((1, 17))
