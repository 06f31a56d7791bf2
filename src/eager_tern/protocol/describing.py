"""A first sheet, from what the frames show; naming the fields is left to the user."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.linecode.clock import alternating
from eager_tern.linecode.identify import identify, read_as
from eager_tern.linecode.values import Clock, Code, LineReading
from eager_tern.protocol.draft import Draft
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading, symbol_numbers
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.sections import part_pulses
from eager_tern.signal.assumed import LONGEST_SILENCE_US, SURE_GAP_US, USUAL_REST_US
from eager_tern.signal.order import median
from eager_tern.signal.values import Floats, Pulses

NEAR_WHOLE, SUM_NEAR_WHOLE = 0.045, 0.025  # of a unit: symbols that are taken for whole ones
SHORTEST = 0.5  # of a unit
FIXED_NEAR_WHOLE = 0.2  # a leader's pulse is measured once a frame
MEASURED = 24  # frames whose symbols are measured: jitter of 60 µs is 1 % of a unit then, in the mean of ten symbols
FIELD = 8  # bits of the fields to begin with


class Assumed(Struct, frozen=True):
    """What the user says about a line; None leaves it to be found.

    ``leader`` is how many pulses stand before the data, ``symbol_bits`` how many bits a symbol stands for.
    ``turned``: the long symbol, or the one that begins with its mark, is 0. ``highest_first``: a byte's highest bit is
    sent first.
    """

    unit_us: float | None = None
    excess_us: float | None = None
    tolerance: float | None = None
    code: Code | None = None
    leader: int | None = None
    symbol_bits: int | None = None
    turned: bool = False
    highest_first: bool = False


AS_FOUND = Assumed()


def describe(frames: Sequence[Frame], name: str, assumed: Assumed = AS_FOUND, overrules: bool = False) -> Draft | None:
    """A sheet that reads frames like these; None where no line code is clear in any of them.

    Its fields are bytes that want names. For the rest see ``describe_line``.
    """
    line = describe_line(frames, name, assumed, overrules)
    if line is None:
        return None
    count = line.sheet.bit_count
    fields = []
    for start in range(0, count, FIELD):
        end = min(start + FIELD, count) - 1
        first_bit, last_bit = (start, end) if assumed.highest_first else (end, start)
        bits = f"{first_bit}-{last_bit}" if end > start else f"{start}"
        fields.append({"name": f"byte_{start // FIELD}", "bits": bits})
    return Draft({**line.document, "fields": fields}, line.comments)


def describe_line(
    frames: Sequence[Frame], name: str, assumed: Assumed = AS_FOUND, overrules: bool = False
) -> Draft | None:
    """A sheet without any fields; None where no line code is clear.

    ``frames`` are those of some presses, repeats among them; the sheet ``overrules`` others if it says what the user
    knows better.
    """
    whole = [f for f in frames if f.best is not None and f.best.bits.size and f.best.code != "unknown"]
    if not whole:
        return None
    usual = Counter(f.reading.shape for f in whole).most_common(1)[0][0]
    alike = [f for f in whole if f.reading.shape == usual]
    begin, later = _in_presses(frames, alike)
    frame = _clearest(_usually_led(later or begin))
    assert frame.best is not None
    pieces = part_pulses(frame)
    as_read = assumed == AS_FOUND and not frame.best.known
    lines = _own_lines(frame) if as_read else []
    own = bool(lines)
    lines = lines or [line for piece in pieces if (line := _line(piece, assumed)) is not None]
    if len(lines) != len(pieces) or _symbols_missing(lines):
        return None
    if assumed.excess_us is not None:
        lines = [replace(line, clock=replace(line.clock, excess_us=assumed.excess_us)) for line in lines]
    known = frame.best.sheet  # its repeats stay what they are
    unit = assumed.unit_us or float(np.mean([line.clock.unit_us for line in lines]))
    first = lines[0]
    count = sum(int(line.bits.size) for line in lines)
    document: dict[str, object] = {
        "id": _identifier(name),
        "name": name,
        "about": f"{count} bits by {first.code.replace('-', ' ')}, the fields want names.",
        "unit_us": round(unit, 1),
    }
    comments: dict[str, str] = {}
    if frame.pulses.carrier_hz:
        document["carrier_hz"] = round(frame.pulses.carrier_hz)
    if assumed.tolerance:
        document["tolerance"] = round(assumed.tolerance, 4)
    if assumed.excess_us is not None:
        document["mark_excess_us"] = round(assumed.excess_us, 1)
    if overrules and known is not None:
        document["family"] = known.family
    if overrules:
        document["overrules"] = True
        comments["overrules"] = "said by hand: holds against whatever else fits"
    measured = list(zip(pieces, lines, strict=True))
    if own:
        measured = [each for f in alike[:MEASURED] for each in zip(part_pulses(f), _own_lines(f), strict=True)]
    symbols = _symbols(measured, unit, assumed.turned)
    document |= {key: value for key, (value, _) in symbols.items()}
    comments |= {key: comment for key, (_, comment) in symbols.items() if comment}
    kinds: list[dict[str, object]] = [{"name": "full", "parts": _sections(pieces, lines, unit)}]
    begins, held = "full", "full"
    if as_read:
        if own and (other := _begun_otherwise(begin, frame)) is not None:
            begins = "first"
            kinds.append({"name": begins, "parts": _sections(part_pulses(other), _own_lines(other), unit)})
        if (code := next((f for f in frames if f.best is not None and f.best.stands_for_repeat), None)) is not None:
            held = "repeat code"
            lengths = _in_units(code.pulses.durations_us, lines[0].clock, unit)
            kinds.append({"name": held, "repeat": True, "parts": _fixed(lengths, unit)})
    document["press"] = {"first": begins, "held": held, "gap_us": round(_rest_us(frames))}
    document["frames"] = kinds
    return Draft(document, comments)


def _in_presses(frames: Sequence[Frame], alike: Sequence[Frame]) -> tuple[list[Frame], list[Frame]]:
    """Those of the ``alike`` frames with which a press begins, and those that follow in one."""
    ends = np.sort([frame.pulses.end_us for frame in frames])
    begin, later = list[Frame](), list[Frame]()
    for frame in alike:
        at = int(np.searchsorted(ends, frame.pulses.start_us))
        follows = at > 0 and frame.pulses.start_us - ends[at - 1] < LONGEST_SILENCE_US
        (later if follows else begin).append(frame)
    return begin, later


def _led(reading: Reading) -> int:
    """How many pulses stand before the data."""
    return int(np.argmin(np.isnan(reading.expected_us)))


def _usually_led(frames: Sequence[Frame]) -> list[Frame]:
    """Those whose leaders have as many pulses as most."""
    most = Counter(_led(f.reading) for f in frames).most_common(1)
    return [f for f in frames if _led(f.reading) == most[0][0]]


def _clearest(frames: Sequence[Frame]) -> Frame:
    """The steadiest of those that show every symbol."""
    steadiest = sorted(frames, key=lambda f: f.reading.clock.rms_us / f.reading.clock.unit_us)
    return next((f for f in steadiest if not _symbols_missing([f.reading])), steadiest[0])


def _begun_otherwise(begin: Sequence[Frame], usual: Frame) -> Frame | None:
    """A frame that shows with which other leader a press begins, where most do: a wake-up is longer than what follows.

    Of a single press, a part of the leader may have been missed.
    """
    others = _usually_led([f for f in begin if _led(f.reading) != _led(usual.reading)])
    return _clearest(others) if len(others) > max(1, len(begin) / 2) else None


def says_the_same(frames: Sequence[Frame], assumed: Assumed, other: Assumed) -> bool:
    """Whether two assumptions differ in the ruler, unit and mark excess, at most, and not in what is read with it."""
    sheets = [draft.sheet for each in (assumed, other) if (draft := describe(frames, "", each)) is not None]
    said = [(s.alphabet, s.bit_count, replace(assumed_by(s), unit_us=None, excess_us=None)) for s in sheets]
    return len(said) == 2 and said[0] == said[1]


def assumed_in(reading: Reading) -> Assumed:
    """What a reading takes the line to be."""
    if reading.sheet is not None:
        return replace(assumed_by(reading.sheet), unit_us=reading.clock.unit_us)
    leader = _led(reading) if reading.code != "async-serial" else 0
    return Assumed(unit_us=reading.clock.unit_us, code=reading.code, leader=leader, symbol_bits=reading.symbol_bits)


def assumed_by(sheet: Sheet) -> Assumed:
    """What a sheet says of the line, as somebody would say it by hand."""
    turned = False
    if sheet.alphabet:
        lowest, highest = sheet.alphabet[0], sheet.alphabet[-1]
        turned = highest[0] < 0 if sheet.code == "biphase" else _carrying(sheet, highest) < _carrying(sheet, lowest)
    field = next((f for f in sheet.fields if f.bits.width > 1), None)
    highest_first = field is not None and field.bits.index[0] < field.bits.index[-1]
    return Assumed(
        sheet.unit_us, sheet.mark_excess_us, sheet.tolerance, sheet.code, len(sheet.frames[0].leader),
        sheet.bits_a_symbol, turned, highest_first,
    )  # fmt: skip


def _carrying(sheet: Sheet, symbol: Sequence[float]) -> float:
    """The length that tells the bit."""
    return abs(symbol[1] if sheet.code == "pulse-distance" else symbol[0])


def _symbols_missing(lines: Sequence[LineReading | Reading]) -> int:
    """How many of a code's symbols do not occur in some readings, so that their lengths are not known."""
    first = lines[0]
    if first.code in ("biphase", "async-serial"):  # whose lengths follow from the unit
        return 0
    return first.symbols - len({number for line in lines for number in symbol_numbers(line).tolist()})


def _own_lines(frame: Frame) -> list[LineReading]:
    """What a frame that no sheet describes was read as, section by section; none for serial characters."""
    reading = frame.reading
    if reading.code == "async-serial":
        return []
    counts = reading.sections or (int(reading.bits.size),)
    lines, at, first = [], 0, 0
    for piece, count in zip(part_pulses(frame), counts, strict=True):
        size = piece.durations_us.size
        expected = reading.expected_us[first : first + size]
        spans = reading.bit_spans_us[at : at + count] - (piece.start_us - frame.as_read.start_us)
        bits = reading.bits[at : at + count]
        leader = int(np.argmin(np.isnan(expected)))
        lines.append(
            LineReading(
                reading.code, reading.clock, bits, spans, expected, leader, 0.0,
                symbol_bits=reading.symbol_bits, symbols=reading.symbols,
            )
        )  # fmt: skip
        at, first = at + count, first + size + 1
    return lines


def _line(piece: Pulses, assumed: Assumed) -> LineReading | None:
    if assumed.code is not None or assumed.leader is not None:
        return read_as(piece, assumed.code, assumed.leader, assumed.unit_us, assumed.symbol_bits)
    found = identify(piece)
    return found[0] if found else None


def _sections(pieces: Sequence[Pulses], lines: Sequence[LineReading], unit: float) -> list[dict[str, object]]:
    """All sections of a frame, with the silences between."""
    parts: list[dict[str, object]] = []
    for number, (piece, line) in enumerate(zip(pieces, lines, strict=True)):
        if number:
            parts.append({"gap_us": round(piece.start_us - pieces[number - 1].end_us)})
        parts += _parts(piece, line, unit)
    return parts


def _in_units(durations_us: Floats, clock: Clock, unit: float) -> Floats:
    """Durations without the mark excess in units, marks positive."""
    signs = alternating(durations_us.size)
    return (durations_us - clock.excess_us * signs) / unit * signs


def _parts(piece: Pulses, line: LineReading, unit: float) -> list[dict[str, object]]:
    """Leader, bits and trailer of a section, with whatever stands between its bits."""
    if line.framing is not None:
        return [{"bits": int(line.bits.size)}]
    if line.code == "biphase":
        return _joined_parts(piece, line, unit)
    d = piece.durations_us
    lengths = _in_units(d, line.clock, unit)
    edges = np.concatenate(([0.0], np.cumsum(d)))
    groups = line.bit_spans_us[:: line.symbol_bits, 0], line.bit_spans_us[line.symbol_bits - 1 :: line.symbol_bits, 1]
    starts, ends = _near(edges, groups[0]), _near(edges, groups[1])
    parts: list[dict[str, object]] = []
    at, bits = 0, 0
    for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
        if start > at:
            parts += [{"bits": bits}] if bits else []
            parts += _fixed(lengths[at:start], unit, behind_bits=bool(at))
            bits = 0
        bits += line.symbol_bits
        at = end
    parts.append({"bits": bits})
    return [*parts, *_fixed(lengths[at:], unit, behind_bits=True)]


def _near(edges: Floats, times: Floats) -> np.ndarray:
    """Which edges are nearest to some times."""
    after = np.clip(np.searchsorted(edges, times), 1, edges.size - 1)
    return np.where(times - edges[after - 1] < edges[after] - times, after - 1, after)


def _fixed(lengths: Floats, unit: float, behind_bits: bool = False) -> list[dict[str, object]]:
    """Fixed pulses, parted at a silence as long as those between sections, or one in the place of a symbol's space."""
    parts: list[dict[str, object]] = []
    silences = lengths * unit < -SURE_GAP_US
    if behind_bits and lengths.size:
        silences[0] |= lengths[0] < 0
    for first, group in zip(
        [0, *np.flatnonzero(silences).tolist()], np.split(lengths, np.flatnonzero(silences)), strict=True
    ):
        silence = bool(group.size) and bool(silences[first])
        if silence:
            parts.append({"gap_us": round(float(-group[0] * unit))})
        if (rest := group[1:] if silence else group).size:
            whole = np.rint(np.abs(rest))
            each = np.where(np.abs(np.abs(rest) - whole) < FIXED_NEAR_WHOLE, whole, np.round(np.abs(rest), 2))
            parts.append({"pulses": (np.maximum(each, SHORTEST) * np.sign(rest)).tolist()})
    return parts


def _joined_parts(piece: Pulses, line: LineReading, unit: float) -> list[dict[str, object]]:
    """The same where symbols join: of a pulse beside the bits only what lies outside them is fixed."""
    d, excess = piece.durations_us, line.clock.excess_us
    signs = alternating(d.size)
    edges = np.concatenate(([0.0], np.cumsum(d - excess * signs)))
    # The bits' places are counted on the measured edges, of which every second one is late by the excess.
    shifted = np.concatenate(([0.0], np.cumsum(d)))
    begins, ends = (np.interp(line.bit_spans_us[:, i], shifted, edges) for i in (0, 1))
    begins[0] = min(begins[0], line.bit_spans_us[0, 0])  # before the first edge there is nothing to go by
    ends[-1] = max(ends[-1], line.bit_spans_us[-1, 1] - excess * (d.size % 2))
    blocks = np.split(np.arange(line.bits.size), np.flatnonzero(begins[1:] - ends[:-1] > unit / 2) + 1)
    parts: list[dict[str, object]] = []
    at = 0.0
    for block in [*blocks, np.empty(0, np.intp)]:
        until = float(begins[block[0]]) if block.size else float(edges[-1])
        inside = (np.minimum(edges[1:], until) - np.maximum(edges[:-1], at)) / unit
        if (fixed := inside > 0.5).any():
            parts += _fixed((inside * signs)[fixed], unit)
        if block.size:
            parts.append({"bits": int(block.size)})
            at = float(ends[block[-1]])
    return parts


Said = dict[str, tuple[object, str]]  # by key: a value, and a comment


def _symbols(measured: Sequence[tuple[Pulses, LineReading]], unit: float, turned: bool) -> Said:
    """The symbols, from the lengths that the bits had; ``turned``: what would be 1 is 0."""
    zero, one = ("one", "zero") if turned else ("zero", "one")
    line = measured[0][1]
    if line.framing is not None:
        data, parity, stop = line.framing
        return {"serial": ({"data_bits": data, "parity": parity, "stop_bits": stop}, "")}
    if line.code == "biphase":
        return {zero: ([-1, 1], "space, then mark"), one: ([1, -1], "mark, then space")}
    found = []
    for value in range(line.symbols):
        marks, spaces, all_spaces = [], [], []
        for piece, each in measured:
            d = piece.durations_us
            values = symbol_numbers(each)
            edges = np.concatenate(([0.0], np.cumsum(d)))
            places = _near(edges, each.bit_spans_us[:: line.symbol_bits, 0])
            at = places[values == value]
            marks.append(d[at] - each.clock.excess_us)
            spaces.append(d[at[at + 1 < d.size] + 1] + each.clock.excess_us)
            all_spaces.append(d[places[places + 1 < d.size] + 1] + each.clock.excess_us)
        if not any(part.size for part in spaces):  # the only one of its value ends the frame
            spaces = all_spaces
        found.append([float(np.mean(np.concatenate(part))) for part in (marks, spaces)])
    lengths = np.array(found) / unit
    if line.code == "pulse-distance":  # whose marks are all alike
        lengths[:, 0] = lengths[:, 0].mean()
    whole = np.rint(lengths)
    # What is left of the mark excess adds up to nothing in a symbol; an error in its whole length does not.
    near = np.abs(lengths - whole).max() < NEAR_WHOLE and np.abs((lengths - whole).sum(axis=1)).max() < SUM_NEAR_WHOLE
    lengths = whole if near and whole.min() >= 1 else np.maximum(np.round(lengths, 2), SHORTEST)
    found = (lengths * np.array([1, -1])).tolist()
    if line.symbols > 2:
        numbers = ", ".join(f"{value:0{line.symbol_bits}b}" for value in range(line.symbols))
        return {"symbols": (found[::-1] if turned else found, numbers)}
    return {zero: (found[0], ""), one: (found[1], "")}


def _rest_us(frames: Sequence[Frame]) -> float:
    """The usual silence between a frame and its repeat."""
    ordered = sorted(frames, key=lambda frame: frame.pulses.start_us)
    rests = [b.pulses.start_us - a.pulses.end_us for a, b in pairwise(ordered)]
    usual = [rest for rest in rests if 0 < rest < LONGEST_SILENCE_US]
    return median(usual) if usual else USUAL_REST_US


def _identifier(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "gadget"
