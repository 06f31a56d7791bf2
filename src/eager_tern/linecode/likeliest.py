"""The most likely frame in a stretch too faint or too damaged for a threshold.

Every code is a row of symbols, each of whole units; the stretch is held against all rows at once by dynamic programming
(Viterbi 1967), for a range of units. Nothing is decided pulse by pulse, so that noise within a pulse averages out.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.linecode.likelihood import LN2
from eager_tern.linecode.prices import BARE, ENOUGH, SLIP
from eager_tern.signal.evidence import Evidence
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed

STEPS = 8  # of the time grid in a unit
UNIT_STEP = 0.03  # between the units tried
SLIPS = (0, -1, 1)  # steps by which a symbol may begin late or early
FEWEST_BITS, MOST_BITS = 8, 160
MOST_DIFFERENT = 0.25
NEVER = -1e9

Symbol = tuple[float, ...]  # signed lengths in units, marks positive
Table = NDArray[np.float32]


class CodeShape(Struct, frozen=True):
    """What the frames of a code look like: the symbols of 0 and 1, what may stand before and behind the bits.

    ``bits`` is their number where it is known, else 0. ``unit_us`` is the range in which the unit is sought.
    """

    zero: Symbol
    one: Symbol
    unit_us: tuple[float, float]
    leader: Symbol = ()
    trailer: Symbol = ()
    bits: int = 0


class Likeliest(Struct, frozen=True):
    """The frame found. ``gain`` in nats over nothing; ``certainty`` is the chance that all its bits are right.

    ``for_one``, shape (bits,), is by how many nats each bit is rather a 1 than a 0; ``in_place`` is the chance that
    the frame begins where it was found, and not a bit sooner or later.
    """

    pulses: Pulses
    gain: float
    certainty: float
    unit_us: float
    shape: CodeShape
    for_one: Floats
    in_place: float


class _Path(Struct, frozen=True):
    gain: float
    unit: int
    end: int
    bits: int
    in_place: float


def likeliest(evidence: Evidence, first_us: float, last_us: float, shapes: Sequence[CodeShape]) -> Likeliest | None:
    """The most likely frame of any of the shapes between two times, or None where none is likely enough."""
    best: tuple[float, CodeShape, _Search, _Path] | None = None
    for shape in shapes:
        search = _Search(evidence, first_us, last_us, shape)
        path = search.best()
        gain = path.gain + (0.0 if shape.leader or shape.trailer else BARE) if path is not None else NEVER
        if path is not None and (best is None or gain > best[0]):
            best = gain, shape, search, path
    if best is None or best[0] < ENOUGH:
        return None
    gain, shape, search, path = best
    signed, start, for_one, rests = search.trace(path)
    if gain - rests < ENOUGH:
        return None
    unit = float(search.units[path.unit])
    pulses = _refined(evidence, pulses_from_signed(np.array(signed), start), unit)
    return Likeliest(pulses, gain - rests, path.in_place * _certainty(for_one), unit, shape, for_one, path.in_place)


def units_tried(unit_us: tuple[float, float]) -> Floats:
    """The units, µs, that are tried in a range."""
    low, high = unit_us
    units = low * (1 + UNIT_STEP) ** np.arange(int(np.log(high / low) / np.log1p(UNIT_STEP)) + 2)
    return np.asarray(units[units <= high * 1.0001])


def combined(evidence: Evidence, repeats: Sequence[Likeliest]) -> list[Likeliest]:
    """Repeats of one frame with what all of them together say about each bit.

    What differs in more than a quarter of its bits, or in their number, is another frame and stays as it is.
    """
    out = []
    for frame in repeats:
        alike = [
            other
            for other in repeats
            if other.shape == frame.shape
            and other.for_one.size == frame.for_one.size
            and np.mean((other.for_one > 0) != (frame.for_one > 0)) <= MOST_DIFFERENT
        ]
        for_one = np.sum([other.for_one for other in alike], axis=0)
        out.append(with_prior_odds(evidence, frame, for_one))
    return out


def with_prior_odds(evidence: Evidence, frame: Likeliest, for_one: Floats) -> Likeliest:
    """The frame with what is now thought of its bits."""
    certainty = frame.in_place * _certainty(for_one)
    if np.array_equal(for_one > 0, frame.for_one > 0):
        return replace(frame, certainty=certainty, for_one=for_one)
    symbols = (frame.shape.zero, frame.shape.one)
    lengths = [*frame.shape.leader, *(x for one in for_one > 0 for x in symbols[int(one)]), *frame.shape.trailer]
    pulses = _refined(
        evidence, pulses_from_signed(np.array(lengths) * frame.unit_us, frame.pulses.start_us), frame.unit_us
    )
    return replace(frame, pulses=pulses, certainty=certainty, for_one=for_one)


def _certainty(for_one: Floats) -> float:
    return float(np.prod(1 / (1 + np.exp(-np.clip(np.abs(for_one), 0, 30)))))


class _Search:
    """The table of one shape: for every unit (rows) and time (columns) the best row of i bits that ends there."""

    def __init__(self, evidence: Evidence, first_us: float, last_us: float, shape: CodeShape) -> None:
        self.shape = shape
        self.units = units_tried(shape.unit_us)
        self.first_us = first_us
        self.columns = int((last_us - first_us) / (shape.unit_us[0] / STEPS)) + 1
        self._evidence = evidence
        self._times = first_us + self.units[:, None] / STEPS * np.arange(self.columns)
        self._inside = self._times <= last_us + 1
        self._lengths: dict[float, Floats] = {}
        self.widths = [_width(shape.zero), _width(shape.one)]
        self._margin = max(self.widths) + 1  # columns before and behind, in which nothing can end
        self.symbols = [self._score(shape.zero), self._score(shape.one)]
        self._beside = [self._with_margins(score - LN2) for score in self.symbols]  # each is one of two
        self._table: list[Table] = []
        self.rest_before, self.rest_behind = self._rests()

    def _rests(self) -> tuple[Floats, Floats]:
        """How much speaks for a tone before a frame that begins at each time, and behind the trailer of one whose bits
        end there: two tones may begin and end with the lower one, which is no bit.
        """
        if not self._evidence.space_is_sent:
            return np.zeros_like(self._times), np.zeros_like(self._times)
        blocks = -(-self.columns // STEPS)
        of_unit = np.zeros((self.units.size, blocks, STEPS))
        of_unit.reshape(self.units.size, -1)[:, : self.columns] = self._stretch(-1.0)
        before, behind = np.zeros((2, *of_unit.shape))
        for block in range(1, blocks):
            before[:, block] = np.maximum(before[:, block - 1] + of_unit[:, block - 1], 0.0)
            behind[:, -1 - block] = np.maximum(behind[:, -block] + of_unit[:, -1 - block], 0.0)
        before, behind = (each.reshape(self.units.size, -1)[:, : self.columns] for each in (before, behind))
        width = min(_width(self.shape.trailer), self.columns)
        return before, np.pad(behind[:, width:], ((0, 0), (0, width)))

    def _stretch(self, length: float) -> Floats:
        """Score of a mark (positive length) or space that begins at each time."""
        if length not in self._lengths:
            of = self._evidence.mark if length > 0 else self._evidence.space
            end = self._times + abs(length) * self.units[:, None]
            self._lengths[length] = of(self._times, end)
        return self._lengths[length]

    def _score(self, symbol: Symbol) -> Floats:
        """Score of a symbol that begins at each time."""
        total = np.zeros_like(self._times)
        at = 0
        for length in symbol:
            total += _earlier(self._stretch(length), -at)
            at += round(abs(length) * STEPS)
        return total

    def best(self) -> _Path | None:
        """The best row of bits, leader and trailer included."""
        shape = self.shape
        now = np.where(self._inside, self.rest_before, NEVER)
        if shape.leader:
            now = _earlier(self._score(shape.leader) + self.rest_before, _width(shape.leader))
        self._table = [self._with_margins(now)]
        trailer = self._score(shape.trailer) if shape.trailer else np.zeros_like(now)
        trailer += self.rest_behind
        best: _Path | None = None
        for count in range(1, (shape.bits or MOST_BITS) + 1):
            self._table.append(self._next(self._table[-1], *self._reach(count)))
            if count == shape.bits or (not shape.bits and count >= FEWEST_BITS):
                ends = np.where(self._inside, self._table[-1][:, self._margin : -self._margin] + trailer, NEVER)
                at = int(np.argmax(ends))
                gain = float(ends.flat[at]) - float(np.log(ends.size))
                if best is None or gain > best.gain:
                    unit, end = at // ends.shape[1], at % ends.shape[1]
                    best = _Path(gain, unit, end, count, self._in_place(ends, unit, end, count))
            if not shape.bits and best is not None and count > best.bits + 8:
                break
        return best

    def _in_place(self, ends: Floats, unit: int, end: int, bits: int) -> float:
        """How probable it is that a frame ends there, and not more than a unit away, by half its length at the most."""
        half = bits * min(self.widths) // 2
        away = np.abs(self._times - self._times[unit, end]) / self.units[:, None] * STEPS
        rivals = ends[(away > STEPS) & (away < half)]
        return float(1 / (1 + np.exp(min(float(rivals.max(initial=NEVER)) - float(ends[unit, end]), 0.0))))

    def _with_margins(self, table: Floats) -> Table:
        """The table between columns that never are reached, so that it can be moved by looking at it elsewhere.

        Single precision: it is gone through bit by bit, and a ten-thousandth of a nat decides nothing.
        """
        wide = np.full((table.shape[0], table.shape[1] + 2 * self._margin), NEVER, np.float32)
        wide[:, self._margin : -self._margin] = table
        return wide

    def _reach(self, count: int) -> tuple[int, int]:
        """The columns, first and one past the last, in which the row of so many bits of a whole frame can end."""
        shortest = min(self.widths) - max(SLIPS)
        behind = self.shape.bits - count if self.shape.bits else 0
        return _width(self.shape.leader) + count * shortest, self.columns - behind * shortest

    def _next(self, before: Table, first: int, end: int) -> Table:
        """The best of one bit more in the columns from ``first`` to before ``end``; both tables have margins."""
        after = np.full_like(before, NEVER)
        if first >= end:
            return after
        on_time: list[Table] = []
        slipped: list[Table] = []
        late = max(SLIPS)
        for symbol, width in zip(self._beside, self.widths, strict=True):
            begin = self._margin + first - width - late
            wide = slice(begin, begin + end - first + 2 * late)
            total = before[:, wide] + symbol[:, wide]
            for slip in SLIPS:
                (slipped if slip else on_time).append(total[:, late - slip : late - slip + end - first])
        best = after[:, self._margin + first : self._margin + end]
        for choice in slipped:
            np.maximum(best, choice, out=best)
        best += SLIP
        for choice in on_time:
            np.maximum(best, choice, out=best)
        return after

    def _choice(self, count: int, unit: int, end: int) -> tuple[int, int]:
        """The bit and its slip by which the best row of so many bits ends there."""
        ways = []
        for bit, width in enumerate(self.widths):
            for slip in SLIPS:
                begin = self._margin + end - width - slip
                gain = self._table[count - 1][unit, begin] + self._beside[bit][unit, begin] + (SLIP if slip else 0.0)
                ways.append((float(gain), bit, slip))
        _, bit, slip = max(ways, key=lambda way: way[0])
        return bit, slip

    def trace(self, path: _Path) -> tuple[list[float], float, Floats, float]:
        """Signed durations, their start, by how much each bit is rather a 1, and the gain of the rests beside."""
        unit = float(self.units[path.unit])
        at = path.end
        signed: list[list[float]] = [[length * unit for length in self.shape.trailer]]
        margins = []
        for count in range(path.bits, 0, -1):
            bit, slip = self._choice(count, path.unit, at)
            begin = at - self.widths[bit] - slip
            other = begin + self.widths[1 - bit]
            margins.append((1 if bit else -1) * max(self._lead(path, bit, begin, other, at), 0.01))
            symbol = list((self.shape.zero, self.shape.one)[bit])
            symbol[-1] += slip / STEPS * np.sign(symbol[-1])
            signed.append([length * unit for length in symbol])
            at = begin
        signed.append([length * unit for length in self.shape.leader])
        first = at - _width(self.shape.leader)
        start = self.first_us + first * unit / STEPS
        rests = float(self.rest_before[path.unit, first] + self.rest_behind[path.unit, path.end])
        return [length for part in reversed(signed) for length in part], start, np.array(margins[::-1]), rests

    def _lead(self, path: _Path, bit: int, begin: int, other_end: int, end: int) -> float:
        """By how much a bit is better than its opposite, together with the symbol that would then stand behind it."""

        def score(symbol: int, at: int) -> float:
            return float(self.symbols[symbol][path.unit, at]) if 0 <= at < self.columns else 0.0

        gain = score(bit, begin) - score(1 - bit, begin)
        if other_end != end:
            gain += max(score(0, end), score(1, end)) - max(score(0, other_end), score(1, other_end))
        return gain


def _width(symbol: Symbol) -> int:
    return sum(round(abs(length) * STEPS) for length in symbol)


def _earlier(table: Floats, by: int) -> Floats:
    """The table moved by columns: what stood ``by`` columns before (behind, where negative)."""
    if by == 0:
        return table
    moved = np.full_like(table, NEVER)
    if by >= table.shape[1] or -by >= table.shape[1]:
        return moved
    if by > 0:
        moved[:, by:] = table[:, :-by]
    else:
        moved[:, :by] = table[:, -by:]
    return moved


def _refined(evidence: Evidence, pulses: Pulses, unit_us: float) -> Pulses:
    """Each edge moved by up to a third of a unit to where the pulses beside it are likeliest."""
    edges = pulses.edge_times_us
    if edges.size < 3:
        return pulses
    offsets = np.linspace(-0.32, 0.32, 17) * unit_us
    doubt = 0.5 * (offsets / (0.12 * unit_us)) ** 2
    for parity in (0, 1, 0, 1):
        index = np.arange(parity, edges.size, 2)
        moved = edges[index][:, None] + offsets
        before = np.where(index > 0, edges[np.maximum(index - 1, 0)], edges[index] - unit_us)[:, None]
        after = np.where(index < edges.size - 1, edges[np.minimum(index + 1, edges.size - 1)], edges[index] + unit_us)
        if parity == 0:  # a mark begins
            score = evidence.space(before, moved) + evidence.mark(moved, after[:, None])
        else:
            score = evidence.mark(before, moved) + evidence.space(moved, after[:, None])
        edges[index] += offsets[np.argmax(score - doubt, axis=1)]
    return Pulses(np.diff(edges), float(edges[0]), pulses.carrier_hz)
