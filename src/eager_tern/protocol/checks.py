"""Checks: numbers in a frame that follow from its other bits."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from eager_tern.linecode.values import Bits
from eager_tern.protocol.schema import Check


@dataclass(frozen=True)
class CheckResult:
    """``width`` bits held by accident would be one in 2**width."""

    name: str
    ok: bool
    width: int
    expected: int
    found: int


def evaluate(check: Check, bits: Bits) -> CheckResult:
    """Hold a check against a frame's bits."""
    expected, found = expected_value(check, bits), check.at.read(bits)
    return CheckResult(check.name, expected == found, check.at.width, expected, found)


def expected_value(check: Check, bits: Bits) -> int:
    """What should stand at the check's place, given all the other bits."""
    mask = (1 << check.at.width) - 1
    if check.kind == "constant":
        return check.value & mask
    value = _added_up(check, bits) if check.kind in ("sum", "xor", "ones", "parity") else _by_rule(check, bits)
    if check.modulus:
        value %= check.modulus
    if check.negate:
        value = -value
    value &= mask
    if check.swap:
        value = (value << 4 | value >> 4) & mask
    return value ^ check.xor_out


def _added_up(check: Check, bits: Bits) -> int:
    """What goes on from unit to unit, from the seed on."""
    value, units = seed(check, bits), units_covered(check, bits)
    if check.kind in ("ones", "parity"):
        ones = sum(unit.bit_count() for unit in units)
        return value + ones if check.kind == "ones" else value ^ ones & 1
    for unit in units:
        value = _turned(value, check) + unit if check.kind == "sum" else _turned(value, check) ^ unit
    mask = (1 << check.at.width) - 1
    while check.carry and value >> check.at.width:  # what is carried out at the top comes in at the bottom
        value = (value & mask) + (value >> check.at.width)
    return value


def _by_rule(check: Check, bits: Bits) -> int:
    """A copy, a complement, a CRC, or what is linear over exclusive-or."""
    if check.kind == "linear":
        covered = np.concatenate([bits[first : last + 1] for first, last in check.covers])
        value = seed(check, bits)
        for column in np.flatnonzero(covered).tolist():
            value ^= check.columns[column]
        return value
    units = units_covered(check, bits)
    if check.kind == "crc":
        return crc(units, check, seed(check, bits))
    return units[0] if check.kind == "copy" else ~units[0]


def seed(check: Check, bits: Bits) -> int:
    """What a check begins with: a number of its own for some kinds of messages."""
    return check.init if check.by is None else check.seeds.get(check.by.read(bits), check.init)


def _turned(value: int, check: Check) -> int:
    """A running value turned to the left between two units, where the check does that."""
    if not check.rotate:
        return value
    width = check.at.width
    value &= (1 << width) - 1
    by = check.rotate % width
    return (value << by | value >> (width - by)) & ((1 << width) - 1)


def units_covered(check: Check, bits: Bits) -> list[int]:
    """The pieces of ``check.unit`` bits that the check is taken over, in order."""
    if check.of is not None:
        return [check.of.read(bits)]
    units: list[int] = []
    for first, last in check.covers:
        run = bits[first : last + 1]
        for start in range(0, run.size, check.unit):
            piece = run[start : start + check.unit]
            ordered = piece[::-1] if check.order == "lsb" else piece
            units.append(int("".join(map(str, ordered.tolist())), 2))
    return units


def crc(units: list[int], check: Check, init: int) -> int:
    """Cyclic redundancy check, bit by bit, from a start value on.

    (Williams 1993, "A painless guide to CRC error detection algorithms": width, poly, init, refin, refout; the final
    exclusive-or is applied by the caller.)
    """
    width, top = check.at.width, 1 << (check.at.width - 1)
    register = init
    for unit in units:
        order = range(check.unit) if check.reflect_in else range(check.unit - 1, -1, -1)
        for i in order:
            carry = bool(register & top) != bool(unit >> i & 1)
            register = (register << 1) & ((1 << width) - 1)
            if carry:
                register ^= check.poly
    if check.reflect_out:
        register = int(f"{register:0{width}b}"[::-1], 2)
    return register


def fill_in(checks: tuple[Check, ...], bits: Bits) -> Bits:
    """The bits with every check computed, in the order in which the sheet lists them."""
    filled = bits.copy()
    for check in checks:
        check.at.write(filled, expected_value(check, filled))
    return np.asarray(filled, dtype=np.uint8)
