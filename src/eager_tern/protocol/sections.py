"""Unknown frames of several sections: what recurs tells them from repeats."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import combinations, pairwise

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.identify import clock_of_all
from eager_tern.linecode.lengths import lengths_of
from eager_tern.protocol.presses import Frame, at_most
from eager_tern.protocol.reading import SERIAL, Reading, Shape, digits_of
from eager_tern.protocol.wholeness import BYTE, is_damaged_copy
from eager_tern.signal.assumed import LONGEST_GAP_US
from eager_tern.signal.values import Floats, Pulses

Shapes = tuple[Shape, ...]  # of the frames of a row

SAME_SYMBOLS = 0.2  # by which the symbols of two sections may differ
DOUBTED = 0.5  # confidence below which a section that reads as a protocol by chance may be one all the same
SAME_BITS = 1 / 16  # of the bits may differ in a repeat that was damaged
MOST_SECTIONS = 4
UNDAMAGED = 0.5  # of the copies: with fewer, what recurs says as little as what does not


def with_sections(pulses: Pulses, frames: Sequence[Frame]) -> list[Frame]:
    """The frames, those in a row that are sections of one frame joined.

    A row that says something, then the same again, is a repeat; one that says several things in turn is a frame of as
    many sections, unless one of them is sent again by itself elsewhere: then a repeat of it is damaged. Rows that look
    alike are judged together, by what most of them say; what recurs in some rows says where a frame begins in the
    others. ``pulses`` are those that the frames' indices count.
    """
    rows = _rows(frames)
    alike: dict[Shapes, list[list[Frame]]] = {}
    for row in rows:
        alike.setdefault(_shapes(row), []).append(row)
    periods = {shapes: _period(group) for shapes, group in alike.items()}
    alone = {shapes[0] for shapes, period in periods.items() if period == 1 < len(shapes)}
    for shapes, period in periods.items():
        if period == len(shapes) and alone.intersection(shapes):
            periods[shapes] = 1
    cycles = _cycles(periods, {shapes: len(group) for shapes, group in alike.items()})
    parts = [part for row in rows for part in _parted(row, periods[_shapes(row)], cycles)]
    seen = Counter(map(_shapes, parts))
    out: list[Frame] = []
    for part in parts:
        joined = _joined(pulses, part) if len(part) > 1 else part[0]
        holed = len(part) > 1 and seen[_shapes(part)] == 1 and _may_have_a_hole(part)
        out.append(at_most(joined, DOUBTED) if holed else joined)
    return out


def _cycles(periods: Mapping[Shapes, int], often: Mapping[Shapes, int]) -> list[Shapes]:
    """The shapes of the sections of whole frames, as most rows have them in turn, the commonest first.

    ``often`` is how many rows have the shapes that ``periods`` tells the period of. Of cycles that are the same but for
    where they begin, only the commonest: the other rows began within a frame.
    """
    counts: Counter[Shapes] = Counter()
    for shapes, period in periods.items():
        if period > 1:
            usual = tuple(Counter(shapes[at::period]).most_common(1)[0][0] for at in range(period))
            counts[usual] += often[shapes]
    found: list[Shapes] = []
    for cycle, _ in counts.most_common():
        turned = {cycle[at:] + cycle[:at] for at in range(len(cycle))}
        found += [cycle] if turned.isdisjoint(found) else []
    return found


def _parted(row: Sequence[Frame], period: int, cycles: Sequence[Shapes]) -> list[Sequence[Frame]]:
    """A row in the parts that are a frame each: as a cycle of sections that occurs in it says, else by its period."""
    shapes = _shapes(row)
    for cycle in cycles:
        size = len(cycle)
        if period in (1, size) and (whole := _whole(shapes, cycle)):
            bounds = {0, len(row), *whole, *(at + size for at in whole)}
            bounds.update(range(whole[0], 0, -size))  # what stands before the first whole one ends where that begins
            for last, following in pairwise([*whole, len(row)]):
                bounds.update(range(last + size, following, size))
            return [row[first:end] for first, end in pairwise(sorted(bounds))]
    return [row[first : first + period] for first in range(0, len(row), period)]


def _whole(shapes: Shapes, cycle: Shapes) -> list[int]:
    """Where a cycle stands whole among some shapes, no two of them overlapping. As many shapes as the cycle has are
    one that damage changed, where half of them are its own.
    """
    size = len(cycle)
    found: list[int] = []
    for at in range(len(shapes) - size + 1):
        if shapes[at : at + size] == cycle and (not found or at >= found[-1] + size):
            found.append(at)
    alike = sum(one == other for one, other in zip(shapes, cycle, strict=False))
    return found or ([0] if len(shapes) == size and 2 * alike >= size else [])


def part_pulses(frame: Frame) -> list[Pulses]:
    """The pulses of each section of a frame; of a frame in one piece, its pulses."""
    reading, pulses = frame.best, frame.as_read
    if reading is None or len(reading.sections) < 2:
        return [pulses]
    gaps = reading.gaps or tuple((np.flatnonzero(np.isnan(reading.expected_us[1:-1])) + 1).tolist())
    firsts, lasts = [0, *(at + 1 for at in gaps)], [*(at - 1 for at in gaps), pulses.durations_us.size - 1]
    return [pulses.part(first, last) for first, last in zip(firsts, lasts, strict=True)]


def _rows(frames: Sequence[Frame]) -> list[list[Frame]]:
    """Frames grouped: in a row stand unknown ones of one line code and unit with short gaps between."""
    near = [at for at in range(1, len(frames)) if _may_belong_behind(frames[at - 1], frames[at])]
    behind = set(_of_like_symbols(frames, near))
    rows: list[list[Frame]] = []
    for at, frame in enumerate(frames):
        if at in behind:
            rows[-1].append(frame)
        else:
            rows.append([frame])
    return rows


def _may_belong_behind(before: Frame, frame: Frame) -> bool:
    one, other = before.reading, frame.reading
    if before.mended or frame.mended or one.sections or other.sections:
        return False
    if any(r.known and r.confidence > DOUBTED for r in (one, other)) or one.symbol_bits != other.symbol_bits:
        return False
    gap = frame.pulses.start_us - before.pulses.end_us
    return one.code == other.code and one.protocol != SERIAL and gap < LONGEST_GAP_US and frame.first == before.last + 2


def _of_like_symbols(frames: Sequence[Frame], near: Sequence[int]) -> list[int]:
    """Those of some frames, by their numbers, whose symbols are as long as those of the frame before, as far as they
    occur in both.
    """
    asked = sorted({at for each in near for at in (each - 1, each)})
    if not asked:
        return []
    symbols = [_symbols_us(frames[at].reading) for at in asked]
    number = np.repeat(np.arange(len(asked)), [each.size for each in symbols])
    lengths = lengths_of(np.concatenate(symbols), number, len(asked))
    at = np.searchsorted(asked, near)
    one, other = lengths[at - 1], lengths[at]
    more_before = (np.isfinite(one).sum(axis=1) > np.isfinite(other).sum(axis=1))[:, None]
    fewer, more = np.where(more_before, other, one), np.where(more_before, one, other)
    with np.errstate(invalid="ignore"):  # what fills the rows up is infinite, and no symbol
        off = np.fmin.reduce(np.abs(more[:, :, None] / fewer[:, None, :] - 1), axis=1)
    unlike = (~(off < SAME_SYMBOLS) & np.isfinite(fewer)).sum(axis=1)
    # Each of two may lack one of many symbols that the other has.
    many = np.array([min(frames[at - 1].reading.symbols, frames[at].reading.symbols) > 2 for at in near])
    return [each for each, alike in zip(near, (unlike <= many).tolist(), strict=True) if alike]


def _symbols_us(reading: Reading) -> Floats:
    """How long a frame's symbols are (µs): a unit may be found as half or two thirds of another frame's."""
    if reading.code == "biphase":
        return np.array([2 * reading.clock.unit_us])
    expected: Floats = reading.expected_us[: reading.expected_us.size // 2 * 2].reshape(-1, 2).sum(axis=1)
    return expected[~np.isnan(expected)]


def _shapes(row: Sequence[Frame]) -> Shapes:
    return tuple(frame.reading.shape for frame in row)


def _period(rows: Sequence[Sequence[Frame]]) -> int:
    """After how many frames most of some rows of the same shapes repeat themselves; 1 where it cannot be told."""
    size = len(rows[0])
    for share in (1.0, UNDAMAGED):
        for period in range(1, min(size, MOST_SECTIONS + 1)):
            if 2 * sum(_recurs(row, period, share) for row in rows) >= len(rows):
                return period if _are_sections(rows, period) else 1
    return size if size <= MOST_SECTIONS and _are_sections(rows, size) else 1


def _recurs(row: Sequence[Frame], period: int, share: float) -> bool:
    """Whether each of so many frames in turn comes again, in such a share of the others of its turn or after such a
    share of them.
    """
    for at in range(min(period, len(row) - period)):
        turn = row[at::period]
        least = share * (len(turn) - 1)
        if sum(_same(one, other) for one, other in pairwise(turn)) < least and _like_the_usual(turn) < least:
            return False
    return True


def _like_the_usual(frames: Sequence[Frame]) -> int:
    """How many of some frames say what most do, the one that says so left out."""
    said = Counter(frame.reading.bits.tobytes() for frame in frames)
    usual = next(frame for frame in frames if frame.reading.bits.tobytes() == said.most_common(1)[0][0])
    return sum(_same(usual, frame) for frame in frames) - 1


def _are_sections(rows: Sequence[Sequence[Frame]], period: int) -> bool:
    """Whether in most rows the first so many frames say something else than those before them, and none among so many
    in turn only what damage left of another.
    """
    return 2 * sum(_repeats(row, period) for row in rows) < len(rows)


def _repeats(row: Sequence[Frame], period: int) -> bool:
    """Whether what would be sections of one frame says the same, or what damage left of the same."""
    parts = (row[at : at + period] for at in range(0, len(row), period))
    return any(_same(a, b) for a, b in pairwise(row[:period])) or any(map(_holds_a_damaged_copy, parts))


def _same(frame: Frame, other: Frame) -> bool:
    one, two = frame.reading.bits, other.reading.bits
    return one.size == two.size and int(np.sum(one != two)) <= max(1, SAME_BITS * one.size)


def _holds_a_damaged_copy(row: Sequence[Frame]) -> bool:
    """Whether one of some frames says what another one does, but for what damage took from it."""
    by_size = sorted(row, key=lambda frame: frame.reading.bits.size)
    return any(is_damaged_copy(less, more) for less, more in combinations(by_size, 2))


def _may_have_a_hole(sections: Sequence[Frame]) -> bool:
    """Whether what was taken for sections may be one row of bits out of which some were lost: the later ones begin
    without a leader, and not all have whole bytes.
    """
    bare = any(not np.isnan(section.reading.expected_us[0]) for section in sections[1:])
    return bare and any(section.reading.bits.size % BYTE for section in sections)


def _joined(pulses: Pulses, sections: Sequence[Frame]) -> Frame:
    """One frame whose bits run through all its sections."""
    first, last = sections[0].first, sections[-1].last
    start = sections[0].pulses.start_us
    whole = Pulses(pulses.durations_us[first : last + 1], start, pulses.carrier_hz)
    readings = [section.reading for section in sections]
    offsets = [section.pulses.start_us - start for section in sections]
    expected = [readings[0].expected_us]
    for reading in readings[1:]:
        expected += [np.array([np.nan]), reading.expected_us]
    clock = clock_of_all([reading.clock for reading in readings])
    reading = replace(
        readings[0],
        confidence=min(reading.confidence for reading in readings),
        clock=clock,
        bits=np.concatenate([reading.bits for reading in readings]),
        bit_spans_us=np.concatenate([r.bit_spans_us + at for r, at in zip(readings, offsets, strict=True)]),
        expected_us=np.concatenate(expected),
        symbols=max(reading.symbols for reading in readings),
        sections=tuple(int(reading.bits.size) for reading in readings),
        gaps=tuple(section.first - 1 - first for section in sections[1:]),
    )
    reading = reading if reading.known else replace(reading, fields=digits_of(reading))
    return Frame(first, last, whole, (reading,))
