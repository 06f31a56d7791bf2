"""How sure it is that an unknown frame is complete. No sheet says what is missing, but other frames may."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from eager_tern.linecode.clusters import find_clusters
from eager_tern.linecode.values import Bits
from eager_tern.protocol.lone import is_rather_damaged
from eager_tern.protocol.presses import Frame, with_confidence
from eager_tern.protocol.reading import GUESSED, SERIAL, Reading, Shape
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.assumed import SHORTEST_GAP_US
from eager_tern.signal.stretches import stretches
from eager_tern.signal.values import Floats, Pulses

FEWEST_BITS = 16  # of a frame that is believed though nothing like it was sent again
DOUBTED = 0.5  # confidence at most in one that is shorter, or unlike several others of its code
NIBBLE, BYTE = 4, 8  # bits
NEAR = 2  # frames away: the longer of two that were one may stand between
FEWEST_LEFT = 12  # bits that are the same by accident in one case of 200
LOST_WITHIN = 1.1  # of what the pulses beside a lost mark last with it
OUTLYING = 6.0  # standard deviations: no jitter
BESIDE = 0.3  # of what lies between two lengths
LONGER = 1.5  # than any symbol's: a leader's
AS_LONG = 0.3  # of a unit: pulses that differ by less are of one length
FEWEST_ALIKE = 2  # frames of another shape, which make that the usual one

Look = tuple[Shape, tuple[int, ...]]  # a frame's shape, and which pulses among its bits are none of them


def as_sure_as_whole(pulses: Pulses, frames: Sequence[Frame], sheets: Sequence[Sheet]) -> list[Frame]:
    """The frames; the confidence in unknown ones is limited by how surely they are complete.

    A frame is taken for whole that looks like another one of the take. By itself it is doubted where a pulse among its
    bits is neither a bit nor a gap, where a mark or a bit may have been lost, where it has no silence on either side,
    where it is short, where others of its code are alike and it is not, and where it is rather another frame, damaged.
    """
    asked = {at: _look(frame) for at, frame in enumerate(frames) if _is_asked(frame)}
    looks = Counter(asked.values())
    usual: dict[str, int] = {}  # of each line code, how many frames look alike at the most
    for (shape, _), count in looks.items():
        usual[shape[0]] = max(usual.get(shape[0], 0), count)
    out = list(frames)
    for at, (_, odd) in asked.items():
        if looks[asked[at]] == 1:
            copies = (frames[beside].reading for beside in range(at - NEAR, at + NEAR + 1) if beside in asked)
            lost = bool(odd) or any(_is_damaged(frames[at].reading.bits, copy.bits) for copy in copies)
            lost = lost or is_rather_damaged(frames[at], sheets)
            out[at] = _doubted(frames[at], pulses.durations_us, lost, usual)
    serial = [at for at, frame in enumerate(frames) if frame.best is not None and frame.best.protocol == SERIAL]
    if len(serial) == 1 and is_rather_damaged(frames[serial[0]], sheets):
        out[serial[0]] = _at_most(frames[serial[0]], GUESSED)
    return out


def _is_asked(frame: Frame) -> bool:
    best = frame.best
    return best is not None and not best.known and best.protocol != SERIAL and not frame.mended and best.bits.size > 0


def is_left_of(less: Bits, more: Bits) -> bool:
    """Whether some bits are the beginning and the end of longer ones; two sections have a header alike at most."""
    if not FEWEST_LEFT <= less.size < more.size:
        return False
    ahead = less == more[: less.size]
    behind = (less == more[-less.size :])[::-1]
    alike = sum(int(np.argmin(each)) if not each.all() else less.size for each in (ahead, behind))
    return alike >= less.size - 1


def _is_damaged(bits: Bits, other: Bits) -> bool:
    """Whether some bits are rather a damaged copy of others than the other way round: as a rule, the shorter are.

    But a stray pulse may add a bit, to what had a whole number of nibbles.
    """
    added = is_left_of(other, bits) and bits.size % NIBBLE != 0 == other.size % NIBBLE
    lost = is_left_of(bits, other) and not bits.size % NIBBLE == 0 != other.size % NIBBLE
    return added or lost


def _doubted(frame: Frame, durations_us: Floats, lost: bool, usual: Mapping[str, int]) -> Frame:
    """A frame unlike any other, with less confidence; ``lost`` tells that something among its bits may be."""
    best = frame.reading
    most = 1.0
    if best.bits.size < FEWEST_BITS or usual[best.code] >= FEWEST_ALIKE:
        most = DOUBTED
    beside = [durations_us[at] for at in (frame.first - 1, frame.last + 1) if 0 <= at < durations_us.size]
    if lost or any(space < SHORTEST_GAP_US for space in beside):
        most = GUESSED
    return _at_most(frame, most)


def _at_most(frame: Frame, confidence: float) -> Frame:
    """The frame with no more confidence than that in its best reading."""
    return with_confidence(frame, min(frame.reading.confidence, confidence))


def _look(frame: Frame) -> Look:
    d, told = frame.as_read.durations_us, ~np.isnan(frame.reading.expected_us)
    inside = np.flatnonzero(told)
    if not inside.size:
        return frame.reading.shape, ()
    lengths = _lengths(frame.reading.expected_us, told)
    longest = _longest_without_a_mark(frame.reading)
    odd = [*_odd_in_leader(frame, int(inside[0]), lengths), *_out_of_place(d, frame.reading.expected_us, lengths)]
    if inside[-1] - inside[0] + 1 == inside.size:
        return frame.reading.shape, tuple(odd)
    for first, last in stretches(~told[: inside[-1]]):
        # A gap with what stands beside it: the leader of the next section, a sync behind the last.
        between = d[first + (first + 1) % 2 : last + 1 : 2].max(initial=0.0)
        if first > inside[0] and (between < SHORTEST_GAP_US or (first == last and between < longest)):
            odd += range(first, last + 1)
    return frame.reading.shape, tuple(odd)


def _lengths(expected_us: Floats, told: NDArray[np.bool_]) -> tuple[Floats, Floats]:
    """The lengths (µs) that a code's marks have, and its spaces; one of each at least is told."""
    return np.unique(expected_us[0::2][told[0::2]]), np.unique(expected_us[1::2][told[1::2]])


def _out_of_place(d: Floats, expected_us: Floats, lengths: tuple[Floats, Floats]) -> list[int]:
    """The pulses that lie so far from every symbol, beside what the others do, that a mark was lost there."""
    off = np.abs(d - expected_us)
    squares = np.nansum(off**2)
    others = np.sqrt((squares - off**2) / max(np.count_nonzero(~np.isnan(off)) - 1, 1))
    steps = [_smallest_step(each) for each in lengths]
    bound = np.maximum(OUTLYING * others, BESIDE * np.resize(steps, off.size))
    return np.flatnonzero(off > bound).tolist()


def _smallest_step(lengths: Floats) -> float:
    """Between a code's lengths, nothing among them."""
    centres = [cluster.centre_us for cluster in find_clusters(lengths)]
    return min((b - a for a, b in pairwise([0.0, *centres])), default=0.0)


def _longest_without_a_mark(reading: Reading) -> float:
    """How long (µs) a space may be that two symbols leave where the mark between them is lost; 0 where the sections
    beside it are whole bytes, which they would seldom be by chance.
    """
    if reading.sections and all(bits % BYTE == 0 for bits in reading.sections):
        return 0.0
    mark, space = (float(np.nanmax(reading.expected_us[of::2])) for of in (0, 1))
    return LOST_WITHIN * (2 * space + mark)


def _odd_in_leader(frame: Frame, size: int, lengths: tuple[Floats, Floats]) -> list[int]:
    """The pulses before the data that are symbols, though a longer one stands before them: a bit behind was lost."""
    d = frame.as_read.durations_us[: size - size % 2].reshape(-1, 2)
    longer = np.flatnonzero(d.ravel() > LONGER * np.resize([each.max(initial=0.0) for each in lengths], d.size))
    if not longer.size:
        return []
    near = AS_LONG * frame.reading.clock.unit_us
    alike = [np.abs(d[:, of, None] - lengths[of]).min(axis=1, initial=np.inf) < near for of in (0, 1)]
    return [at for at in (2 * np.flatnonzero(alike[0] & alike[1])).tolist() if at > longer[0]]
