"""Bursts to frames: each is read as it stands; what gives no clear frame is examined further."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from eager_tern.linecode.prices import TWO_AT_ONCE
from eager_tern.protocol.agreed import doubtful_read_again
from eager_tern.protocol.arbiter import Candidate, best_set
from eager_tern.protocol.as_they_are import with_bits_as_they_are
from eager_tern.protocol.by_others import explained_in_turns
from eager_tern.protocol.candidates import (
    FEWEST_PULSES,
    Line,
    Span,
    bursts_of,
    bursts_of_each,
    one_a_burst,
    several_of_sheets,
)
from eager_tern.protocol.certainty import as_sure_as_bits
from eager_tern.protocol.characters import as_characters
from eager_tern.protocol.consensus import repaired_by_repeats
from eager_tern.protocol.cut_leaders import with_their_leaders
from eager_tern.protocol.damaged import (
    mend,
    reads_well,
)
from eager_tern.protocol.end_bits import with_end_bits
from eager_tern.protocol.explaining import has_a_leader_before, without_glitches
from eager_tern.protocol.missed_leaders import as_sure_as_led
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import read_by_sheets, read_frame
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.sections import DOUBTED, with_sections
from eager_tern.protocol.settling import like_their_copies, may_be_a_section, settled_by_sheets
from eager_tern.protocol.two_of_one import as_sure_as_even
from eager_tern.protocol.wholeness import as_sure_as_uncut, as_sure_as_whole
from eager_tern.signal.bursts import GapSettings, split_bursts
from eager_tern.signal.values import Floats, Pulses

FEWEST_IN_COPY = 9  # of a frame that a gap set by hand leaves by itself


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
    frames = as_sure_as_led(pulses, frames, sheets)
    noise = without_frames(bursts, frames)
    if not frames or not all(map(_is_surely_known, frames)):
        frames, noise = as_characters(pulses, edges, frames, noise)
        frames, noise = doubtful_read_again(pulses, edges, frames, noise)
        frames = with_sections(pulses, frames)
    frames = as_sure_as_bits(as_sure_as_whole(pulses, with_their_leaders(frames, sheets), sheets))
    frames = as_sure_as_uncut(as_sure_as_even(frames))
    frames, noise = _with_repeats(pulses, edges, frames, noise, FEWEST_IN_COPY if by_hand else FEWEST_PULSES)
    return with_bits_as_they_are(pulses, edges, frames, noise)


def _candidates(line: Line, bursts: Sequence[Span], by_hand: bool) -> list[Candidate]:
    """Every explanation of the bursts. Costly ones are only computed where the cheap ones leave something to
    explain.
    """
    found = [*one_a_burst(line, bursts, read_by_sheets), *several_of_sheets(line, bursts, read_by_sheets)]
    found += one_a_burst(line, _with_the_mark_before(line, bursts), read_by_sheets)
    settled = settled_by_sheets(line, bursts, found)
    if mended := list(without_glitches(line, [b for at, b in enumerate(bursts) if at not in settled])):
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
    found += explained_in_turns(line, bursts, set(range(len(bursts))) - settled, found, by_hand)
    return found


def _with_the_mark_before(line: Line, bursts: Sequence[Span]) -> list[Span]:
    """The bursts with the last mark of the one before: a leader's space is a gap beside the short pulses of chatter."""
    return [(first - 2, last) for at, (first, last) in enumerate(bursts) if has_a_leader_before(line, bursts, at)]


def _may_be_a_rest(candidate: Candidate, burst: Span) -> bool:
    """Whether a frame of the recording's first burst may have begun before it; not so one far inside of chatter."""
    frame = candidate.frames[0]
    return frame.first <= burst[1] and frame.first - burst[0] <= frame.last - frame.first


def _is_known(frame: Frame) -> bool:
    return frame.best is not None and frame.best.known


def _is_surely_known(frame: Frame) -> bool:
    """Whether a frame is a sheet's, and not rather a part of something that none describes."""
    return _is_known(frame) and frame.reading.confidence > DOUBTED


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


def without_frames(bursts: Sequence[tuple[int, int]], frames: Sequence[Frame]) -> list[tuple[int, int]]:
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
