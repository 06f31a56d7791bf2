"""Checks of every kind, found in bits that were made without the code under test."""

from __future__ import annotations

from functools import reduce

import numpy as np
import pytest

from eager_tern.compare.checks import Found
from eager_tern.compare.comparison import compare
from eager_tern.compare.copies import find_copies
from eager_tern.compare.crcs import find_crcs
from eager_tern.compare.digests import find_digests
from eager_tern.compare.parities import find_parities
from eager_tern.compare.scattered import find_scattered
from eager_tern.compare.stack import Stack
from eager_tern.compare.sums import find_sums
from eager_tern.protocol.checks import evaluate, expected_value, holds_in
from eager_tern.protocol.positions import parse_positions
from eager_tern.protocol.schema import Check
from tests.gadgets import crc_of
from tests.unchecked import unchecked

ROWS = 40


def frames(rng: np.random.Generator, bytes_: int, rows: int = ROWS) -> np.ndarray:
    """Random bytes; the first is always the same."""
    data = rng.integers(0, 256, (rows, bytes_))
    data[:, 0] = 0xA5
    return data


def as_bits(data: np.ndarray, lowest_first: bool = True) -> np.ndarray:
    shifts = np.arange(8) if lowest_first else np.arange(7, -1, -1)
    return (data[:, :, None] >> shifts & 1).reshape(len(data), -1).astype(np.uint8)


def varying(stack: Stack) -> np.ndarray:
    free = np.zeros(stack.columns, np.bool_)
    free[stack.varying] = True
    return free


def only(found: list[Found], byte: int) -> Found:
    """The one check, which stands in a byte."""
    (check,) = found
    assert min(check.positions) == 8 * byte
    return check


SUMS = {
    "plain": (lambda b: sum(b), {"kind": "sum", "init": 0}),
    "seed": (lambda b: sum(b) + 0x37, {"kind": "sum", "init": 0x37}),
    "negated": (lambda b: -sum(b), {"kind": "sum", "negate": True, "init": 0}),
    "turned": (lambda b: ~sum(b), {"kind": "sum"}),
    "xor": (lambda b: reduce(int.__xor__, b), {"kind": "xor", "xor_out": 0}),
    "xor with a constant": (lambda b: reduce(int.__xor__, b) ^ 0x5A, {"kind": "xor", "xor_out": 0x5A}),
    "swapped": (lambda b: (sum(b) & 255) >> 4 | (sum(b) & 15) << 4, {"kind": "sum", "swap": True}),
    "nibbles": (lambda b: sum((v & 15) + (v >> 4) for v in b), {"kind": "sum", "unit": 4}),
}


@pytest.mark.parametrize("lowest_first", [True, False])
@pytest.mark.parametrize("kind", SUMS)
def test_sums_in_the_last_byte(rng: np.random.Generator, kind: str, lowest_first: bool) -> None:
    make, says = SUMS[kind]
    data = frames(rng, 8)
    data[:, 7] = [make(row[:7].tolist()) & 255 for row in data]
    stack = Stack(as_bits(data, lowest_first))
    found = only(find_sums(stack, varying(stack)), 7)
    assert found.holds.all()
    assert found.chance < -10
    assert {key: getattr(found.check, key) for key in says} == says
    other = frames(rng, 8, 20)
    other[:, 7] = [make(row[:7].tolist()) & 255 for row in other]
    assert holds_in(found.check, as_bits(other, lowest_first)).all()
    other[:, 3] ^= 4
    assert not holds_in(found.check, as_bits(other, lowest_first)).any()


def test_sums_in_the_middle_and_one_for_each_section(rng: np.random.Generator) -> None:
    data = frames(rng, 10)
    data[:, 3] = data[:, :3].sum(axis=1) & 255
    data[:, 9] = np.bitwise_xor.reduce(data[:, 4:9], axis=1) ^ 0x11
    stack = Stack(as_bits(data), sections=(32, 48))
    found = {min(f.positions) // 8: f for f in find_sums(stack, varying(stack))}
    assert set(found) == {3, 9}
    assert found[3].check.kind == "sum"
    assert found[9].check.kind == "xor"
    assert all(first >= 32 for first, _ in found[9].covers)


def test_what_follows_from_a_check_is_no_other_check(rng: np.random.Generator) -> None:
    data = frames(rng, 5)
    data[:, 4] = np.bitwise_xor.reduce(data[:, :4], axis=1)
    stack = Stack(as_bits(data))
    only(find_sums(stack, varying(stack)), 4)


def test_nothing_is_found_where_there_is_none(rng: np.random.Generator) -> None:
    stack = Stack(as_bits(frames(rng, 8)))
    free = varying(stack)
    nothing = np.zeros(stack.columns, np.bool_)
    assert find_sums(stack, free) == find_crcs(stack, free) == find_copies(stack) == []
    assert find_parities(stack, free) == find_digests(stack, free, nothing) == []


def test_copies_and_complements(rng: np.random.Generator) -> None:
    data = frames(rng, 6)
    data[:, 3] = data[:, 2] ^ 255
    data[:, 5] = data[:, 1]
    found = {min(f.positions) // 8: f.check.kind for f in find_copies(Stack(as_bits(data)))}
    assert found == {3: "complement", 5: "copy"}


# The check values of published parameters (Williams 1993: the check is the CRC of the text "123456789").
PUBLISHED = [
    (8, 0x07, 0x00, False, 0x00, 0xF4),
    (8, 0x31, 0x00, True, 0x00, 0xA1),
    (16, 0x1021, 0xFFFF, False, 0x0000, 0x29B1),
    (16, 0x8005, 0x0000, True, 0x0000, 0xBB3D),
    (16, 0x8005, 0xFFFF, True, 0x0000, 0x4B37),
    (5, 0x05, 0x1F, True, 0x1F, 0x19),
    (4, 0x03, 0x00, True, 0x00, 0x07),
]


@pytest.mark.parametrize(("width", "poly", "start", "turned", "final", "value"), PUBLISHED)
def test_published_crcs(width: int, poly: int, start: int, turned: bool, final: int, value: int) -> None:
    last = f"{width - 1}-0"
    check = Check(
        name="crc", kind="crc", at=parse_positions(last), covers=((width, width + 71),), poly=poly, init=start,
        reflect_in=turned, reflect_out=turned, xor_out=final,
    )  # fmt: skip
    text = np.unpackbits(np.frombuffer(b"123456789", np.uint8), bitorder="little")  # lowest bit first, as checks are
    assert expected_value(check, np.concatenate((np.zeros(width, np.uint8), text))) == value
    assert crc_of(list(b"123456789"), width, poly, start, final, turned) == value


@pytest.mark.parametrize(("width", "poly", "start", "turned", "final", "value"), PUBLISHED)
def test_crcs_are_found_by_algebra(
    rng: np.random.Generator, width: int, poly: int, start: int, turned: bool, final: int, value: int
) -> None:
    def sent(data: np.ndarray) -> np.ndarray:
        codes = [crc_of(row.tolist(), width, poly, start, final, turned) for row in data]
        tail = np.array([[code >> i & 1 for i in range(width)] for code in codes], np.uint8)
        return np.hstack((as_bits(data, turned), tail if turned else tail[:, ::-1]))

    stack = Stack(sent(frames(rng, 6)))
    (found,) = find_crcs(stack, varying(stack))
    assert found.check.poly == poly
    assert found.holds.all()
    assert holds_in(found.check, sent(frames(rng, 6, 20))).all()


def test_a_crc_is_found_beside_a_damaged_frame(rng: np.random.Generator) -> None:
    data = frames(rng, 7)
    data[:, 6] = [crc_of(row[:6].tolist(), 8, 0x2F, 0x11, 0, False) for row in data]
    bits = as_bits(data, False)
    bits[17, 20] ^= 1
    stack = Stack(bits)
    (found,) = find_crcs(stack, varying(stack))
    assert found.check.poly == 0x2F
    assert np.flatnonzero(~found.holds).tolist() == [17]


def test_a_sum_is_found_in_a_long_take_of_which_much_is_damaged(rng: np.random.Generator) -> None:
    """Of many rows a few are looked at first, and some of these may be damaged."""
    for _ in range(20):
        data = rng.integers(0, 256, (300, 5))
        data[:, 4] = data[:, :4].sum(axis=1) & 255
        bits = as_bits(data)
        hit = rng.choice(300, 20, replace=False)
        bits[hit, 38] ^= 1
        found = find_sums(stack := Stack(bits), varying(stack))
        assert [np.flatnonzero(~each.holds).tolist() for each in found] == [sorted(hit.tolist())]


@pytest.mark.parametrize("odd", [0, 1])
def test_a_parity_bit(rng: np.random.Generator, odd: int) -> None:
    bits = rng.integers(0, 2, (ROWS, 25)).astype(np.uint8)
    bits[:, 24] = bits[:, :24].sum(axis=1) % 2 ^ odd
    stack = Stack(bits)
    free = np.zeros(25, np.bool_)
    free[24] = True
    (found,) = find_parities(stack, free)
    assert (found.positions, found.covers, found.check.init) == ((24,), ((0, 23),), odd)


def test_digests_of_tables_and_shift_registers_are_linear(rng: np.random.Generator) -> None:
    table = rng.integers(1, 256, 32)

    def sent(rows: int) -> np.ndarray:
        bits = rng.integers(0, 2, (rows, 32)).astype(np.uint8)
        digests = [int(np.bitwise_xor.reduce(table[row == 1], initial=0x3C)) for row in bits]
        return np.hstack((bits, as_bits(np.array(digests)[:, None], False)))

    stack = Stack(sent(48))
    free = np.zeros(40, np.bool_)
    free[32:] = True
    (found,) = find_digests(stack, free, np.zeros(40, np.bool_))
    assert found.check.kind == "linear"
    assert list(found.check.columns) == table.tolist()
    assert holds_in(found.check, sent(30)).all()
    assert find_digests(Stack(stack.bits[:30]), free, np.zeros(40, np.bool_)) == []  # fewer than could tell


def test_the_sheet_language_adds_with_carry() -> None:
    check = Check(name="c", kind="sum", at=parse_positions("23-16"), covers=((0, 15),), carry=True)
    bits = as_bits(np.array([[0xF0, 0x31, 0x22]]))[0]
    assert evaluate(check, bits).ok
    assert evaluate(check, bits).expected == 0x22


OVER = {
    "sum": lambda b: sum(b) + 0x21,
    "negated": lambda b: -sum(b) - 3,
    "xor": lambda b: reduce(int.__xor__, b) ^ 0x5A,
}


@pytest.mark.parametrize("kind", OVER)
def test_checks_over_some_of_the_bytes(rng: np.random.Generator, kind: str) -> None:
    data = frames(rng, 9)
    data[:, 8] = [OVER[kind]([int(row[b]) for b in (1, 4, 6)]) & 255 for row in data]
    stack = Stack(as_bits(data))
    found = only(find_scattered(stack, varying(stack), []), 8)
    assert found.covers == ((8, 15), (32, 39), (48, 55))
    fresh = frames(rng, 9, 20)
    fresh[:, 8] = [OVER[kind]([int(row[b]) for b in (1, 4, 6)]) & 255 for row in fresh]
    assert holds_in(found.check, as_bits(fresh)).all()
    fresh[:, 4] ^= 16
    assert not holds_in(found.check, as_bits(fresh)).any()


def test_a_check_over_the_fields_only(rng: np.random.Generator) -> None:
    """What else is in the bytes of the fields, and a counter beside them, does not count."""
    rows = 45
    labels = {"level": rng.integers(0, 32, rows), "mode": rng.integers(0, 8, rows), "timer": rng.integers(0, 16, rows)}
    data = np.zeros((rows, 6), int)
    data[:, 0], data[:, 2] = 0xA5, np.arange(rows)
    data[:, 1] = labels["level"] << 2 | 0x80
    data[:, 3] = labels["mode"] << 3 | 0x41
    data[:, 4] = labels["timer"]
    data[:, 5] = (sum(labels.values()) + 7) & 255
    stack = Stack(as_bits(data), {name: tuple(map(float, values)) for name, values in labels.items()})
    found = compare(stack)
    (check,) = [each for each in found.checks if min(each.positions) == 40]
    assert check.covers == ((10, 14), (27, 29), (32, 35))
    assert check.check.init == 7
    assert not found.unexplained


def test_random_bytes_have_no_check_over_some_of_them(rng: np.random.Generator) -> None:
    for _ in range(10):
        stack = Stack(as_bits(frames(rng, 9, 20)))
        assert find_scattered(stack, varying(stack), []) == []


def test_a_damaged_frame_neither_narrows_a_check_nor_moves_it() -> None:
    """In bytes that never change, one wrong bit would else be left out of what is covered, or be what is told."""
    rng = np.random.default_rng(5)
    data = frames(rng, 8, 45)
    data[:, 1:3] = [0x3C, 0x81]
    data[:, 7] = data[:, :7].sum(axis=1) & 255
    bits = as_bits(data)
    bits[5, 12] ^= 1
    found = only(find_sums(Stack(bits, {}), varying(Stack(bits, {}))), 7)
    assert found.covers == ((0, 55),)
    assert np.flatnonzero(~found.holds).tolist() == [5]


def test_a_crc_is_not_mistaken_for_the_exclusive_or_of_nibbles_that_it_implies() -> None:
    rng = np.random.default_rng(6)
    data = frames(rng, 6)
    poly = 0b00100011  # x⁸ + x⁵ + x + 1 = (x⁴ + 1)(x⁴ + x + 1)
    data[:, 5] = [crc_of(row[:5].tolist(), 8, poly, 0, 0, False) for row in data]
    (found,) = compare(Stack(as_bits(data, lowest_first=False), {})).checks
    assert (found.kind, found.check.at.width, found.check.poly) == ("crc", 8, poly)


def test_bytes_that_never_change_are_followed_by_their_complements_as_the_others_are() -> None:
    rng = np.random.default_rng(7)
    data = np.zeros((ROWS, 8), np.int64)
    data[:, 0::2] = [0xA5, 0x17, 0, 0x42]
    data[:, 2], data[:, 4] = rng.integers(0, 256, (2, ROWS))
    data[:, 1::2] = 255 - data[:, 0::2]
    stack = Stack(as_bits(data), {})
    assert sorted(min(f.positions) // 8 for f in find_copies(stack)) == [1, 3, 5, 7]


ALONE = {
    "sum": lambda d: sum(d),
    "negative": lambda d: -sum(d),
    "exclusive-or": lambda d: reduce(lambda a, b: a ^ b, d),
    "of nibbles": lambda d: sum((b >> 4) + (b & 15) for b in d),
    "crc": lambda d: crc_of(d, 8, 0x31, 0, 0, False),
}


@pytest.mark.parametrize("kind", ALONE)
def test_a_check_over_bytes_that_are_each_followed_by_their_complement(kind: str) -> None:
    """Numbers on nibbles: a complement may seem to begin with half of the byte before, which never changes."""
    rng = np.random.default_rng(12)
    alone = np.zeros((2 * ROWS, 8), np.int64)
    alone[:, 0] = 0xC9
    for byte, most in ((1, 24), (2, 60), (4, 15), (5, 16), (6, 4)):
        alone[:, byte] = rng.integers(0, most, 2 * ROWS)
    alone[:, 7] = [ALONE[kind](row) & 255 for row in alone[:, :7].tolist()]
    bits = as_bits(np.stack([alone, 255 - alone], axis=2).reshape(2 * ROWS, 16), lowest_first=kind != "crc")
    found = compare(Stack(bits[:ROWS]))
    checks = [each.check for each in found.checks if each.kind != "complement"]
    assert [min(check.at.index) // 8 for check in checks] == [14]
    assert all(holds_in(check, bits).all() for check in checks)
    assert sum(each.kind == "complement" for each in found.checks) == 8


def test_an_exclusive_or_of_nibbles_is_called_that_in_each_section() -> None:
    """It is the CRC of x⁴ + 1 as well, which nobody would call it."""
    rng = np.random.default_rng(8)
    nibbles = rng.integers(0, 16, (ROWS, 16))
    for first in (0, 8):
        nibbles[:, first] = 9
        nibbles[:, first + 7] = np.bitwise_xor.reduce(nibbles[:, first : first + 7], axis=1)
    bits = (nibbles[:, :, None] >> np.arange(3, -1, -1) & 1).reshape(ROWS, -1).astype(np.uint8)
    found = compare(Stack(bits, {}, (32, 32))).checks
    assert sorted((c.kind, c.check.at.width, min(c.positions)) for c in found) == [("xor", 4, 28), ("xor", 4, 60)]


@pytest.mark.parametrize("seed", range(24))
def test_a_gadget_without_a_check_is_said_to_have_none(seed: int) -> None:
    """Ids that change with a battery, counters that count along, numbers that wander."""
    found = compare(unchecked(np.random.default_rng([4, seed])))
    assert [(check.kind, check.positions) for check in found.checks] == []


def swept(kinds: int) -> list[list[int]]:
    """Bytes of presses that step through one setting after the other, the last one their sum."""
    start = [0x2C, 4, 0x11, 50, 0]
    rows = [[0x2C, t, *start[2:]] for t in range(15)]
    rows += [[0x2C, 4, mode << 4 | 1, 50, 0] for mode in range(4)][: 4 * (kinds > 1)]
    rows += [[0x2C, 4, 0x11, humidity, 0] for humidity in range(40, 70, 5)][: 6 * (kinds > 2)]
    return [[*row, (sum(row) + 0x1B) % 256] for row in rows]


@pytest.mark.parametrize(("kinds", "claimed"), [(1, False), (2, True), (3, True)])
def test_a_sum_is_claimed_once_two_settings_move_it(kinds: int, claimed: bool) -> None:
    """While one setting alone was stepped through, its last byte might as well be that setting once more."""
    bits = np.array([[int(bit) for byte in row for bit in f"{byte:08b}"] for row in swept(kinds)], np.uint8)
    found = compare(Stack(bits))
    assert any(check.kind == "sum" and set(range(40, 48)) <= set(check.positions) for check in found.checks) == claimed


@pytest.mark.parametrize("poly", [0x3, 0x9, 0xD])
def test_a_crc_over_a_number_of_bits_that_is_no_whole_bytes(rng: np.random.Generator, poly: int) -> None:
    bits = rng.integers(0, 2, (30, 32)).astype(np.uint8)
    for row in bits:
        register = 0
        for bit in row[:28].tolist():
            register = ((register << 1) ^ (poly if (register >> 3 & 1) ^ bit else 0)) & 15
        row[28:] = [register >> shift & 1 for shift in (3, 2, 1, 0)]
    (check,) = compare(Stack(bits, {})).checks
    assert (check.kind, check.covers, check.check.poly) == ("crc", ((0, 27),), poly)
    assert check.holds.all()


def test_a_nibble_that_a_bytes_sum_copies_is_no_copy(rng: np.random.Generator) -> None:
    """The upper byte stays what it is, so that the sum's low nibble is that of the lower one."""
    data = np.column_stack((np.full(40, 0x31), np.full(40, 0x5F), rng.integers(0, 256, 40)))
    data = np.column_stack((data, data.sum(axis=1) & 255))
    (check,) = compare(Stack(as_bits(data), {})).checks
    assert (check.kind, len(check.positions)) == ("sum", 8)
