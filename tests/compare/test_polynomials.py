"""Polynomials over GF(2), one pair at a time and many at once."""

from __future__ import annotations

import numpy as np
from hypothesis import example, given
from hypothesis import strategies as st

from eager_tern.compare.polynomials import gcd_degrees, poly_gcd, poly_mod, rank

WIDTH = 150  # coefficients: more than two limbs


def test_polynomials_divide() -> None:
    # (x³ + x + 1)(x² + 1) = x⁵ + x² + x + 1 over GF(2)
    assert poly_mod(0b100111, 0b1011) == 0
    assert poly_mod(0b100111, 0b101) == 0
    assert poly_gcd(0b100111, 0b1011 << 3) == 0b1011


@example([(1, 0, 1), (0, 1, 1), (0, 0, 1), (6, 0, 5)])
@given(st.lists(st.tuples(*[st.integers(0, (1 << 70) - 1)] * 3), min_size=1, max_size=6))
def test_many_divisors_at_once_are_those_of_each_pair(factors: list[tuple[int, int, int]]) -> None:
    """Each pair has a factor in common; what is divided by x alone does not count."""
    pairs = [(product(a, common), product(b, common)) for a, b, common in factors]
    left, right = (np.array([_coefficients(pair[side]) for pair in pairs], np.uint8) for side in (0, 1))
    wanted = [without_x(poly_gcd(a, b)).bit_length() - 1 for a, b in pairs]
    assert gcd_degrees(left, right).tolist() == wanted


def test_rank_counts_what_is_no_sum_of_others() -> None:
    assert rank([0, 0b001, 0b010, 0b011]) == 3
    assert rank([5, 5, 5]) == 1


def product(a: int, b: int) -> int:
    """Without carries."""
    out = 0
    for at in range(b.bit_length()):
        out ^= (a << at) * (b >> at & 1)
    return out


def without_x(a: int) -> int:
    return a >> ((a & -a).bit_length() - 1) if a else 0


def _coefficients(number: int) -> list[int]:
    return [int(bit) for bit in f"{number:0{WIDTH}b}"]
