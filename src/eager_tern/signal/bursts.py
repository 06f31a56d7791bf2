"""Where a recording falls apart into bursts: the spaces that are too long to lie inside a frame."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from msgspec import Struct

from eager_tern.signal.assumed import LONGEST_MARK_US, SLOW_US, SMALLEST_GAP_US, SURE_GAP_US
from eager_tern.signal.values import Floats, Pulses

GAP_IN_SHORTEST = 16.0  # a leader space has at most 8 units, and a shortened mark has half a unit left
GAP_AFTER_DATA = 9.5  # behind an ordinary mark stands no leader space
LEADER_IN_SHORTEST = 3.0
FEWEST_AROUND = 5  # pulses by which a space is judged
SLOW_SPACE = 12.0  # bits that a space between two of their marks can last, at the least


class GapSettings(Struct, frozen=True):
    """``gap_us`` fixes the shortest gap by hand; None finds it from the pulses around."""

    gap_us: float | None = None


def split_bursts(pulses: Pulses, settings: GapSettings | None = None) -> list[tuple[int, int]]:
    """Index ranges (first mark, last mark; both included) of the bursts between the gaps."""
    settings = settings or GapSettings()
    d = pulses.durations_us
    if d.size == 0:
        return []
    if settings.gap_us is not None:
        return _between(_spaces_where(d, d[1::2] >= settings.gap_us), d.size)
    sure = _spaces_where(d, d[1::2] >= SURE_GAP_US)
    gaps = np.sort(np.concatenate([sure, *_gaps_in(d, np.array(_between(sure, d.size)))]))
    return _parted_at_stuck_marks(d, _slow_joined(d, _between(gaps, d.size)))


def _parted_at_stuck_marks(d: Floats, bursts: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Bursts with those parted that have a mark too long for any frame; it stands by itself between its parts."""
    long = 2 * np.flatnonzero(d[0::2] > SURE_GAP_US)
    if not long.size:
        return bursts
    out: list[tuple[int, int]] = []
    for first, last in bursts:
        inside = long[(long >= first) & (long <= last)]
        if inside.size:  # it may be many bits, where all is slow
            usual = np.sort(d[first : last + 1])[(last - first) // 4]
            inside = inside[d[inside] > min(LONGEST_MARK_US, max(SLOW_SPACE * usual, SURE_GAP_US))]
        marks = inside.tolist()
        firsts = [first, *(at for mark in marks for at in (mark, mark + 2))]
        lasts = [*(at for mark in marks for at in (mark - 2, mark)), last]
        out += [(a, b) for a, b in zip(firsts, lasts, strict=True) if a <= b]
    return out


def _slow_joined(d: Floats, bursts: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Bursts with those made one that are slow characters, whose long spaces are no gaps: at 300 baud, up to 33 ms."""
    out: list[tuple[int, int]] = []
    for first, last in bursts:
        if out:
            before = out[-1]
            shortest = min(float(d[before[0] : before[1] + 1].min()), float(d[first : last + 1].min()))
            if shortest > SLOW_US and d[before[1] + 1] < SLOW_SPACE * shortest:
                out[-1] = (before[0], last)
                continue
        out.append((first, last))
    return out


def _spaces_where(durations: Floats, is_gap: np.ndarray) -> np.ndarray:
    return np.flatnonzero(is_gap) * 2 + 1


def _between(gaps: np.ndarray, size: int) -> list[tuple[int, int]]:
    firsts = np.concatenate(([0], gaps + 1))
    lasts = np.concatenate((gaps - 1, [size - 1]))
    return list(zip(firsts.tolist(), lasts.tolist(), strict=True))


def _gaps_in(durations: Floats, pieces: np.ndarray) -> Iterator[np.ndarray]:
    """Indices of the spaces that are long beside the shortest pulses of their piece; those of one size together.

    ``pieces``, shape (n, 2), are their first and last marks.
    """
    sizes = pieces[:, 1] - pieces[:, 0] + 1
    for size in sorted(set(sizes[sizes >= FEWEST_AROUND].tolist())):
        at = pieces[sizes == size, :1] + np.arange(size)
        d = durations[at]
        marks, spaces = d[:, :-1:2], d[:, 1::2]
        # Of both kinds together, since a receiver lengthens the one and shortens the other.
        shortest = np.sort(d, axis=1)[:, size // 4, None]
        after_data = (spaces > GAP_AFTER_DATA * shortest) & (marks < LEADER_IN_SHORTEST * shortest)
        yield at[:, 1::2][(spaces > SMALLEST_GAP_US) & ((spaces > GAP_IN_SHORTEST * shortest) | after_data)]
