"""How sure it is that an unknown frame is complete. No sheet says what is missing, but other frames may."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.values import Bits
from eager_tern.protocol.abreast import Abreast, abreast
from eager_tern.protocol.lone import is_rather_damaged
from eager_tern.protocol.presses import Frame, at_most
from eager_tern.protocol.reading import GUESSED, SERIAL, Reading, Shape
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.assumed import LONGEST_SILENCE_US, SHORTEST_GAP_US
from eager_tern.signal.stretches import stretches
from eager_tern.signal.values import Floats, Pulses

FEWEST_BITS = 16  # of a frame that is believed though nothing like it was sent again
DOUBTED = 0.5  # confidence at most in one that is shorter, or unlike several others of its code
NIBBLE, BYTE = 4, 8  # bits
# Confidence at most in a lone frame of no whole nibbles, or that was mended: one gadget in five sends such, three cut
# frames in four are.
ODD_ALONE = 0.8
NEAR = 2  # frames away: the longer of two that were one may stand between
FEWEST_LEFT = 12  # bits that are the same by accident in one case of 200
LOST_WITHIN = 1.1  # of what the pulses beside a lost mark last with it
OUTLYING = 6.0  # standard deviations: no jitter
BESIDE = 0.3  # of what lies between two lengths
LONGER = 1.5  # than any symbol's: a leader's
AS_LONG = 0.3  # of a unit: pulses that differ by less are of one length
AS_LONG_AS_WHOLE = 0.04  # by which the lengths of a copy and of what damage left of it differ
HALF_ALIKE = 0.5  # of the bits of a damaged copy, at its ends; two sections have a header alike
MOSTLY_ALIKE = 0.75  # the same where no bit is missing
FEWEST_ALIKE = 2  # frames of another shape, which make that the usual one

Look = tuple[Shape, tuple[int, ...]]  # a frame's shape, and which pulses among its bits are none of them


def as_sure_as_whole(pulses: Pulses, frames: Sequence[Frame], sheets: Sequence[Sheet]) -> list[Frame]:
    """The frames; the confidence in unknown ones is limited by how surely they are complete.

    A frame is taken for whole that looks like another one of the take. By itself it is doubted where a pulse among its
    bits is neither a bit nor a gap, where a mark or a bit may have been lost, where it has no silence on either side,
    where it is short, where others of its code are alike and it is not, and where it is rather another frame, damaged;
    and where it was mended.
    """
    unknown = [at for at, f in enumerate(frames) if f.is_unknown and f.reading.bits.size]
    asked = dict(zip(unknown, _looks([frames[at] for at in unknown]), strict=True))
    looks = Counter(asked.values())
    usual: dict[str, int] = {}  # of each line code, how many frames look alike at the most
    for (shape, _), count in looks.items():
        usual[shape[0]] = max(usual.get(shape[0], 0), count)
    out = list(frames)
    for at, (_, odd) in asked.items():
        if looks[asked[at]] == 1 and frames[at].mended:
            out[at] = at_most(frames[at], DOUBTED if usual[asked[at][0][0]] >= FEWEST_ALIKE else ODD_ALONE)
        elif looks[asked[at]] == 1:
            beside = [other for other in range(at - NEAR, at + NEAR + 1) if other in asked and other != at]
            lost = bool(odd) or any(_is_damaged(frames[at].reading.bits, frames[b].reading.bits) for b in beside)
            lost = lost or is_rather_damaged(frames[at], sheets)
            unlike = any(looks[asked[b]] == 1 and _is_beside_another(frames[at], frames[b]) for b in beside)
            out[at] = _doubted(frames[at], pulses.durations_us, lost, unlike or usual[asked[at][0][0]] >= FEWEST_ALIKE)
    serial = [at for at, frame in enumerate(frames) if frame.best is not None and frame.best.protocol == SERIAL]
    if len(serial) == 1 and is_rather_damaged(frames[serial[0]], sheets):
        out[serial[0]] = at_most(frames[serial[0]], GUESSED)
    return out


def as_sure_as_uncut(frames: Sequence[Frame]) -> list[Frame]:
    """The frames; a known one without leader and checks is doubted whose bits stand in those of an unknown one, longer
    and clear, of its code: it is rather what noise, or the recording's beginning, left of that.
    """
    bare = {at: _said(frame.reading) for at, frame in enumerate(frames) if is_bare(frame.best)}
    if not bare:
        return list(frames)
    clear = [f.reading for f in frames if f.is_unknown and f.reading.confidence > DOUBTED]
    counts = Counter(reading.shape for reading in clear)  # damage makes longer ones too, none like another
    longer = {_said(reading) for reading in clear if counts[reading.shape] >= FEWEST_ALIKE}
    left = {
        (code, bits)
        for code, bits in set(bare.values())
        if any(code == other and len(bits) < len(more) and bits in more for other, more in longer)
    }
    return [at_most(frame, GUESSED) if bare.get(at) in left else frame for at, frame in enumerate(frames)]


def _said(reading: Reading) -> tuple[str, bytes]:
    return reading.code, reading.bits.tobytes()


def is_bare(best: Reading | None) -> bool:
    """Whether nothing but bits speaks for a sheet's frame."""
    if best is None or best.sheet is None or best.checks or best.bits.size < FEWEST_BITS:
        return False
    return not best.sheet.frame(best.kind).leader


def is_left_of(less: Bits, more: Bits) -> bool:
    """Whether some bits are the beginning and the end of longer ones; two sections have a header alike at most."""
    if not FEWEST_LEFT <= less.size < more.size:
        return False
    return _alike_at_the_ends(less, more) >= less.size - 1


def _alike_at_the_ends(less: Bits, more: Bits) -> int:
    """How many bits are alike from the beginnings on, and back from the ends."""
    ahead = less == more[: less.size]
    behind = (less == more[-less.size :])[::-1]
    return sum(int(np.argmin(each)) if not each.all() else less.size for each in (ahead, behind))


def is_damaged_copy(less: Frame, more: Frame) -> bool:
    """Whether a frame lacks a bit of the other, or takes as long as it and begins and ends like it: damage takes bits,
    and no time.
    """
    few, many = less.reading.bits, more.reading.bits
    if is_left_of(few, many):
        return True
    as_long = abs(less.pulses.duration_us / more.pulses.duration_us - 1) < AS_LONG_AS_WHOLE
    most = MOSTLY_ALIKE if few.size == many.size else HALF_ALIKE
    return as_long and few.size >= FEWEST_LEFT and most * few.size <= _alike_at_the_ends(few, many) < many.size


def _is_damaged(bits: Bits, other: Bits) -> bool:
    """Whether some bits are rather a damaged copy of others than the other way round: as a rule, the shorter are.

    But a stray pulse may add a bit, to what had a whole number of nibbles.
    """
    added = is_left_of(other, bits) and bits.size % NIBBLE != 0 == other.size % NIBBLE
    lost = is_left_of(bits, other) and not bits.size % NIBBLE == 0 != other.size % NIBBLE
    return added or lost


def _is_beside_another(frame: Frame, other: Frame) -> bool:
    """Whether one press sent both frames, in one line code, and the other is not what damage left of this one."""
    first, second = sorted((frame, other), key=lambda each: each.first)
    near = second.pulses.start_us - first.pulses.end_us < LONGEST_SILENCE_US
    longer = frame.reading.bits.size > other.reading.bits.size
    return near and frame.reading.code == other.reading.code and not (longer and is_damaged_copy(other, frame))


def _doubted(frame: Frame, durations_us: Floats, lost: bool, unlike: bool) -> Frame:
    """A frame unlike any other, with less confidence; ``lost`` tells that something among its bits may be, ``unlike``
    that others of its code say how it should look, or look as odd beside it.
    """
    best = frame.reading
    most = 1.0 if best.bits.size % NIBBLE == 0 else ODD_ALONE
    if best.bits.size < FEWEST_BITS or unlike:
        most = DOUBTED
    beside = [durations_us[at] for at in (frame.first - 1, frame.last + 1) if 0 <= at < durations_us.size]
    if lost or any(space < SHORTEST_GAP_US for space in beside):
        most = GUESSED
    return at_most(frame, most)


def _looks(frames: Sequence[Frame]) -> list[Look]:
    """How each of the frames looks."""
    if not frames:
        return []
    row = abreast(frames)
    places = _odd_in_leaders(row, frames) | _out_of_place(row)
    odd: list[list[int]] = [[] for _ in frames]
    for at in np.flatnonzero(places).tolist():
        odd[row.frame[at]].append(int(row.place[at]))
    return [(frame.reading.shape, (*_odd_between(frame), *each)) for frame, each in zip(frames, odd, strict=True)]


def _odd_between(frame: Frame) -> list[int]:
    """The pulses between bits that are neither a gap nor stand beside one."""
    reading = frame.reading
    told = ~np.isnan(reading.expected_us)
    inside = np.flatnonzero(told)
    if not inside.size or inside[-1] - inside[0] + 1 == inside.size:
        return []
    d, longest = frame.as_read.durations_us, _longest_without_a_mark(reading)
    odd: list[int] = []
    for first, last in stretches(~told[: inside[-1]]):
        # A gap with what stands beside it: the leader of the next section, a sync behind the last.
        between = d[first + (first + 1) % 2 : last + 1 : 2].max(initial=0.0)
        if first > inside[0] and (between < SHORTEST_GAP_US or (first == last and between < longest)):
            odd += range(first, last + 1)
    return odd


def _out_of_place(row: Abreast) -> NDArray[np.bool_]:
    """The pulses that lie so far from every symbol, beside what the others do, that a mark was lost there."""
    off = np.abs(row.durations_us - row.expected_us)
    squares = np.add.reduceat(np.nan_to_num(off**2), row.firsts)
    told = np.add.reduceat(~np.isnan(off), row.firsts, dtype=np.intp)
    others = np.sqrt((squares[row.frame] - off**2) / np.maximum(told - 1, 1)[row.frame])
    bound = np.maximum(OUTLYING * others, BESIDE * _smallest_steps(row)[row.group])
    out: NDArray[np.bool_] = off > bound
    return out


def _smallest_steps(row: Abreast) -> Floats:
    """Between the lengths of each group, nothing among them; shape (groups,), inf for a group without any."""
    with np.errstate(invalid="ignore"):  # what fills the rows up is infinite
        steps: Floats = np.fmin.reduce(np.diff(row.centres_us, axis=1, prepend=0.0), axis=1, initial=np.inf)
    return steps


def _longest_without_a_mark(reading: Reading) -> float:
    """How long (µs) a space may be that two symbols leave where the mark between them is lost; 0 where the sections
    beside it are whole bytes, which they would seldom be by chance.
    """
    if reading.sections and all(bits % BYTE == 0 for bits in reading.sections):
        return 0.0
    mark, space = (float(np.nanmax(reading.expected_us[of::2])) for of in (0, 1))
    return LOST_WITHIN * (2 * space + mark)


def _odd_in_leaders(row: Abreast, frames: Sequence[Frame]) -> NDArray[np.bool_]:
    """The pulses before the data that are symbols, though a longer one stands before them: a bit behind was lost."""
    told = np.append(np.flatnonzero(~np.isnan(row.expected_us)), row.frame.size)
    ahead = told[np.searchsorted(told, row.firsts)] - row.firsts
    at = np.flatnonzero(row.place < (ahead - ahead % 2)[row.frame])  # marks, each with its space
    d, of, lengths = row.durations_us[at], row.frame[at], row.lengths_us[row.group[at]]
    longer = d > LONGER * np.where(np.isinf(lengths), 0.0, lengths).max(axis=1, initial=0.0)
    behind = np.full(len(frames), row.frame.size)  # which of its pulses is the first longer one
    np.minimum.at(behind, of[longer], row.place[at][longer])
    units = np.array([frame.reading.clock.unit_us for frame in frames])
    alike = np.abs(d[:, None] - lengths).min(axis=1, initial=np.inf) < AS_LONG * units[of]
    alike &= row.place[at] > behind[of]
    odd = np.zeros(row.frame.size, bool)
    odd[at[0::2]] = alike.reshape(-1, 2).all(axis=1)
    return odd
