"""How much is worked on together."""

from __future__ import annotations

from collections.abc import Iterator

AT_ONCE = 1 << 18  # numbers of one array: what stays near the processor


def in_parts(rows: int, numbers: int) -> Iterator[slice]:
    """Slices of so many rows, for work that takes that many numbers for each."""
    step = max(1, AT_ONCE // max(numbers, 1))
    return (slice(first, first + step) for first in range(0, rows, step))
