"""How a frame's bits fall into groups: the fields and checks of a sheet, or bytes where there is none."""

from __future__ import annotations

from typing import Literal

from msgspec import Struct

from eager_tern.protocol.fields import Value
from eager_tern.protocol.positions import Positions
from eager_tern.protocol.reading import Reading

BYTE = 8


class BitGroup(Struct, frozen=True):
    """Bits ``first`` to ``last`` (both included, in the order sent) that belong together.

    ``value`` is the number they carry, None for bits without a meaning of their own; ``holds`` tells of a check.
    """

    name: str
    role: Literal["field", "check", "bits"]
    first: int
    last: int
    value: Value = None
    holds: bool | None = None

    @property
    def width(self) -> int:
        return self.last - self.first + 1


def bit_groups(reading: Reading) -> list[BitGroup]:
    """Groups that cover every bit of the reading, in order. A field in pieces is one group for each piece."""
    count, sheet = int(reading.bits.size), reading.sheet
    named: list[BitGroup] = []
    if sheet is not None:
        for field in sheet.fields:
            runs = _runs(field.bits)
            widest = max(runs, key=lambda run: run[1] - run[0])
            for run in runs:  # the value stands with the largest piece
                value = reading.fields.get(field.name) if run == widest else None
                named.append(BitGroup(field.name, "field", *run, value))
        results = {check.name: check for check in reading.checks}
        for check in sheet.checks:
            if check.name in results:
                result = results[check.name]
                named += [BitGroup(check.name, "check", a, b, result.found, result.ok) for a, b in _runs(check.at)]
    named.sort(key=lambda group: group.first)
    groups: list[BitGroup] = []
    at = 0
    for group in named:
        groups += _plain(at, group.first)
        groups.append(group)
        at = group.last + 1
    return groups + _plain(at, count)


def _runs(positions: Positions) -> list[tuple[int, int]]:
    """The contiguous stretches of some positions."""
    index = sorted(int(i) for i in positions.index)
    runs: list[tuple[int, int]] = []
    for i in index:
        if runs and runs[-1][1] == i - 1:
            runs[-1] = (runs[-1][0], i)
        else:
            runs.append((i, i))
    return runs


def _plain(first: int, end: int) -> list[BitGroup]:
    return [BitGroup("", "bits", start, min(start + BYTE, end) - 1) for start in range(first, end, BYTE)]
