"""Checks: numbers in a frame that follow from its other bits."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from eager_tern.linecode.values import Bits
from eager_tern.protocol.schema import Check

Numbers = NDArray[np.int64]  # one for each frame


class CheckResult(Struct, frozen=True, gc=False):
    """``width`` bits held by accident would be one in 2**width."""

    name: str
    ok: bool
    width: int
    expected: int
    found: int


def evaluate(check: Check, bits: Bits) -> CheckResult:
    """Hold a check against a frame's bits."""
    return evaluate_each(check, bits[None])[0]


def evaluate_each(check: Check, rows: Bits) -> list[CheckResult]:
    """Hold a check against the bits of several frames, shape (frames, bits)."""
    expected, found = expected_values(check, rows).tolist(), check.at.read_each(rows).tolist()
    return [
        CheckResult(check.name, wanted == there, check.at.width, wanted, there)
        for wanted, there in zip(expected, found, strict=True)
    ]


def holds_in(check: Check, rows: Bits) -> NDArray[np.bool_]:
    """In which of several frames, shape (frames, bits), a check holds."""
    holds: NDArray[np.bool_] = expected_values(check, rows) == check.at.read_each(rows)
    return holds


def expected_value(check: Check, bits: Bits) -> int:
    """What should stand at the check's place, given all the other bits."""
    return int(expected_values(check, bits[None])[0])


def expected_values(check: Check, rows: Bits) -> Numbers:
    """The same in several frames: shape (frames, bits) to (frames,)."""
    mask = (1 << check.at.width) - 1
    if check.kind == "constant":
        return np.full(len(rows), check.value & mask, np.int64 if check.fits_arrays else np.object_)
    value = _added_up(check, rows) if check.kind in ("sum", "xor", "ones", "parity") else _by_rule(check, rows)
    if check.modulus:
        value = value % check.modulus
    if check.negate:
        value = -value
    value = value & mask
    if check.swap:
        value = (value << 4 | value >> 4) & mask
    return value ^ check.xor_out


def _added_up(check: Check, rows: Bits) -> Numbers:
    """What goes on from unit to unit, from the seed on."""
    value = _seeds(check, rows)
    if check.kind in ("ones", "parity"):
        covered = [rows[:, unit.index] ^ unit.inverted for unit in check.units]
        ones: Numbers = np.concatenate(covered, axis=1).sum(axis=1, dtype=np.int64)
        return value + ones if check.kind == "ones" else value ^ ones & 1
    for unit in (each.read_each(rows) for each in check.units):
        value = _turned(value, check) + unit if check.kind == "sum" else _turned(value, check) ^ unit
    mask = (1 << check.at.width) - 1
    while check.carry and (value >> check.at.width).any():  # what is carried out at the top comes in at the bottom
        value = (value & mask) + (value >> check.at.width)
    return value


def _by_rule(check: Check, rows: Bits) -> Numbers:
    """A copy, a complement, a CRC, or what is linear over exclusive-or."""
    units = [unit.read_each(rows) for unit in check.units]
    if check.kind == "linear":
        value = _seeds(check, rows)
        for bit, column in zip(units, check.columns, strict=True):
            value = value ^ bit * column
        return value
    if check.kind == "crc":
        return _crc(units, check, _seeds(check, rows))
    return units[0] if check.kind == "copy" else ~units[0]


def _seeds(check: Check, rows: Bits) -> Numbers:
    """What a check begins with: a number of its own for some kinds of messages."""
    kind = np.int64 if check.fits_arrays else np.object_
    if check.by is None:
        return np.full(len(rows), check.init, kind)
    return np.array([check.seeds.get(said, check.init) for said in check.by.read_each(rows).tolist()], kind)


def _turned(value: Numbers, check: Check) -> Numbers:
    """A running value turned to the left between two units, where the check does that."""
    if not check.rotate:
        return value
    width = check.at.width
    value = value & (1 << width) - 1
    by = check.rotate % width
    return (value << by | value >> (width - by)) & ((1 << width) - 1)


def _crc(units: list[Numbers], check: Check, register: Numbers) -> Numbers:
    """Cyclic redundancy check, bit by bit, from a start value on.

    (Williams 1993, "A painless guide to CRC error detection algorithms": width, poly, init, refin, refout; the final
    exclusive-or is applied by the caller.)
    """
    width = check.at.width
    mask = (1 << width) - 1
    for unit in units:
        order = range(check.unit) if check.reflect_in else range(check.unit - 1, -1, -1)
        for i in order:
            carry = (register >> (width - 1) ^ unit >> i) & 1
            register = (register << 1 & mask) ^ carry * check.poly
    if check.reflect_out:
        reflected = [(register >> i & 1) << (width - 1 - i) for i in range(width)]
        register = sum(reflected, start=np.zeros_like(register))
    return register


def fill_in(checks: tuple[Check, ...], bits: Bits) -> Bits:
    """The bits with every check computed, in the order in which the sheet lists them."""
    filled = bits.copy()
    for check in checks:
        check.at.write(filled, expected_value(check, filled))
    return np.asarray(filled, dtype=np.uint8)
