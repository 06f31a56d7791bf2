"""Checks, held against values known from elsewhere."""

from __future__ import annotations

import binascii

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from eager_tern.protocol.checks import evaluate, expected_value, fill_in
from eager_tern.protocol.fields import from_keys
from eager_tern.protocol.schema import Check


def bits_of(data: bytes, order: str, room: int) -> np.ndarray:
    """Bytes as bits in the order sent, with room for a check behind them."""
    digits = [(byte >> i) & 1 for byte in data for i in (range(8) if order == "lsb" else range(7, -1, -1))]
    return np.array(digits + [0] * room, np.uint8)


def check(kind: str, data: bytes, width: int = 8, **more: object) -> Check:
    start = 8 * len(data)
    at = f"{start}-{start + width - 1}"
    return from_keys(
        Check,
        {"name": "it", "kind": kind, "at": at, "covers": [[0, start - 1]] if data else [], "order": "msb", **more},
    )


DATA = b"123456789"


@pytest.mark.parametrize(
    ("width", "poly", "init", "reflect", "xor_out", "known"),
    [
        (8, 0x07, 0x00, False, 0x00, 0xF4),
        (8, 0x31, 0x00, True, 0x00, 0xA1),
        (8, 0x07, 0xFF, True, 0x00, 0xD0),
        (16, 0x1021, 0xFFFF, False, 0x0000, 0x29B1),
        (16, 0x8005, 0x0000, True, 0x0000, 0xBB3D),
        (16, 0x1021, 0xFFFF, True, 0xFFFF, 0x906E),
        (4, 0x3, 0x0, True, 0x0, 0x7),
        (5, 0x05, 0x1F, True, 0x1F, 0x19),
        (32, 0x04C11DB7, 0xFFFFFFFF, True, 0xFFFFFFFF, 0xCBF43926),
        (64, 0x42F0E1EBA9EA3693, 0, False, 0, 0x6C40DF5F0B497347),
    ],
)
def test_crcs_give_their_published_check_values(
    width: int, poly: int, init: int, reflect: bool, xor_out: int, known: int
) -> None:
    parameters = {"poly": poly, "init": init, "xor_out": xor_out, "reflect_in": reflect, "reflect_out": reflect}
    crc = check("crc", DATA, width, **parameters)
    assert expected_value(crc, bits_of(DATA, "msb", width)) == known


@given(st.binary(min_size=1, max_size=20))
def test_crc_16_as_the_standard_library_has_it(data: bytes) -> None:
    crc = check("crc", data, 16, poly=0x1021)
    assert expected_value(crc, bits_of(data, "msb", 16)) == binascii.crc_hqx(data, 0)


@given(st.binary(min_size=1, max_size=20), st.sampled_from(["lsb", "msb"]), st.integers(0, 255), st.integers(0, 255))
def test_sums_and_exclusive_ors(data: bytes, order: str, init: int, xor_out: int) -> None:
    bits = bits_of(data, order, 8)
    total, parity = init, init
    for byte in data:
        total, parity = total + byte, parity ^ byte
    assert expected_value(check("sum", data, order=order, init=init), bits) == total & 0xFF
    assert expected_value(check("sum", data, order=order, negate=True), bits) == -sum(data) & 0xFF
    assert expected_value(check("xor", data, order=order, init=init, xor_out=xor_out), bits) == parity ^ xor_out


def test_a_nibble_sum_with_swapped_nibbles() -> None:
    data = bytes([0x12, 0x34, 0xF7])
    plain = check("sum", data, unit=4)
    assert expected_value(plain, bits_of(data, "msb", 8)) == 1 + 2 + 3 + 4 + 15 + 7
    swapped = check("sum", data, unit=4, swap=True)
    assert expected_value(swapped, bits_of(data, "msb", 8)) == 0x02


@given(st.binary(min_size=1, max_size=8))
def test_parity_counts_the_ones(data: bytes) -> None:
    ones = sum(byte.bit_count() for byte in data)
    assert expected_value(check("parity", data, 1), bits_of(data, "msb", 1)) == ones % 2
    assert expected_value(check("parity", data, 1, init=1), bits_of(data, "msb", 1)) == 1 - ones % 2


def test_a_check_is_told_with_what_was_found() -> None:
    complement = from_keys(Check, {"name": "c", "kind": "complement", "at": "15-8", "of": "7-0"})
    bits = bits_of(bytes([0x5B, 0xA4]), "lsb", 0)
    assert evaluate(complement, bits).ok
    bits[9] ^= 1
    result = evaluate(complement, bits)
    assert (result.ok, result.width, result.expected, result.found) == (False, 8, 0xA4, 0xA6)


@given(st.binary(min_size=2, max_size=2))
def test_filling_in_makes_every_check_hold(data: bytes) -> None:
    checks = tuple(
        from_keys(Check, raw)
        for raw in (
            {"name": "start", "kind": "constant", "at": "0", "value": 1},
            {"name": "c", "kind": "complement", "at": "31-24", "of": "23-16"},
            {"name": "s", "kind": "sum", "at": "39-32", "covers": [[0, 15], [24, 31]]},
            {"name": "k", "kind": "crc", "at": "40-47", "covers": [[0, 39]], "poly": 7, "order": "msb"},
        )
    )
    bits = np.zeros(48, np.uint8)
    bits[:16] = bits_of(data, "lsb", 0)
    filled = fill_in(checks, bits)
    assert all(evaluate(c, filled).ok for c in checks)
    filled[33] ^= 1
    assert not evaluate(checks[2], filled).ok
    assert not evaluate(checks[3], filled).ok


def test_a_copy_may_be_wider_than_any_number_of_an_array() -> None:
    bits = np.random.default_rng(1).integers(0, 2, 180).astype(np.uint8)
    bits[90:] = bits[:90]
    copy = from_keys(Check, {"name": "again", "kind": "copy", "at": "90-179", "of": "0-89"})
    assert evaluate(copy, bits).ok
    bits[100] ^= 1
    assert not evaluate(copy, bits).ok


def test_numbers_too_large_for_the_place_of_a_check_hold_nowhere() -> None:
    data = b"\x12\x34"
    for key in ("init", "xor_out"):
        assert not evaluate(check("sum", data, 8, **{key: 1 << 80 | 3}), bits_of(data, "msb", 8)).ok


def test_a_copy_of_a_check_covers_what_it_says() -> None:
    data = b"\x12\x34\x46"
    both = check("sum", data[:2], 8)
    assert evaluate(both, bits_of(data, "msb", 0)).ok
    first = replace(both, covers=((0, 7),))
    assert evaluate(first, bits_of(data, "msb", 0)).expected == 0x12
