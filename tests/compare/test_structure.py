"""What frames say without labels, and that chance says nothing."""

from __future__ import annotations

from functools import reduce
from operator import xor

import numpy as np
import pytest

from eager_tern.compare.structure import structure_of
from eager_tern.compare.wording import of_structure
from tests.handsets import lsb_first, msb_first

CHECKS = {
    "sum": lambda b: [*b, sum(b) & 255],
    "xor": lambda b: [*b, reduce(xor, b)],
    "negated": lambda b: [*b, -sum(b) & 255],
    "ones": lambda b: [*b, sum(v.bit_count() for v in b)],
    "modulus": lambda b: [*b, sum(b) % 255],
    "complement": lambda b: [w for v in b for w in (v, 255 - v)],
}
KINDS = {"negated": "sum", "modulus": "sum"}


def frames(rng: np.random.Generator, count: int, check: str, order: str) -> np.ndarray:
    """Presses of one gadget: a few bytes change, the rest stays."""
    base = rng.integers(0, 256, int(rng.integers(4, 11))).tolist()
    rows = []
    for _ in range(count):
        numbers = list(base)
        for at in rng.choice(len(base), 2, replace=False).tolist():
            numbers[at] = int(rng.integers(0, 256))
        to_bits = lsb_first if order == "lsb" else msb_first
        rows.append([bit for v in CHECKS[check](numbers) for bit in to_bits(v, 8)])
    return np.array(rows, np.uint8)


@pytest.mark.parametrize("order", ["lsb", "msb"])
@pytest.mark.parametrize("check", CHECKS)
def test_natural_checks_are_found_from_three_presses(rng: np.random.Generator, check: str, order: str) -> None:
    right = 0
    for _ in range(20):
        found = structure_of(frames(rng, 3, check, order))
        right += found is not None and any(each.kind == KINDS.get(check, check) for each in found.checks)
        if found is not None and check in ("sum", "modulus"):
            assert found.order == order
    assert right >= 19


@pytest.mark.parametrize("turned", ["bytes", "halves"])
@pytest.mark.parametrize("check", ["sum", "xor", "negated"])
def test_what_is_told_twice_is_no_check_of_its_own(rng: np.random.Generator, check: str, turned: str) -> None:
    """With each byte's complement, or the whole frame's, half of the exclusive-ors of a frame come out by
    themselves.
    """
    right = 0
    for _ in range(20):
        rows = frames(rng, 3, check, "msb")
        if turned == "bytes":
            pairs = np.stack([rows.reshape(3, -1, 8), 1 - rows.reshape(3, -1, 8)], axis=2)
            twice = pairs.reshape(3, -1).astype(np.uint8)
        else:
            twice = np.hstack([rows, 1 - rows])
        found = structure_of(twice)
        kinds = {each.kind for each in found.checks} if found is not None else set()
        right += kinds == {"complement", KINDS.get(check, check)}
        if found is not None:
            first = "Each byte is" if turned == "bytes" else "The first half is"
            assert of_structure(found)[0].startswith(f"{first} followed by its complement.")
    assert right >= 19


def test_a_seed_needs_more_presses(rng: np.random.Generator) -> None:
    rows = frames(rng, 8, "sum", "lsb")
    seeded = rows.copy()
    for row, bits in zip(seeded, rows, strict=True):
        last = int(sum(int(bit) << i for i, bit in enumerate(bits[-8:])))
        row[-8:] = lsb_first((last + 0x5A) & 255, 8)
    found = structure_of(seeded)
    assert found is not None
    assert found.checks[-1].check.init == 0x5A
    assert ", beginning with 0x5A, in 8 different frames." in of_structure(found)[-1]


def test_nothing_is_claimed_of_random_bits(rng: np.random.Generator) -> None:
    for count in (1, 2, 3, 5, 12):
        for _ in range(12):
            assert structure_of(rng.integers(0, 2, (count, 8 * int(rng.integers(4, 9)))).astype(np.uint8)) is None


def test_one_press_told_again_is_one_press(rng: np.random.Generator) -> None:
    row = frames(rng, 1, "sum", "lsb")
    assert structure_of(np.repeat(row, 30, axis=0)) is None


def test_of_a_long_take_it_is_found_beside_damage_and_bytes_that_seldom_change(rng: np.random.Generator) -> None:
    data = rng.integers(0, 256, (900, 5))
    data[:, 0], data[:, 1] = 0x5A, np.where(rng.random(900) < 0.02, 0x81, 0x80)
    data[:, 4] = data[:, :4].sum(axis=1) & 255
    bits = np.unpackbits(data.astype(np.uint8), axis=1, bitorder="little")
    hit = rng.choice(900, 30, replace=False)
    bits[hit, rng.integers(0, 40, 30)] ^= 1
    found = structure_of(bits)
    assert found is not None
    (check,) = found.checks
    assert check.covers == ((0, 31),)
    assert 860 < np.count_nonzero(check.holds) < 875
