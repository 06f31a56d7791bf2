"""Frames whose leader was cut short: the recording began within it, or the receiver's gain had to settle first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from functools import lru_cache

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.clock import alternating
from eager_tern.protocol.damaged import checked_bits, has_checks, lies_close
from eager_tern.protocol.fields import Names
from eager_tern.protocol.lone import SAME_LEADER
from eager_tern.protocol.presses import Frame, at_most
from eager_tern.protocol.reading import GUESSED, UNKNOWN_MOST, Reading, Shape, read_by_sheets
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.protocol.template import is_paired
from eager_tern.protocol.wholeness import DOUBTED
from eager_tern.signal.values import Floats, Pulses

LONGER = 1.15  # than its sheet's: by which a receiver, and a handset's clock, may lengthen a leader
ALIKE = 0.2  # by which symbols of one code differ, between receivers and handsets
STRAY = 0.3  # of a unit: a mark so short is none of the frame
NEIGHBOURS = 3  # in order of length, among which a leader is looked for again
CUT = "its leader was cut short"


def with_their_leaders(frames: Sequence[Frame], sheets: Sequence[Sheet]) -> list[Frame]:
    """The frames; one that is all of a sheet's frame but its leader, with checks that hold, is that one. One that is in
    a sheet's symbols, and has less of a leader, is doubted.

    Only what no sheet explains is asked, or one whose leader is another. A leader that comes twice is no accident.
    """
    asked = [at for at, frame in enumerate(frames) if _is_open(frame)]
    said = Counter((frames[at].reading.shape, frames[at].reading.bits.tobytes()) for at in asked)
    out = list(frames)
    for at in _of_leaders_of_their_own(frames, asked):
        out[at] = _as_sheets(frames[at], sheets)
        once = said[frames[at].reading.shape, frames[at].reading.bits.tobytes()] == 1
        if out[at].is_unknown and once and _is_rest_of(frames[at], sheets):
            out[at] = at_most(frames[at], GUESSED)
    return out


def _of_leaders_of_their_own(frames: Sequence[Frame], asked: Sequence[int]) -> list[int]:
    """Those of some frames, by their numbers, whose leader no other frame of their shape has."""
    groups: dict[tuple[Shape, int], list[tuple[int, Floats]]] = {}
    for at in asked:
        leader_us = _leader_us(frames[at])
        groups.setdefault((frames[at].reading.shape, leader_us.size), []).append((at, leader_us))
    own = []
    for group in groups.values():
        leaders = np.array([leader_us for _, leader_us in group])
        order = np.argsort(leaders.sum(axis=1), kind="stable")
        recurs = np.zeros(len(group), np.bool_)
        for apart in range(1, min(NEIGHBOURS, len(group) - 1) + 1):  # of one length stand together
            one, other = order[:-apart], order[apart:]
            same = (np.abs(leaders[one] - leaders[other]) <= SAME_LEADER * leaders[other]).all(axis=1)
            recurs[one[same]] = recurs[other[same]] = True
        own += [at for (at, _), again in zip(group, recurs.tolist(), strict=True) if not again]
    return own


def _is_rest_of(frame: Frame, sheets: Sequence[Sheet]) -> bool:
    """Whether an unknown frame is in the symbols of a sheet and no longer than its frame, but for the leader."""
    best = frame.reading
    alphabet = _alphabet_us(best)
    if alphabet is None:
        return False
    leader_us = _leader_us(frame)
    return any(
        sheet.code == best.code
        and best.bits.size <= kind.bit_count + 1
        and bool((np.abs(alphabet / symbols - 1) < ALIKE).all())
        and any(_may_be_cut(left, _in_us(kind.leader, sheet)) for left in _without_cut_bits(leader_us, alphabet))
        for sheet, kind, symbols in _led(tuple(sheets))
    )


def _is_open(frame: Frame) -> bool:
    """Whether a frame may be another's but for the leader: unknown, or with a leader that is not its sheet's."""
    if frame.best is None or frame.mended or not frame.best.bits.size:
        return False
    wanted_us = np.abs(np.array(_leader_units(frame.best))) * frame.best.clock.unit_us
    return frame.is_unknown or (frame.best.known and not _same(_leader_us(frame), wanted_us))


def _leader_us(frame: Frame) -> Floats:
    """The pulses before the first bit, without a stray one that the others follow."""
    best, d, ahead = frame.reading, frame.as_read.durations_us, _first_bit(frame)
    stray = not best.known and ahead > 1 and d[0] < STRAY * best.clock.unit_us
    return d[2 if stray else 0 : ahead]


def _first_bit(frame: Frame) -> int:
    """The pulse with which the bits begin."""
    best = frame.reading
    return len(_leader_units(best)) if best.known else int(np.argmax(~np.isnan(best.expected_us)))


def _without_cut_bits(leader_us: Floats, alphabet_us: Floats) -> Iterator[Floats]:
    """The leader, and what it is where the last pairs of it are bits of which something was cut off."""
    yield leader_us
    while leader_us.size > 1 and leader_us[-2] < LONGER * alphabet_us[1] and leader_us[-1] < 2 * alphabet_us[3]:
        leader_us = leader_us[:-2]
        yield leader_us


def _leader_units(best: Reading) -> tuple[float, ...]:
    """The leader that a sheet's frame should have, in units."""
    return best.sheet.frame(best.kind).leader if best.sheet is not None else ()


def _same(one: Floats, other: Floats) -> bool:
    return one.size == other.size and bool((np.abs(one - other) <= SAME_LEADER * other).all())


def _as_sheets(frame: Frame, sheets: Sequence[Sheet]) -> Frame:
    """The frame as a sheet's, with the leader it wants, if more checks speak for that; doubted, if as many do."""
    left, best = _leader_us(frame), frame.reading
    fitting = [
        (without, leader)
        for without, leader in _without_leaders(tuple(sheets))
        if without.code == best.code and without.bit_count == best.bits.size and _may_be_cut(left, leader)
    ]
    if not fitting:
        return frame
    whole, begin = frame.pulses, _first_bit(frame)
    start_us = whole.start_us + float(whole.durations_us[:begin].sum())
    rest = Pulses(whole.durations_us[begin:], start_us, whole.carrier_hz)
    found = next(iter(read_by_sheets([rest], [without for without, _ in fitting])[0]), None)
    if found is None or not found.checks_hold or not lies_close(found) or not has_checks(found):
        return frame
    more = checked_bits(found) - checked_bits(best)
    if more <= 0:
        return at_most(frame, DOUBTED) if more == 0 else frame
    of_sheet, leader_us = next(each for each in fitting if each[0] is found.sheet)
    leader_us = leader_us / of_sheet.unit_us * found.clock.unit_us
    leader_us = leader_us + found.clock.excess_us * alternating(leader_us.size)
    mended = Pulses(np.concatenate((leader_us, rest.durations_us)), start_us - float(leader_us.sum()), whole.carrier_hz)
    readings = read_by_sheets([mended], sheets)[0]
    if not readings or readings[0].protocol != found.protocol:
        return frame
    sure = tuple(replace(r, confidence=min(r.confidence, found.confidence, UNKNOWN_MOST)) for r in readings)
    return replace(frame, readings=sure, mended=CUT, read_as=mended)


def _may_be_cut(leader_us: Floats, sheets_us: Floats) -> bool:
    """Whether a leader is what is left of another: some of its pulses, the first mark shorter and the space behind it
    longer, if anything.
    """
    missing = sheets_us.size - leader_us.size
    if missing < 0 or missing % 2:
        return False
    if not missing and leader_us.size and leader_us[0] >= sheets_us[0]:  # all of it is there: it is another leader
        return False
    left = sheets_us[missing:]
    no_longer = leader_us.sum() < LONGER * left.sum() or not left.size
    return bool(no_longer and (leader_us[1:] > left[1:] / LONGER).all() and not _same(leader_us, sheets_us))


def _alphabet_us(reading: Reading) -> Floats | None:
    """The shortest and longest mark and space of a frame's symbols; None where there are no two symbols."""
    told = reading.expected_us[~np.isnan(reading.expected_us)]
    if reading.symbols != 2 or told.size < 4:
        return None
    marks, spaces = reading.expected_us[0::2], reading.expected_us[1::2]
    return np.array([np.nanmin(marks), np.nanmax(marks), np.nanmin(spaces), np.nanmax(spaces)])


def _in_us(units: Sequence[float], sheet: Sheet) -> Floats:
    us: Floats = np.abs(np.array(units)) * sheet.unit_us
    return us


@lru_cache(maxsize=16)
def _led(sheets: tuple[Sheet, ...]) -> list[tuple[Sheet, FrameKind, Floats]]:
    """The sheets' frames that begin with a leader, with shortest and longest mark and space of their symbols (µs)."""
    found = []
    for sheet in sheets:
        if sheet.zero is None or sheet.one is None or sheet.serial is not None:
            continue
        joins = sheet.zero[0] * sheet.one[0] < 0  # halves of neighbouring bits make one pulse
        pulses = np.array([*sheet.zero, *sheet.one, *((2.0, -2.0) if joins else ())]) * sheet.unit_us
        marks, spaces = pulses[pulses > 0], -pulses[pulses < 0]
        symbols = np.array([marks.min(), marks.max(), spaces.min(), spaces.max()])
        found += [(sheet, kind, symbols) for kind in sheet.leads if kind.leader and kind.section_count == 1]
    return found


@lru_cache(maxsize=16)
def _without_leaders(sheets: tuple[Sheet, ...]) -> list[tuple[Sheet, Floats]]:
    """The sheets with such frames, each without one's leader, and that leader (µs)."""
    found = []
    for sheet, kind, _ in _led(sheets):
        if is_paired(sheet) and len(kind.leader) % 2 == 0:
            bare = FrameKind(name=kind.name, repeat=kind.repeat, inverts=kind.inverts, parts=kind.parts[1:])
            only = Names((kind.name,))
            without = replace(sheet, frames=(bare,), press=replace(sheet.press, first=only, held=only))
            found.append((without, _in_us(kind.leader, sheet)))
    return found
