"""Polynomials and vectors over GF(2), their coefficients the bits of a number."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

LIMB = 64  # bits
Limbs = NDArray[np.uint64]  # shape (polynomials, limbs), the lowest limb first


def poly_mod(a: int, b: int) -> int:
    """The remainder of a polynomial division."""
    degree = b.bit_length()
    while a.bit_length() >= degree:
        a ^= b << (a.bit_length() - degree)
    return a


def poly_gcd(a: int, b: int) -> int:
    """The greatest common divisor (Euclid)."""
    while b:
        a, b = b, poly_mod(a, b)
    return a


def rank(words: Sequence[int]) -> int:
    """How many of the words' differences are independent over GF(2), plus one."""
    basis: list[int] = []
    for word in words[1:]:
        if rest := eliminated(word ^ words[0], basis):
            basis.append(rest)
    return len(basis) + 1


def eliminated(word: int, basis: Sequence[int]) -> int:
    """What is left of a vector once those of a basis are taken out of it, where they clear its highest bits."""
    for vector in basis:
        word = min(word, word ^ vector)
    return word


def gcd_degrees(a: NDArray[np.uint8], b: NDArray[np.uint8]) -> NDArray[np.intp]:
    """The degrees of the greatest common divisors of many pairs, factors x left out; −1 for that of two zeros.

    ``a`` and ``b`` have shape (pairs, coefficients), the highest coefficient first. (Stein 1967, the binary algorithm:
    of two with a constant term, the sum has none, and is divided by x.)
    """
    left, right = _without_x(_limbs(a)), _without_x(_limbs(b))
    alone = ~right.any(axis=1, keepdims=True)  # with zero: then the other one is the divisor
    left, right = np.where(alone, right, left), np.where(alone, left, right)
    while left.any():
        odd = (left[:, 0] & np.uint64(1)).astype(np.bool_)
        swapped = (odd & _less(left, right))[:, None]
        left, right = np.where(swapped, right, left), np.where(swapped, left, right)
        left = _halved(np.where(odd[:, None], left ^ right, left))
    return _degrees(right)


def _limbs(coefficients: NDArray[np.uint8]) -> Limbs:
    count, size = coefficients.shape
    padded = np.zeros((count, size + -size % LIMB), np.uint8)
    padded[:, padded.shape[1] - size :] = coefficients
    return np.packbits(padded, axis=1).view(">u8").astype(np.uint64)[:, ::-1]


def _without_x(numbers: Limbs) -> Limbs:
    """Divided by x until each has a constant term, or is zero."""
    while (even := ((numbers[:, 0] & np.uint64(1)) == 0) & numbers.any(axis=1)).any():
        numbers = np.where(even[:, None], _halved(numbers), numbers)
    return numbers


def _halved(numbers: Limbs) -> Limbs:
    """Divided by x, what is over left out."""
    out = numbers >> np.uint64(1)
    out[:, :-1] |= numbers[:, 1:] << np.uint64(LIMB - 1)
    return out


def _less(a: Limbs, b: Limbs) -> NDArray[np.bool_]:
    less = np.zeros(len(a), np.bool_)
    for limb in range(a.shape[1]):  # the highest, looked at last, decides
        less = (a[:, limb] < b[:, limb]) | ((a[:, limb] == b[:, limb]) & less)
    return less


def _degrees(numbers: Limbs) -> NDArray[np.intp]:
    bits = np.unpackbits(numbers[:, ::-1].astype(">u8").view(np.uint8), axis=1)
    return np.where(bits.any(axis=1), bits.shape[1] - 1 - bits.argmax(axis=1), -1)
