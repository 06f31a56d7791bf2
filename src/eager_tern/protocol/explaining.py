"""What bursts may be that no sheet explains: an unknown code, several frames, a frame in chatter or with a stray."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence

import numpy as np

from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.clusters import are_even, find_clusters
from eager_tern.protocol.arbiter import Candidate
from eager_tern.protocol.candidates import (
    Line,
    Span,
    bursts_of,
    candidate_of,
    evidence_of,
    one_a_burst,
    rows_of,
    several_of_sheets,
)
from eager_tern.protocol.chatter import frames_in_chatter
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
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL, UNKNOWN, read_by_sheets, read_frames
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.unknown import keep_time, pulses_told, several_unknown, unknown_frames
from eager_tern.signal.assumed import (
    MOST_IN_SECTION,
    MOST_PULSES,
    SHORTEST_GAP_US,
    SURE_GAP_US,
)
from eager_tern.signal.order import median
from eager_tern.signal.values import Pulses

FEWEST_IN_CHATTER = 21
FEWEST_TO_PART = 40
FEWEST_BETWEEN_RESTS = 9  # spaces of a frame for each rest behind one
REST_IN_SPACES = 1.5  # beside the next shorter kind of space
NOTHING_LEFT = 0.85  # of the pulses of some bursts: what is in clean frames leaves nothing else to be found
SURE_SERIAL = 0.9  # confidence in characters that need no second look


def explained(line: Line, bursts: Sequence[Span], left: set[int], by_hand: bool) -> list[Candidate]:
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
            first = bursts[at][0] - (2 if has_a_leader_before(line, bursts, at) else 0)
            found += _disturbed(line.part((first, bursts[at][1])), first, line.sheets, at not in told)
    return found


def without_glitches(line: Line, bursts: Sequence[Span]) -> Iterator[Candidate]:
    """The bursts that are clearly a sheet's frame, but for a few pulses far too short for it."""
    tried = [burst for burst in bursts if FEWEST_TO_MEND <= burst[1] - burst[0] + 1 <= MOST_PULSES]
    parts = [line.part(burst) for burst in tried]
    for (first, _), part, mended in zip(tried, parts, close_without_glitches(parts, line.sheets), strict=True):
        if mended is not None:
            yield _mended(part, first, mended)


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


def has_a_leader_before(line: Line, bursts: Sequence[Span], at: int) -> bool:
    """Whether the mark before a burst is as long, and as near, as a leader's."""
    d, first = line.pulses.durations_us, bursts[at][0]
    return first > 1 and float(d[first - 1]) < SURE_GAP_US and float(d[first - 2]) > float(d[first])


def _mended(burst: Pulses, offset: int, mended: Mended) -> Candidate:
    return candidate_of(mended_frame(burst, offset, mended), mended.price)


def mended_frame(burst: Pulses, offset: int, mended: Mended) -> Frame:
    first, last = raw_range(burst.edge_times_us, mended.pulses.start_us, mended.pulses.end_us)
    return Frame(
        first + offset, last + offset, burst.part(first, last), mended.readings, mended.how, mended.pulses
    )  # fmt: skip
