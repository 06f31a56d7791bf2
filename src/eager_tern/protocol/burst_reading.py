"""Bursts to frames: each is read as it stands; what gives no clear frame is examined further."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.clusters import are_even, find_clusters
from eager_tern.linecode.prices import TWO_AT_ONCE
from eager_tern.protocol.agreed import doubtful_read_again
from eager_tern.protocol.arbiter import Candidate, best_set
from eager_tern.protocol.as_they_are import with_bits_as_they_are
from eager_tern.protocol.candidates import (
    FEWEST_PULSES,
    Line,
    Span,
    bursts_of,
    bursts_of_each,
    candidate_of,
    evidence_of,
    one_a_burst,
    rows_of,
    several_of_sheets,
)
from eager_tern.protocol.certainty import as_sure_as_bits
from eager_tern.protocol.characters import as_characters
from eager_tern.protocol.chatter import frames_in_chatter
from eager_tern.protocol.consensus import repaired_by_repeats
from eager_tern.protocol.cut_leaders import with_their_leaders
from eager_tern.protocol.damaged import (
    FEWEST_TO_MEND,
    Mended,
    close_without_glitches,
    leave_out_glitches,
    leave_out_one,
    mend,
    raw_range,
    reads_well,
)
from eager_tern.protocol.end_bits import with_end_bits
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL, UNKNOWN, Reading, Shape, read_by_sheets, read_frame, read_frames
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.sections import DOUBTED, with_sections
from eager_tern.protocol.settling import like_their_copies, may_be_a_section, settled_by_sheets
from eager_tern.protocol.taught import (
    FEWEST_ALIKE,
    Taught,
    is_of_no_sheet,
    read_as_taught,
    taught_by,
    taught_of_each_shape,
)
from eager_tern.protocol.two_of_one import as_sure_as_even
from eager_tern.protocol.unknown import keep_time, pulses_told, several_unknown, unknown_frames
from eager_tern.protocol.wholeness import as_sure_as_whole
from eager_tern.signal.assumed import (
    MOST_IN_SECTION,
    MOST_PULSES,
    SHORTEST_GAP_US,
    SURE_GAP_US,
)
from eager_tern.signal.bursts import GapSettings, split_bursts
from eager_tern.signal.order import median
from eager_tern.signal.values import Floats, Pulses

FEWEST_IN_COPY = 9  # of a frame that a gap set by hand leaves by itself
FEWEST_IN_CHATTER = 21
FEWEST_TO_PART = 40
FEWEST_BETWEEN_RESTS = 9  # spaces of a frame for each rest behind one
REST_IN_SPACES = 1.5  # beside the next shorter kind of space
NOTHING_LEFT = 0.85  # of the pulses of some bursts: what is in clean frames leaves nothing else to be found
SURE_SERIAL = 0.9  # confidence in characters that need no second look
# Rows of bursts that are read by themselves before others are held against them: two of each of the commonest looks.
ASKED_FIRST = 4


def read_bursts(
    pulses: Pulses, sheets: Sequence[Sheet], gaps: GapSettings | None = None, cut: bool = False
) -> tuple[list[Frame], list[tuple[int, int]]]:
    """The frames among the bursts of a recording, and the index ranges of the rest.

    Every way to explain a stretch is a candidate; the best set of those that do not overlap is what was read.
    """
    edges = pulses.edge_times_us
    by_hand = gaps is not None and gaps.gap_us is not None  # then frames end where the user says
    bursts = split_bursts(pulses, gaps)
    candidates = _candidates(Line(pulses, edges, tuple(sheets)), bursts, by_hand)
    if cut and bursts:  # what the rest of a frame lacks may be its greater part
        candidates = [c for c in candidates if not _may_be_a_rest(c, bursts[0]) or all(map(_is_known, c.frames))]
    frames = with_end_bits(pulses, [frame for candidate in best_set(candidates) for frame in candidate.frames])
    noise = _without_frames(bursts, frames)
    if not frames or not all(map(_is_surely_known, frames)):
        frames, noise = as_characters(pulses, edges, frames, noise)
        frames, noise = doubtful_read_again(pulses, edges, frames, noise)
        frames = with_sections(pulses, frames)
    frames = as_sure_as_bits(as_sure_as_whole(pulses, with_their_leaders(frames, sheets), sheets))
    frames = as_sure_as_even(frames)
    frames, noise = _with_repeats(pulses, edges, frames, noise, FEWEST_IN_COPY if by_hand else FEWEST_PULSES)
    return with_bits_as_they_are(pulses, edges, frames, noise)


def _candidates(line: Line, bursts: Sequence[Span], by_hand: bool) -> list[Candidate]:
    """Every explanation of the bursts. Costly ones are only computed where the cheap ones leave something to
    explain.
    """
    found = [*one_a_burst(line, bursts, read_by_sheets), *several_of_sheets(line, bursts, read_by_sheets)]
    found += one_a_burst(line, _with_the_mark_before(line, bursts), read_by_sheets)
    settled = settled_by_sheets(line, bursts, found)
    if mended := list(_without_glitches(line, [b for at, b in enumerate(bursts) if at not in settled])):
        found += mended
        settled = settled_by_sheets(line, bursts, found)  # with them, what follows them
    alike = list(like_their_copies(line, bursts, set(range(len(bursts))) - settled, bursts_of(bursts, found)))
    found += alike
    settled |= bursts_of(bursts, alike)
    # What no check speaks for may be a section of what stands beside it.
    bare = bursts_of(bursts, [each for each in found if not each.frames[0].reading.checks])
    sections = {at for at in settled & bare if may_be_a_section(line, bursts, at, settled)}
    settled -= sections
    found = [
        replace(each, evidence=each.evidence + TWO_AT_ONCE) if sections.intersection(touched) else each
        for each, touched in zip(found, bursts_of_each(bursts, found), strict=True)
    ]
    found += _explained_in_turns(line, bursts, set(range(len(bursts))) - settled, found, by_hand)
    return found


def _explained_in_turns(
    line: Line, bursts: Sequence[Span], left: set[int], by_sheets: Sequence[Candidate], by_hand: bool
) -> list[Candidate]:
    """Explanations of the bursts that no sheet settles. A few are read first: they show what the others are."""
    found: list[Candidate] = []
    doubted = bursts_of(bursts, by_sheets)
    count = ASKED_FIRST
    while left:
        asked = _some_of_each(rows_of(line, bursts, left), bursts, count)
        found += _explained(line, bursts, asked, by_hand)
        left = left - asked
        if left - doubted and not by_hand:
            alike = _like_others(line, [bursts[at] for at in sorted(left - doubted)], found)
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


def _explained(line: Line, bursts: Sequence[Span], left: set[int], by_hand: bool) -> list[Candidate]:
    """Explanations of some of the bursts other than by a sheet."""
    found: list[Candidate] = []
    clear: set[int] = set()
    repeated: set[int] = set()
    told: set[int] = set()
    parted: set[int] = set()
    for unknown in [] if by_hand else _unknown_over_several(line, bursts, left):
        found += [unknown, *_known_among(line, unknown.frames)]
        touched = bursts_of(bursts, [unknown])
        pulses = sum(bursts[at][1] - bursts[at][0] + 1 for at in touched)
        keep = zip(unknown.frames, keep_time(unknown.frames), strict=True)
        keeping = sum(frame.last - frame.first + 1 for frame, keeps in keep if keeps)
        clear |= touched if keeping > NOTHING_LEFT * pulses else set()
        said = Counter(frame.reading.bits.tobytes() for frame in unknown.frames)
        repeated |= touched & clear if min(said.values()) > 1 else set()  # no stray pulse comes twice in one place
        told |= touched if pulses_told(unknown.frames) > NOTHING_LEFT * pulses else set()
        parted |= touched if len(unknown.frames) > 1 else set()
    beside = {at for row in rows_of(line, bursts, left) if len(row) > 1 for at in row}
    for at in sorted(beside - clear - parted) if not by_hand else ():  # what stands near may hide that it is several
        if (several := several_unknown(line.part(bursts[at]), bursts[at][0])) is not None:
            found.append(several)
            parted.add(at)
    as_they_are = one_a_burst(line, [bursts[at] for at in sorted(left - clear)], read_frames)
    begins = {each.first: each for each in as_they_are}
    for at in sorted(left):
        keeps = at in clear
        if (as_it_is := begins.get(bursts[at][0])) is not None:
            best = as_it_is.frames[0]
            keeps = keep_time([best])[0] or _is_clean_serial(best)
            found += [as_it_is] if at not in parted or best.reading.protocol != UNKNOWN else []
        burst = line.part(bursts[at])
        if are_even(burst.durations_us):
            continue
        if at not in repeated:
            found += _without_strays(burst, bursts[at][0], line.sheets, by_hand)
        if not keeps:
            first = bursts[at][0] - (2 if _has_a_leader_before(line, bursts, at) else 0)
            found += _disturbed(line.part((first, bursts[at][1])), first, line.sheets, at not in told)
    return found


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


def _with_the_mark_before(line: Line, bursts: Sequence[Span]) -> list[Span]:
    """The bursts with the last mark of the one before: a leader's space is a gap beside the short pulses of chatter."""
    return [(first - 2, last) for at, (first, last) in enumerate(bursts) if _has_a_leader_before(line, bursts, at)]


def _has_a_leader_before(line: Line, bursts: Sequence[Span], at: int) -> bool:
    """Whether the mark before a burst is as long, and as near, as a leader's."""
    d, first = line.pulses.durations_us, bursts[at][0]
    return first > 1 and float(d[first - 1]) < SURE_GAP_US and float(d[first - 2]) > float(d[first])


def _known_among(line: Line, frames: Sequence[Frame]) -> Iterator[Candidate]:
    """The frames that turn out to be a sheet's, by themselves or several together, now that it is known where they
    end.
    """
    spans = [(frame.first, frame.last) for frame in frames]
    yield from one_a_burst(line, spans, read_by_sheets)
    yield from several_of_sheets(line, spans, read_by_sheets)


def _is_clean_serial(frame: Frame) -> bool:
    best = frame.reading
    return best.protocol == SERIAL and best.confidence > SURE_SERIAL and best.clock.rms_us < CLEAN * best.clock.unit_us


def _without_glitches(line: Line, bursts: Sequence[Span]) -> Iterator[Candidate]:
    """The bursts that are clearly a sheet's frame, but for a few pulses far too short for it."""
    tried = [burst for burst in bursts if FEWEST_TO_MEND <= burst[1] - burst[0] + 1 <= MOST_PULSES]
    parts = [line.part(burst) for burst in tried]
    for (first, _), part, mended in zip(tried, parts, close_without_glitches(parts, line.sheets), strict=True):
        if mended is not None:
            yield _mended(part, first, mended)


def _unknown_over_several(line: Line, bursts: Sequence[Span], left: set[int]) -> Iterator[Candidate]:
    """Frames of one unknown code in the bursts that stand close together."""
    for row in rows_of(line, bursts, left):
        first, last = bursts[row[0]][0], bursts[row[-1]][1]
        if last - first < MOST_PULSES and (found := unknown_frames(line.part((first, last)), first)):
            yield found


def _without_strays(burst: Pulses, offset: int, sheets: Sequence[Sheet], by_hand: bool) -> Iterator[Candidate]:
    """Other explanations of a burst that is not settled: as several frames, or without a few stray pulses."""
    size = burst.durations_us.size
    if not by_hand and (several := _parted(burst, offset, sheets)):
        yield Candidate(several[0].first, several[-1].last, tuple(several), sum(map(evidence_of, several)))
    if FEWEST_TO_MEND <= size <= MOST_PULSES and (mended := leave_out_glitches(burst, sheets)) is not None:
        yield _mended(burst, offset, mended)
    if FEWEST_TO_MEND <= size <= MOST_IN_SECTION and (mended := leave_out_one(burst, sheets)) is not None:
        yield _mended(burst, offset, mended)


def _disturbed(burst: Pulses, offset: int, sheets: Sequence[Sheet], chatter: bool) -> Iterator[Candidate]:
    """Explanations of a burst without a steady clock: frames within ``chatter``, or the most likely frame of a
    sheet.
    """
    size = burst.durations_us.size
    if chatter and size >= FEWEST_IN_CHATTER:
        yield from frames_in_chatter(burst, offset, sheets)
    if size <= MOST_IN_SECTION and (mended := mend(burst, sheets)) is not None:
        yield _mended(burst, offset, mended)


def _may_be_a_rest(candidate: Candidate, burst: Span) -> bool:
    """Whether a frame of the recording's first burst may have begun before it; not so one far inside of chatter."""
    frame = candidate.frames[0]
    return frame.first <= burst[1] and frame.first - burst[0] <= frame.last - frame.first


def _is_known(frame: Frame) -> bool:
    return frame.best is not None and frame.best.known


def _is_surely_known(frame: Frame) -> bool:
    """Whether a frame is a sheet's, and not rather a part of something that none describes."""
    return _is_known(frame) and frame.reading.confidence > DOUBTED


def _mended(burst: Pulses, offset: int, mended: Mended) -> Candidate:
    return candidate_of(_mended_frame(burst, offset, mended), mended.price)


def _parted(burst: Pulses, offset: int, sheets: Sequence[Sheet]) -> list[Frame]:
    """The frames between a burst's few longest spaces, if each piece is one: some repeat after a short rest.

    A stray pulse may stand in a rest.
    """
    d = burst.durations_us
    spaces = d[1::2]
    if d.size < FEWEST_TO_PART:
        return []
    groups = find_clusters(spaces)
    if len(groups) < 2 or groups[-1].count > spaces.size / FEWEST_BETWEEN_RESTS:
        return []
    bound = float(np.sqrt(groups[-1].centre_us * groups[-2].centre_us))
    if groups[-1].centre_us < max(SHORTEST_GAP_US, REST_IN_SPACES * groups[-2].centre_us):
        return []
    rests = 2 * np.flatnonzero(spaces > bound) + 1
    edges = burst.edge_times_us
    spans = list(zip([0, *(rests + 1).tolist()], [*(rests - 1).tolist(), d.size - 1], strict=True))
    usual = median(d[0::2])
    spans = [(first, last) for first, last in spans if first < last or d[first] > usual]
    pieces = [burst.part(first, last, edges) for first, last in spans]
    read = read_by_sheets(pieces, sheets)
    # Characters stand apart as well: rather one row of them than several frames.
    if len(read) < 2 or not all(reads_well(readings) and readings[0].protocol != SERIAL for readings in read):
        return []
    return [
        Frame(first + offset, last + offset, piece, readings)
        for (first, last), piece, readings in zip(spans, pieces, read, strict=True)
    ]


def read_alone(burst: Pulses, first: int, last: int, sheets: Sequence[Sheet]) -> Frame:
    """A frame at a known place, read without its surroundings."""
    readings = read_frame(burst, sheets)
    if not reads_well(readings) or not readings[0].known:
        frames, _ = read_bursts(burst, sheets)
        if len(frames) == 1 and (frames[0].first, frames[0].last) == (
            0,
            last - first,
        ):  # perhaps one of several sections
            return replace(frames[0], first=first, last=last)
    if not reads_well(readings) and (mended := mend(burst, sheets)) is not None:
        return Frame(first, last, burst, mended.readings, mended.how, mended.pulses)
    return Frame(first, last, burst, readings)


def _mended_frame(burst: Pulses, offset: int, mended: Mended) -> Frame:
    first, last = raw_range(burst.edge_times_us, mended.pulses.start_us, mended.pulses.end_us)
    return Frame(
        first + offset, last + offset, burst.part(first, last), mended.readings, mended.how, mended.pulses
    )  # fmt: skip


def _without_frames(bursts: Sequence[tuple[int, int]], frames: Sequence[Frame]) -> list[tuple[int, int]]:
    """The parts of the bursts that belong to no frame."""
    left: list[tuple[int, int]] = []
    at = 0
    for first, last in bursts:
        while at < len(frames) and frames[at].last < first:
            at += 1
        begin, inside = first, at
        while inside < len(frames) and frames[inside].first <= last:
            left.append((begin, frames[inside].first - 2))
            begin = frames[inside].last + 2
            inside += 1
        left.append((begin, last))
    return [(a, b) for a, b in left if a <= b]


def _with_repeats(
    pulses: Pulses, edges: Floats, frames: list[Frame], noise: list[tuple[int, int]], fewest: int
) -> tuple[list[Frame], list[tuple[int, int]]]:
    """The frames after their repeats were asked, and the noise that is left; a repeat has at least so many pulses."""
    longest = max((frame.last - frame.first for frame in frames), default=0)
    strays = [(a, b, pulses.part(a, b, edges)) for a, b in noise if fewest <= b - a + 1 <= longest + 9]
    mended, taken = repaired_by_repeats(pulses, frames, strays)
    return mended, [span for span in noise if span[0] not in taken]
