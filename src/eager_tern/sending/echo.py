"""What came back, held against what was meant: which frames were heard, what differs, and how true the sender is."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from eager_tern.linecode.clock import alternating
from eager_tern.linecode.clusters import find_clusters
from eager_tern.linecode.values import NO_BITS, Bits
from eager_tern.protocol.presses import Press
from eager_tern.protocol.reading import read_frame
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import TakeRead
from eager_tern.signal.measure import level_at
from eager_tern.signal.order import median
from eager_tern.signal.values import Floats, Pulses

LEAST_ALIKE = 0.75  # of the pulses or bits: with less in common it is another frame
CLOCKS = (0.8, 1.25)  # a sender whose clock is off by more speaks another protocol
TOGETHER_US = 25_000.0  # by how much a frame may be out of its time: less than half of the shortest period there is
DRIFT = 0.01  # of the time since the first frame, besides
IN_TIME = 0.6  # of the frames that order alone would pair: where as many keep time, time decides
ALONE_US = 250.0  # where a frame's pulses are all of one length: what 60 µs of jitter never make of one
RECURS = 3  # times a length is there before it is a bit's
GLANCE_US = 200.0  # of excess and jitter that a glance lets pass
SAME_LEVEL = 0.85  # of the time, where pulses are lost or bits of bi-phase turned
MOST_MORE = 4  # pulses that a frame has more or less because of that


class Meant(Struct, frozen=True):
    """A press as it was meant: its frames, when each begins (µs), and the bits of the first."""

    frames: tuple[Pulses, ...]
    starts_us: tuple[float, ...]
    bits: Bits = field(default_factory=lambda: NO_BITS)


class Echo(Struct, frozen=True):
    """What was heard of a press. ``heard`` counts frames; ``bits`` are those of the first one heard.

    ``first_different`` is the first bit that differs (or pulse, where no bits are known). Clock and mark excess are
    those that fit all edges best, ``rms_us`` and ``worst_us`` what is left of them. ``leans_us``: of each edge of the
    first frame heard, shape (pulses + 1,).
    ``gap_error_us`` is by how much the gaps between frames were longer than meant, at the most.
    """

    heard: int
    meant: int
    same_bits: bool
    bits: Bits
    first_different: int | None
    mark_excess_us: float
    clock: float
    rms_us: float
    worst_us: float
    leans_us: Floats
    gap_error_us: float | None
    carrier_hz: float | None

    @property
    def right(self) -> bool:
        """Whether every frame came, and none differed."""
        return self.same_bits and self.heard == self.meant


class _Likeness(Struct, frozen=True):
    """A heard frame held against one that was meant. ``different`` flags pulses (None: other pulses altogether)."""

    part: float
    clock: float
    pulses: Pulses
    different: NDArray[np.bool_] | None
    rest_us: float


def meant_presses(take: TakeRead) -> list[Meant]:
    """The presses of a capture as what was meant."""
    return [_meant(press) for press in take.presses]


def _meant(press: Press) -> Meant:
    best = press.lead.best
    frames = tuple(frame.as_read for frame in press.frames)
    return Meant(frames, tuple(f.start_us for f in frames), best.bits if best is not None else NO_BITS)


def echoes(meant: Sequence[Meant], heard: TakeRead, sheets: Sequence[Sheet]) -> list[Echo | None]:
    """For each press that was meant, what was heard of it; None where nothing was.

    Frames are looked for among the pulses as they were measured: what reading made of them, with the help of repeats
    and checks, is no evidence of what was heard.
    """
    wanted = [(press, at) for press, each in enumerate(meant) for at in range(len(each.frames))]
    kinds: dict[bytes, dict[int, _Likeness]] = {}  # of frames that are the same: the likenesses, by their first pulse
    rows = []
    for press, at in wanted:
        frame = meant[press].frames[at]
        key = frame.durations_us.tobytes()
        if key not in kinds:
            kinds[key] = _found(frame, heard)
        rows.append(kinds[key])
    starts = np.array([meant[press].starts_us[at] for press, at in wanted])
    pairs = _paired(rows, starts, heard.pulses)
    found: list[dict[int, _Likeness]] = [{} for _ in meant]
    for (press, at), likeness in zip(wanted, pairs, strict=True):
        if likeness is not None:
            found[press][at] = likeness
    return [_echo(each, those, sheets, heard) if those else None for each, those in zip(meant, found, strict=True)]


def _found(meant: Pulses, heard: TakeRead) -> dict[int, _Likeness]:
    """Wherever something like a frame was heard, by its first pulse; of those that overlap the likest."""
    d, m = heard.pulses.durations_us, meant.durations_us
    edges = heard.pulses.edge_times_us
    near: list[tuple[int, _Likeness]] = []
    if d.size >= m.size:
        rows = np.lib.stride_tricks.sliding_window_view(d, m.size)[::2]
        scale = rows.sum(axis=1) / m.sum()
        worth = np.flatnonzero((scale > CLOCKS[0]) & (scale < CLOCKS[1]))
        off = np.abs(rows[worth] - m * scale[worth, None]) > m / 2 + GLANCE_US
        worth = worth[off.mean(axis=1) <= 1 - LEAST_ALIKE]
        for first in (2 * worth).tolist():
            likeness = _likeness(meant, heard.pulses.part(first, first + m.size - 1, edges))
            if likeness is not None:
                near.append((first, likeness))
    spans = [(frame.first, frame.last) for frame in heard.frames] + list(heard.noise)
    for first, last in spans:
        if last - first + 1 != m.size and (likeness := _by_level(meant, heard.pulses.part(first, last, edges))):
            near.append((first, likeness))
    kept: dict[int, _Likeness] = {}
    for first, likeness in sorted(near, key=lambda each: (-each[1].part, each[1].rest_us)):
        begin, end = likeness.pulses.start_us, likeness.pulses.end_us
        if all(end <= other.pulses.start_us or begin >= other.pulses.end_us for other in kept.values()):
            kept[first] = likeness
    return kept


def _likeness(meant: Pulses, heard: Pulses) -> _Likeness | None:
    """How alike two frames of as many pulses are; None where they are not."""
    m, h = meant.durations_us, heard.durations_us
    clock, excess = _rough(m, h)
    if not CLOCKS[0] < clock < CLOCKS[1]:
        return None
    exact = (h - excess * alternating(m.size)) / clock
    different = _differs(m, exact)
    part = 1.0 - float(different.mean())
    return _Likeness(part, clock, heard, different, float(np.abs(exact - m).mean())) if part >= LEAST_ALIKE else None


def _rough(meant: Floats, heard: Floats) -> tuple[float, float]:
    """Clock and mark excess that fit most pulses: a flipped bit must not pull at them."""
    marks, spaces = heard[0::2] - meant[0::2], heard[1::2] - meant[1::2]
    excess = (median(marks) - median(spaces)) / 2 if spaces.size else median(marks)
    clock = 1.0
    for _ in range(3):
        clock = median((heard - excess * alternating(meant.size)).cumsum() / meant.cumsum())
        rest = heard - clock * meant
        both = [median(rest[0::2])] + ([-median(rest[1::2])] if spaces.size else [])
        excess = float(np.mean(both))
    return clock, excess


def _differs(meant: Floats, heard: Floats) -> NDArray[np.bool_]:
    """Which pulses are nearer to another of the frame's lengths than to the one that was meant."""
    out = np.zeros(meant.size, np.bool_)
    for begin in (0, 1):
        m, h = meant[begin::2], heard[begin::2]
        if not m.size:
            continue
        clusters = find_clusters(m)
        centres = np.array([cluster.centre_us for cluster in clusters])
        recurs = np.array([cluster.count >= RECURS for cluster in clusters])
        own = np.abs(m[:, None] - centres).argmin(axis=1)
        # A leader's or a gap's length stands for no bit, and no bit's can be taken for it.
        nearest = np.abs(h[:, None] - np.where(recurs, centres, np.inf)).argmin(axis=1)
        other = (nearest != own) & recurs[own]
        # A pulse that could be nothing else is another one when it is off by half its length.
        far = np.abs(h - m) > np.maximum(m / 2, ALONE_US)
        out[begin::2] = np.where(centres.size > 1, other | (far & (np.abs(h - m) > np.ptp(centres) / 2)), far)
    return out


def _by_level(meant: Pulses, heard: Pulses) -> _Likeness | None:
    """Frames with other pulses that are on the same level most of the time, as where a bit of bi-phase turned."""
    size = heard.durations_us.size - meant.durations_us.size
    if not CLOCKS[0] < heard.duration_us / meant.duration_us < CLOCKS[1] or abs(size) > MOST_MORE:
        return None
    step = float(meant.durations_us.min()) / 4
    times = np.arange(step / 2, meant.duration_us, step)
    scale = heard.duration_us / meant.duration_us
    part = float(np.mean(level_at(meant, times) == level_at(heard, times * scale)))
    return _Likeness(part, scale, heard, None, step) if part >= SAME_LEVEL else None


def _paired(rows: Sequence[dict[int, _Likeness]], meant_us: Floats, heard: Pulses) -> list[_Likeness | None]:
    """For each meant frame its echo: by time where that fits, else by their order alone."""
    firsts = sorted({first for row in rows for first in row})
    if not firsts:
        return [None] * len(rows)
    score = np.array([[row[first].part if first in row else 0.0 for first in firsts] for row in rows])
    starts = heard.edge_times_us[firsts]
    clock = median([likeness.clock for row in rows for likeness in row.values()])
    since = clock * (meant_us - meant_us[0])
    apart = starts[None, :] - since[:, None]
    in_order = _in_order(score)
    most, best = 0, None
    for offset in np.unique(np.round(apart[score > 0], -3)).tolist():
        allowed = np.abs(apart - offset) < TOGETHER_US + DRIFT * since[:, None]
        count = int(((score > 0) & allowed).any(axis=1).sum())
        if count > most:
            most, best = count, allowed
    if best is not None and most >= IN_TIME * sum(each is not None for each in in_order):
        in_order = _in_order(np.where(best, score, 0.0))
    return [row[firsts[at]] if at is not None else None for row, at in zip(rows, in_order, strict=True)]


def _in_order(score: Floats) -> list[int | None]:
    """The pairs, in order on both sides, that have most in common (dynamic programming); 0 is no pair."""
    rows, columns = score.shape
    best = np.zeros((rows + 1, columns + 1))
    for i in range(rows - 1, -1, -1):
        for j in range(columns - 1, -1, -1):
            pair = best[i + 1, j + 1] + score[i, j] if score[i, j] > 0 else -1.0
            best[i, j] = max(best[i + 1, j], best[i, j + 1], pair)
    out: list[int | None] = [None] * rows
    i = j = 0
    while i < rows and j < columns:
        if score[i, j] > 0 and best[i, j] == best[i + 1, j + 1] + score[i, j]:
            out[i] = j
            i, j = i + 1, j + 1
        elif best[i, j] == best[i + 1, j]:
            i += 1
        else:
            j += 1
    return out


def _echo(meant: Meant, found: dict[int, _Likeness], sheets: Sequence[Sheet], heard: TakeRead) -> Echo:
    clock, excess, rests = _fitted(meant, found)
    first = min(found)
    lead = found[first]
    same = all(each.different is not None and not each.different.any() for each in found.values())
    bits, different = _bits(meant, lead, sheets)
    worst_of = next((each for each in found.values() if each.different is None or each.different.any()), None)
    if not same and different is None and worst_of is not None:
        _, different = _bits(meant, worst_of, sheets)
    measured = np.concatenate(list(rests.values())) if rests else np.zeros(1)
    return Echo(
        heard=len(found),
        meant=len(meant.frames),
        same_bits=same,
        bits=bits,
        first_different=None if same else different,
        mark_excess_us=excess,
        clock=clock,
        rms_us=float(np.sqrt(np.mean(measured**2))),
        worst_us=float(np.abs(measured).max()),
        leans_us=rests.get(first, np.zeros(meant.frames[first].durations_us.size + 1)),
        gap_error_us=_gap_error(meant, found, clock),
        carrier_hz=heard.pulses.carrier_hz,
    )


def _fitted(meant: Meant, found: dict[int, _Likeness]) -> tuple[float, float, dict[int, Floats]]:
    """Clock, mark excess, and by how much each edge of each frame is then out of place (µs).

    Least squares over the edges: e = a + clock · t + excess where a mark ends. What differs parts a frame into pieces
    that each have an a of their own, so that it moves nothing but itself.
    """
    rows = [(at, each) for at, each in found.items() if each.different is not None]
    if not rows:
        one = next(iter(found.values()))
        return one.clock, 0.0, {}
    columns: list[Floats] = []
    values: list[Floats] = []
    pieces: list[tuple[int, NDArray[np.intp]]] = []
    for at, each in rows:
        assert each.different is not None
        m, h = (np.concatenate(([0.0], np.cumsum(p.durations_us))) for p in (meant.frames[at], each.pulses))
        piece = np.concatenate(([0], np.cumsum(each.different)))
        for number in np.unique(piece).tolist():
            index = np.flatnonzero(piece == number)
            if index.size > 1:
                ends = (index % 2).astype(float)
                t, e, x = m[index] - m[index].mean(), h[index] - h[index].mean(), ends - ends.mean()
                columns.append(np.column_stack((t, x)))
                values.append(e)
                pieces.append((at, index))
    matrix, wanted = np.vstack(columns), np.concatenate(values)
    (clock, excess), *_ = np.linalg.lstsq(matrix, wanted, rcond=None)
    rest = wanted - matrix @ np.array([clock, excess])
    rests = {at: np.zeros(meant.frames[at].durations_us.size + 1) for at, _ in pieces}
    begin = 0
    for at, index in pieces:
        rests[at][index] = rest[begin : begin + index.size]
        begin += index.size
    return float(clock), float(excess), rests


def _bits(meant: Meant, likeness: _Likeness, sheets: Sequence[Sheet]) -> tuple[Bits, int | None]:
    """The bits heard, and the first that differs; the first pulse that does, where no bits are known."""
    different = likeness.different
    if different is not None and not different.any():
        return meant.bits, None
    read = next((r for r in read_frame(likeness.pulses, sheets) if r.bits.size == meant.bits.size), None)
    if read is not None and meant.bits.size:
        apart = np.flatnonzero(read.bits != meant.bits)
        return read.bits, int(apart[0]) if apart.size else None
    return NO_BITS, int(np.flatnonzero(different)[0]) if different is not None else None


def _gap_error(meant: Meant, found: dict[int, _Likeness], clock: float) -> float | None:
    """By how much the time from frame to frame was off, at the most; None where no two in a row were heard."""
    off = [
        found[at + 1].pulses.start_us
        - found[at].pulses.start_us
        - clock * (meant.starts_us[at + 1] - meant.starts_us[at])
        for at in found
        if at + 1 in found
    ]
    return max(off, key=abs) if off else None
