"""Bursts that no sheet explains, by each other: a few are read first, and show what the others are."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec.structs import replace

from eager_tern.protocol.arbiter import Candidate, best_set
from eager_tern.protocol.candidates import (
    Line,
    Span,
    bursts_of,
    bursts_of_each,
    one_a_burst,
    rows_of,
    several_of_sheets,
)
from eager_tern.protocol.end_bits import with_end_bits
from eager_tern.protocol.explaining import explained
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading, Shape
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.sections import with_sections
from eager_tern.protocol.taught import (
    FEWEST_ALIKE,
    Taught,
    is_of_no_sheet,
    read_as_taught,
    taught_by,
    taught_of_each_shape,
)
from eager_tern.signal.values import Pulses

# Rows of bursts that are read by themselves before others are held against them: two of each of the commonest looks.
ASKED_FIRST = 4


def explained_in_turns(
    line: Line, bursts: Sequence[Span], left: set[int], by_sheets: Sequence[Candidate], by_hand: bool
) -> list[Candidate]:
    """Explanations of the bursts that no sheet settles. A few are read first: they show what the others are."""
    found: list[Candidate] = []
    count = ASKED_FIRST
    while left:
        asked = _some_of_each(rows_of(line, bursts, left), bursts, count)
        found += explained(line, bursts, asked, by_hand)
        left = left - asked
        if left and not by_hand:
            alike = _like_others(line, [bursts[at] for at in sorted(left)], found)
            found += alike
            left = left - bursts_of(bursts, alike)
        count *= 2
    if found and not by_hand:
        found += _in_shapes_of_others(line, bursts, [*by_sheets, *found])
    return found


def _in_shapes_of_others(line: Line, bursts: Sequence[Span], explained: Sequence[Candidate]) -> list[Candidate]:
    """The bursts that no sheet describes as frames of each shape that others of them have.

    A symbol that stands once in a frame may pass for damage, for a sync or for the leader's; others show what it is.
    """
    best = [frame for each in best_set(explained) for frame in each.frames]
    if not (asked := _doubtful_bursts(bursts, best)):
        return []
    frames = _with_ends_and_sections(line, best)
    own = dict[Span, Shape]()  # what a burst is by itself, or with others, shows nothing new
    for frame, touched in zip(frames, bursts_of_each(bursts, frames), strict=True):
        own |= {bursts[at]: frame.reading.shape for at in touched if frame.last >= bursts[at][1]}
    found: list[Candidate] = []
    for shape, taught in taught_of_each_shape(frames).items():
        found += _as_taught(line, [burst for burst in asked if own.get(burst) != shape], taught)
    return found


def _doubtful_bursts(bursts: Sequence[Span], frames: Sequence[Frame]) -> list[Span]:
    """Those of which a part at most is read, by no sheet, or that are of a shape which nothing else has."""
    said: dict[Shape, set[bytes]] = {}
    for frame in frames:
        said.setdefault(frame.reading.shape, set()).add(frame.reading.bits.tobytes())
    clear: set[int] = set()
    for frame, touched in zip(frames, bursts_of_each(bursts, frames), strict=True):
        is_whole = (frame.first, frame.last) == bursts[touched[0]]
        is_shared = len(said[frame.reading.shape]) >= FEWEST_ALIKE
        if not is_of_no_sheet(frame) or len(touched) > 1 or (is_whole and is_shared):
            clear.update(touched)
    return [burst for at, burst in enumerate(bursts) if at not in clear]


def _some_of_each(rows: Sequence[Sequence[int]], bursts: Sequence[Span], count: int) -> set[int]:
    """The bursts of ``count`` rows, some of each size (the numbers of pulses in a row's bursts), the most common
    first.
    """
    looks: dict[frozenset[int], list[Sequence[int]]] = {}
    for row in rows:
        looks.setdefault(frozenset(bursts[at][1] - bursts[at][0] for at in row), []).append(row)
    common = sorted(looks.values(), key=len, reverse=True)
    in_turn = sorted((i // FEWEST_ALIKE, look) for look, alike in enumerate(common) for i in range(len(alike)))
    taken = Counter(look for _, look in in_turn[:count])
    return {at for look, most in taken.items() for row in common[look][:most] for at in row}


def _like_others(line: Line, spans: Sequence[Span], explained: Sequence[Candidate]) -> list[Candidate]:
    """The bursts that clearly are frames like those already read; they need no further search."""
    best = [frame for each in best_set(explained) for frame in each.frames]
    return _as_taught(line, spans, taught_by(_with_ends_and_sections(line, best)))


def _with_ends_and_sections(line: Line, frames: list[Frame]) -> list[Frame]:
    return with_sections(line.pulses, with_end_bits(line.pulses, frames))


def _as_taught(line: Line, spans: Sequence[Span], taught: Taught) -> list[Candidate]:
    if not taught:
        return []
    like = replace(line, sheets=taught.sheets)

    def read(parts: Sequence[Pulses], _sheets: Sequence[Sheet]) -> list[tuple[Reading, ...]]:
        return read_as_taught(parts, taught)

    return [*one_a_burst(like, spans, read), *several_of_sheets(like, spans, read)]
