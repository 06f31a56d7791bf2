"""Frames hidden in a stream of pulses that has no gaps: what a cheap radio receiver puts out."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.closeness import CLEAN, STEADY_IN_CHATTER
from eager_tern.linecode.prices import IN_CHATTER
from eager_tern.linecode.regular import Stretch, regular_stretches
from eager_tern.protocol.arbiter import Candidate
from eager_tern.protocol.candidates import candidate_of
from eager_tern.protocol.damaged import fit_known, raw_range
from eager_tern.protocol.matching import match_sheets
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL, Reading, read_by_sheets, read_frame, read_frames
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.template import is_paired, symbol_template
from eager_tern.protocol.unknown import several_unknown
from eager_tern.signal.assumed import REPEAT_WITHIN_US
from eager_tern.signal.values import Pulses

FEWEST_BITS = 20  # of an unknown frame that is not sent again
FEWEST_BITS_REPEATED = 12
FEWEST_BITS_BARE = 15
REACH_PAIRS = 2  # before and behind the regular stretch, where a frame may begin and end
FEWEST_PAIRS_DISTURBED = 12


def frames_in_chatter(pulses: Pulses, offset: int, sheets: Sequence[Sheet]) -> list[Candidate]:
    """The frames in a stretch of pulses; ``offset`` is the index of its first mark in the take."""
    edges = pulses.edge_times_us
    found: list[Candidate] = []
    for stretch in regular_stretches(pulses.durations_us):
        explained = _explained(pulses, edges, stretch, sheets)
        if explained is None:
            continue
        if _is_known(explained):  # a regular part of it may have been taken for a frame
            while found and _overlap(found[-1], explained) and not _is_known(found[-1]):
                found.pop()
        if not found or not _overlap(found[-1], explained):
            found.append(explained)
    found += [known for each in found if len(each.frames) > 1 for known in _known_among(each.frames, sheets)]
    frames = [frame for each in found for frame in each.frames]
    believed = [(each, tuple(f.moved(offset) for f in each.frames if _believed(f, frames))) for each in found]
    return [
        Candidate(kept[0].first, kept[-1].last, kept, each.evidence + IN_CHATTER) for each, kept in believed if kept
    ]


def _explained(pulses: Pulses, edges: np.ndarray, stretch: Stretch, sheets: Sequence[Sheet]) -> Candidate | None:
    """What a regular stretch is: a sheet's frame, several of one code, a part of a disturbed one, or one by itself."""
    if (known := _known(pulses, edges, stretch, sheets)) is not None:
        return candidate_of(known)
    for part, first in _parts(pulses, stretch):
        if (several := several_unknown(part, first)) is not None and _steady(several.frames[0].reading):
            return several
    alone = _unknown(pulses, stretch, sheets)
    disturbed = _disturbed(pulses, edges, stretch, _of_its_code(sheets, alone))
    best = disturbed or alone
    return candidate_of(best) if best is not None else None


def _known(pulses: Pulses, edges: np.ndarray, stretch: Stretch, sheets: Sequence[Sheet]) -> Frame | None:
    """A whole frame of a sheet that begins and ends where the stretch does, give or take two pairs."""
    best: tuple[tuple[int, float], Frame] | None = None
    pairs = (stretch.last - stretch.first) // 2 + 1
    for size, fitting in _by_size(tuple(sheets)).items():
        if not pairs - REACH_PAIRS <= (size + 1) // 2 <= pairs + 2 * REACH_PAIRS:
            continue
        first = max(0, stretch.first - 2 * REACH_PAIRS)
        end = min(stretch.last + 2 * REACH_PAIRS + 2, pulses.durations_us.size)
        if end - first < size:
            continue
        windows = np.lib.stride_tricks.sliding_window_view(pulses.durations_us[first:end], size)[::2]
        steady = [
            first + 2 * at
            for at, matches in enumerate(match_sheets(windows, fitting))
            if any(match.clock.rms_us < STEADY_IN_CHATTER * match.clock.unit_us for match in matches)
        ]
        parts = [Pulses(pulses.durations_us[at : at + size], float(edges[at]), pulses.carrier_hz) for at in steady]
        for at, part, found in zip(steady, parts, read_frames(parts, fitting), strict=True):
            readings = tuple(r for r in found if r.known)
            if not readings or not _steady(readings[0]) or not readings[0].checks_hold:
                continue
            rank = (size, -readings[0].clock.rms_us)
            if best is None or rank > best[0]:
                best = rank, Frame(at, at + size - 1, part, readings)
    return best[1] if best is not None else None


@lru_cache(maxsize=16)
def _by_size(sheets: tuple[Sheet, ...]) -> dict[int, list[Sheet]]:
    sizes: dict[int, list[Sheet]] = {}
    for sheet in sheets:
        if is_paired(sheet):
            for kind in sheet.leads:
                bare = not kind.leader and kind.bit_count < FEWEST_BITS_BARE  # a part of anything
                if kind.section_count == 1 and not bare:
                    sizes.setdefault(symbol_template(sheet, kind).place.size, []).append(sheet)
    return sizes


def _of_its_code(sheets: Sequence[Sheet], alone: Frame | None) -> Sequence[Sheet]:
    """The sheets of which a regular stretch may be a part: those of its line code, where that is clear."""
    if alone is None or alone.reading.clock.rms_us > CLEAN * alone.reading.clock.unit_us:
        return sheets
    return tuple(sheet for sheet in sheets if sheet.code == alone.reading.code)


def _disturbed(pulses: Pulses, edges: np.ndarray, stretch: Stretch, sheets: Sequence[Sheet]) -> Frame | None:
    """A frame of which a part is regular, the rest disturbed: sought around that part."""
    if stretch.fitting < FEWEST_PAIRS_DISTURBED:
        return None
    length = (stretch.last - stretch.first) // 2 + 1
    period = (edges[stretch.last + 2] - edges[stretch.first]) / length if stretch.last + 2 < edges.size else 0.0
    reach = 28 * period
    low = 2 * int(np.searchsorted(edges[::2], edges[stretch.first] - reach))
    high = 2 * int(np.searchsorted(edges[1::2], edges[stretch.last + 1] + reach))
    part = pulses.part(low, min(high, pulses.durations_us.size - 1))
    # The stretch is a part of the frame, but for what of the chatter beside it happens to fit.
    fewest = stretch.fitting - 2 * REACH_PAIRS
    mended = fit_known(part, sheets, (0.85 * stretch.unit_us, 1.18 * stretch.unit_us), fewest)
    if mended is None:
        return None
    first, last = raw_range(edges, mended.pulses.start_us, mended.pulses.end_us)
    return Frame(first, last, pulses.part(first, last), mended.readings, mended.how, mended.pulses)


def _unknown(pulses: Pulses, stretch: Stretch, sheets: Sequence[Sheet]) -> Frame | None:
    """The regular stretch by itself. Characters are not: they only begin regularly."""
    for part, first in _parts(pulses, stretch):
        readings = read_frame(part, sheets)
        if readings and readings[0].bits.size and readings[0].protocol != SERIAL and _steady(readings[0]):
            return Frame(first, first + part.durations_us.size - 1, part, readings)
    return None


def _known_among(frames: Sequence[Frame], sheets: Sequence[Sheet]) -> Iterator[Candidate]:
    """Those of several frames that turn out to be a sheet's, now that it is known where they end."""
    for frame, readings in zip(frames, read_by_sheets([f.pulses for f in frames], sheets), strict=True):
        if readings and _steady(readings[0]) and readings[0].checks_hold:
            yield candidate_of(replace(frame, readings=readings))


def _parts(pulses: Pulses, stretch: Stretch) -> Iterator[tuple[Pulses, int]]:
    """The pulses of a stretch, with the mark that ends it and without, and the index of the first."""
    for last in (min(stretch.last + 2, pulses.durations_us.size - 1), stretch.last):
        yield pulses.part(stretch.first, last), stretch.first


def _overlap(before: Candidate, after: Candidate) -> bool:
    return before.last >= after.first


def _steady(reading: Reading) -> bool:
    return reading.clock.rms_us < STEADY_IN_CHATTER * reading.clock.unit_us


def _is_known(candidate: Candidate) -> bool:
    best = candidate.frames[0].best
    return best is not None and best.known


def _believed(frame: Frame, found: Sequence[Frame]) -> bool:
    """Whether a frame is more than regular chatter: known, long, or sent again."""
    best = frame.best
    if best is None:
        return False
    if best.known:
        return best.bits.size >= FEWEST_BITS_BARE or bool(best.checks)
    if best.bits.size >= FEWEST_BITS and best.clock.rms_us < CLEAN * best.clock.unit_us:
        return True
    return best.bits.size >= FEWEST_BITS_REPEATED and any(
        other is not frame
        and other.best is not None
        and abs(other.pulses.start_us - frame.pulses.start_us) < REPEAT_WITHIN_US
        and np.array_equal(other.best.bits, best.bits)
        for other in found
    )
