"""Which bursts a sheet settles: what fits so well that no other explanation is tried."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.closeness import STEADY, UNEVEN
from eager_tern.protocol.arbiter import Candidate
from eager_tern.protocol.candidates import Line, Span, bursts_of_each, one_a_burst, rows_of
from eager_tern.protocol.damaged import FEWEST_CHECKED, has_checks, lies_close
from eager_tern.protocol.presses import longest_silence_us
from eager_tern.protocol.reading import Reading, by_size, read_by_sheets
from eager_tern.protocol.unknown import keep_time, unknown_frames
from eager_tern.signal.assumed import LONGEST_GAP_US, MOST_IN_SECTION
from eager_tern.signal.values import Floats, Pulses

AS_FAR = 1.5  # times the nearest copy: others are of the same noise, what inverts some bits is twice as far


def settled_by_sheets(line: Line, bursts: Sequence[Span], found: Sequence[Candidate]) -> set[int]:
    """The bursts of which no other explanation could be better, so that none is tried: close frames that lead, and
    those that say the same behind them.
    """
    settled: set[int] = set()
    said: dict[int, Reading] = {}  # by the burst that each ends in
    placed = list(zip(found, bursts_of_each(bursts, found), strict=True))
    borne_out = _by_their_inversion(placed)
    close = [(each, touched) for each, touched in placed if _is_close(each.frames[0].reading) or id(each) in borne_out]
    for each, touched in sorted(close, key=lambda pair: pair[0].first):
        best, before = each.frames[0].reading, said.get(touched[0] - 1)
        if _may_lead(best) or (before is not None and _follows(line, bursts[touched[0]], best, before)):
            settled.update(touched)
            said[touched[-1]] = best
    return settled


def _may_lead(reading: Reading) -> bool:
    """Whether a sheet's frame may stand by itself, told by its leader, or by there being no bits in it."""
    sheet = reading.sheet
    kinds = () if sheet is None else sheet.leads if reading.bits.size else sheet.frames[1:]
    return reading.kind in {kind.name for kind in kinds}


def _follows(line: Line, burst: Span, reading: Reading, before: Reading) -> bool:
    """Whether a frame says what the same sheet's frame before it says, as soon as one does while a key is held."""
    soon = line.pulses.durations_us[burst[0] - 1] < longest_silence_us(reading.sheet)
    return bool(soon) and reading.sheet is before.sheet and np.array_equal(reading.meant, before.meant)


def _is_close(best: Reading) -> bool:
    """Whether a sheet's frame fits so well that nothing could be likelier: by its checks or, without, by its clock."""
    if not best.known:
        return False
    if best.bits.size and not has_checks(best):
        return best.checks_hold and best.clock.rms_us < STEADY * best.clock.unit_us
    failed = sum(check.width * (1 if check.ok else -1) for check in best.checks) < 0
    return best.checks_hold or (lies_close(best) and not failed)


def _by_their_inversion(placed: Sequence[tuple[Candidate, range]]) -> set[int]:
    """The candidates (by ``id``) beside which their sheet reads their bits inverted: as good as a check of these."""
    ending = {(touched[-1], id(each.frames[0].reading.sheet)): each for each, touched in placed}
    found: set[int] = set()
    for each, touched in placed:
        reading = each.frames[0].reading
        before = ending.get((touched[0] - 1, id(reading.sheet)))
        if before is not None and _inverts(before.frames[0].reading, reading):
            found |= {id(before), id(each)}
    return found


def _inverts(one: Reading, other: Reading) -> bool:
    """Whether two frames of a sheet say the same with so many bits inverted that it is no accident."""
    same = one.kind != other.kind and np.array_equal(one.meant, other.meant)
    return bool(same and np.count_nonzero(one.bits != other.bits) >= FEWEST_CHECKED)


def like_their_copies(line: Line, bursts: Sequence[Span], left: set[int], fitting: set[int]) -> Iterator[Candidate]:
    """The bursts ``left`` that say what the mean of the copies beside them says, where that lies close to a sheet's
    frame: noise averages out, a code that is another does not. One of the copies is ``fitting`` a sheet by itself.
    """
    sought = {bursts[at] for at in left}
    groups = list(_copies_beside_each_other(line, bursts, left, fitting))
    means = [Pulses(np.mean([line.part(span).durations_us for span in copies], axis=0), 0.0) for copies in groups]
    uneven = partial(read_by_sheets, most_rms=UNEVEN)
    for copies, readings in zip(groups, read_by_sheets(means, line.sheets), strict=True):
        best = next(iter(readings), None)
        if best is None or best.sheet is None or not best.bits.size or not _is_close(best):
            continue
        unsettled = [span for span in copies if span in sought]
        for each in one_a_burst(replace(line, sheets=(best.sheet,)), unsettled, uneven):
            if np.array_equal(each.frames[0].reading.bits, best.bits):
                yield each


def _copies_beside_each_other(
    line: Line, bursts: Sequence[Span], left: set[int], fitting: set[int]
) -> Iterator[list[Span]]:
    """Bursts close together that are the same but for noise, where one of them is left, and one in the row fits."""
    for row in rows_of(line, bursts, set(range(len(bursts)))) if left & fitting else ():
        if left.isdisjoint(row) or fitting.isdisjoint(row):
            continue
        spans = [bursts[at] for at in row if bursts[at][1] - bursts[at][0] < MOST_IN_SECTION]
        sought = {bursts[at] for at in left.intersection(row)}
        for alike, durations in by_size([line.part(span) for span in spans]):
            for copies in _same_but_for_noise(durations):
                if sought.intersection(found := [spans[alike[copy]] for copy in copies]):
                    yield found


def _same_but_for_noise(durations_us: Floats) -> Iterator[list[int]]:
    """Which of several bursts, shape (bursts, pulses), are the same, two at least."""
    left = list(range(len(durations_us)))
    while len(left) > 1:
        away = np.sqrt(np.mean((durations_us[left[1:]] - durations_us[left[0]]) ** 2, axis=1))
        near = [left[0], *(at for at, by in zip(left[1:], away.tolist(), strict=True) if by <= AS_FAR * away.min())]
        left = [at for at in left if at not in near]
        yield near


def may_be_a_section(line: Line, bursts: Sequence[Span], at: int, settled: set[int]) -> bool:
    """Whether a burst beside this one, no farther than sections are, is a clean frame that no sheet explains."""
    d = line.pulses.durations_us
    for step in (-1, 1):
        beside = at + step
        while 0 <= beside < len(bursts) and d[bursts[max(beside, beside - step)][0] - 1] < LONGEST_GAP_US:
            first, last = bursts[beside]
            if first < last:  # a lone mark is a sync
                if beside not in settled and last - first < MOST_IN_SECTION:
                    found = unknown_frames(line.part((first, last)), first)
                    if found is not None and all(keep_time(found.frames)):
                        return True
                break
            beside += step
    return False
