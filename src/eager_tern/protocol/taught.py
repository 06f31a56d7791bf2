"""Unknown frames of a take support each other: they share one line code, and clear ones show how doubtful ones read."""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.errors import InputError
from eager_tern.linecode import prices
from eager_tern.linecode.closeness import CLEAN, COARSEST, COARSEST_SHEET
from eager_tern.linecode.identify import read_as
from eager_tern.linecode.likelihood import LN2, any_pulse_score, noise_score, probabilities
from eager_tern.linecode.serial import read_at
from eager_tern.linecode.values import Clock, Code, Framing, LineReading
from eager_tern.protocol.candidates import Span
from eager_tern.protocol.characters import SAME_SPEED
from eager_tern.protocol.damaged import reads_well
from eager_tern.protocol.describing import describe
from eager_tern.protocol.matching import Match, match_sheets
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL, Reading, Shape, by_size, reading_of_line
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.assumed import FEWEST_BITS
from eager_tern.signal.values import Floats, Pulses

FEWEST_ALIKE = 2  # frames that agree before they teach anything
FEWEST_UNEVEN = 4  # of those that a receiver's jitter makes uneven: two may share an error, four hardly do
ASKED = 24  # frames that decide on the line code
InCode = tuple[Code, int]  # and the bits that a symbol stands for
OF_SERIAL: InCode = ("async-serial", 1)


class Taught(Struct, frozen=True):
    """What some frames of a take give for reading the others: sheets of unknown codes, those of ``uneven`` frames apart
    from the clean ones', speeds and framings of serial.
    """

    sheets: tuple[Sheet, ...] = ()
    uneven: tuple[Sheet, ...] = ()
    serial: tuple[tuple[Clock, Framing], ...] = ()

    def __bool__(self) -> bool:
        return bool(self.sheets or self.uneven or self.serial)


def taught_by(frames: Sequence[Frame]) -> Taught:
    """The codes of the frames that no sheet describes: of clean ones, and of many alike that are mostly uneven."""
    unknown = [frame for frame in frames if _is_unknown(frame) and not frame.mended]
    clean = [frame for frame in unknown if reads_well(frame.readings)]
    of_clean, of_all = (Counter(frame.reading.shape for frame in some) for some in (clean, unknown))
    mostly_uneven = {
        shape for shape, count in of_all.items() if count - of_clean[shape] >= max(FEWEST_UNEVEN, of_clean[shape] + 1)
    }
    uneven = [frame for frame in unknown if frame.reading.shape in mostly_uneven]
    clear = [frame for frame in clean if frame.reading.shape not in mostly_uneven]
    serial: dict[tuple[int, Framing], list[Clock]] = {}
    for frame in clean:
        if (framing := frame.reading.framing) is not None:
            speed = round(np.log(frame.reading.clock.unit_us) / SAME_SPEED)
            serial.setdefault((speed, framing), []).append(frame.reading.clock)
    agreed = ((clocks[0], framing) for (_, framing), clocks in serial.items() if len(clocks) >= FEWEST_ALIKE)
    return Taught(_sheets(clear), _sheets(uneven), tuple(agreed))


def read_as_taught(bursts: Sequence[Pulses], taught: Taught) -> list[tuple[Reading, ...]]:
    """Readings of the bursts that fit these codes as closely as the frames that taught them; empty for all others."""
    readings: list[tuple[Reading, ...]] = [() for _ in bursts]
    for alike, durations in by_size(bursts):
        anything, noise = any_pulse_score(durations).tolist(), noise_score(durations).tolist()
        matches = match_sheets(durations, taught.sheets, CLEAN)
        for of_burst, more in zip(matches, match_sheets(durations, taught.uneven, COARSEST_SHEET), strict=True):
            of_burst += more
        lines: list[list[LineReading]] = [[] for _ in alike]
        for clock, framing in taught.serial:
            for found, line in zip(lines, read_at(durations, clock, framing), strict=True):
                found += [line] if line is not None and line.clock.rms_us < CLEAN * line.clock.unit_us else []
        rows: list[int] = []  # of the bursts that a sheet reads
        by_sheet: list[tuple[Match, float, float]] = []  # its match, chance and evidence
        for row, at in enumerate(alike):
            scores = [_score_of_bits(match) + prices.UNKNOWN for match in matches[row]]
            scores += [line.score + prices.SERIAL for line in lines[row]]
            best, chance = _likeliest(scores, noise[row])
            if best is not None and best < len(matches[row]):
                rows.append(row)
                by_sheet.append((matches[row][best], chance, scores[best] - anything[row]))
            elif best is not None:
                line = lines[row][best - len(matches[row])]
                readings[at] = (reading_of_line(line, chance, scores[best] - anything[row]),)
        for row, reading in zip(rows, _as_unknown(durations[rows], by_sheet), strict=True):
            readings[alike[row]] = (reading,)
    return readings


def _likeliest(scores: list[float], noise: float) -> tuple[int | None, float]:
    """Which of several readings of a burst is likeliest, and its chance; none where noise is."""
    if not scores:
        return None, 0.0
    chances = probabilities([*scores, noise + prices.NOISE_HEAD_START])
    best = max(range(len(chances)), key=chances.__getitem__)
    return best if best < len(scores) else None, chances[best]


def _score_of_bits(match: Match) -> float:
    return match.timing - match.bits.size * LN2


def doubtful_read_again(
    pulses: Pulses, edges: Floats, frames: list[Frame], noise: list[Span]
) -> tuple[list[Frame], list[Span]]:
    """The frames and the rest of a take, with doubtful frames and noise read anew in the code of the clear frames."""
    unknown = [frame for frame in frames if _is_unknown(frame)]
    if len(unknown) < FEWEST_ALIKE:
        return frames, noise
    code = _code_of_all(unknown)
    frames = [_in_code(frame, code) if _is_unknown(frame) else frame for frame in frames]
    unknown = [frame for frame in frames if _is_unknown(frame)]
    sent = Counter(frame.reading.bits.size for frame in unknown)
    looks = {(_code_of(frame), frame.reading.symbols) for frame in unknown}
    if not noise and min(sent.values()) >= FEWEST_ALIKE and {code} == {each for each, _ in looks} and len(looks) == 1:
        return frames, noise  # nothing is left that others could teach how to read
    sheets = _sheets([frame for frame in unknown if _code_of(frame) == code])
    if not sheets:
        return frames, noise
    most = max(len(sheet.alphabet) for sheet in sheets)
    others = [frame for frame in unknown if _code_of(frame) != code or frame.reading.symbols < most]
    anew = _as_the_others(pulses, edges, others, dict(noise), sheets)
    frames = [anew.get(frame.first, frame) for frame in frames]
    ends = {frame.last for frame in anew.values()}
    noise = [(first, last) for first, last in noise if last not in ends]
    sizes = {sheet.bit_count for sheet in sheets}
    out = []
    for frame in frames:
        odd = _is_unknown(frame) and frame.reading.code == code[0] and frame.reading.bits.size not in sizes
        out.append(_read_anew(frame, sheets) if odd else frame)
    left = []
    for first, last in noise:
        reading = _read_by(pulses.durations_us[first : last + 1], sheets)
        if reading is None:
            left.append((first, last))
        else:
            out.append(Frame(first, last, pulses.part(first, last, edges), (reading,)))
    return sorted(out, key=lambda frame: frame.first), left


def parts_read_as_wholes(
    pulses: Pulses, edges: Floats, bursts: Sequence[Span], frames: list[Frame], noise: list[Span]
) -> tuple[list[Frame], list[Span]]:
    """The frames and the rest of a take, with bursts of which only a part was read as what the whole ones are: a
    symbol that stands once in a frame is rather damage to it than one of three, until others show it.
    """
    firsts = [first for first, _ in bursts]
    inside: dict[Span, list[Frame]] = {}
    for frame in frames:
        inside.setdefault(bursts[max(bisect_right(firsts, frame.first) - 1, 0)], []).append(frame)
    whole = [frame for burst, some in inside.items() for frame in some if (frame.first, frame.last) == burst]
    in_parts = [
        burst
        for burst, some in inside.items()
        if (some[0].first, some[0].last) != burst
        and all(_is_unknown(frame) and frame.last <= burst[1] for frame in some)
    ]
    if not in_parts or not (taught := taught_by(whole)).sheets:
        return frames, noise
    parts = [pulses.part(*burst, edges) for burst in in_parts]
    read = zip(in_parts, parts, read_as_taught(parts, Taught(taught.sheets)), strict=True)
    anew = {burst: [Frame(*burst, part, readings)] for burst, part, readings in read if readings}
    frames = [frame for burst, some in inside.items() for frame in anew.get(burst, some)]
    return frames, [each for each in noise if not any(first <= each[0] <= last for first, last in anew)]


def _as_the_others(
    pulses: Pulses, edges: Floats, odd: Sequence[Frame], noise: Mapping[int, int], sheets: Sequence[Sheet]
) -> dict[int, Frame]:
    """Frames of another code that fit the others' sheets as closely as these do, by their first mark: a frame with a
    single long pulse can be a row of characters as well, which ends before its last ones perhaps.

    ``noise`` are the last marks of what was left over, by its first ones.
    """
    spans = [(each.first, last) for each in odd for last in {each.last, noise.get(each.last + 2, each.last)}]
    parts = [pulses.part(first, last, edges) for first, last in spans]
    readings = read_as_taught(parts, Taught(tuple(sheets)))
    return {span[0]: Frame(*span, part, read) for span, part, read in zip(spans, parts, readings, strict=True) if read}


def _read_anew(frame: Frame, sheets: Sequence[Sheet]) -> Frame:
    """The frame by one of these sheets: as it came, if that will do, else as it was mended."""
    if (reading := _read_by(frame.pulses.durations_us, sheets)) is not None:
        return Frame(frame.first, frame.last, frame.pulses, (reading,))
    mended = _read_by(frame.as_read.durations_us, sheets) if frame.mended else None
    return replace(frame, readings=(mended,)) if mended is not None else frame


def _in_code(frame: Frame, code: InCode) -> Frame:
    """The frame read in the line code of all, if its own is in doubt."""
    best = frame.reading
    clean = best.clock.rms_us < CLEAN * best.clock.unit_us and best.code != SERIAL
    line = _line(frame, code) if _code_of(frame) != code and not clean else None
    if line is None or line.clock.rms_us > COARSEST * line.clock.unit_us:
        return frame
    return replace(frame, readings=(reading_of_line(line, best.confidence), *frame.readings))


def _is_unknown(frame: Frame) -> bool:
    best = frame.best
    return best is not None and not best.known and best.bits.size >= FEWEST_BITS


def _code_of(frame: Frame) -> InCode:
    best = frame.reading
    return OF_SERIAL if best.code == SERIAL else (best.code, best.symbol_bits)


def _line(frame: Frame, code: InCode) -> LineReading | None:
    return read_as(frame.as_read, code[0], symbol_bits=code[1])


def _code_of_all(frames: Sequence[Frame]) -> InCode:
    """The line code most likely for all frames together, those of the code teaching it; a frame it does not fit counts
    as noise.
    """
    asked = [frames[i] for i in sorted(set(np.linspace(0, len(frames) - 1, ASKED).astype(int).tolist()))]
    codes = sorted({_code_of(frame) for frame in asked})
    if len(codes) == 1:
        return codes[0]
    noise = [float(noise_score(frame.as_read.durations_us)) for frame in asked]
    scores: dict[InCode, float] = {}
    for code in codes:
        sheets = _sheets([frame for frame in frames if _code_of(frame) == code])
        scores[code] = 0.0
        for frame, score_of_noise in zip(asked, noise, strict=True):
            line = _line(frame, code)
            matches = match_sheets(frame.as_read.durations_us[None], sheets, CLEAN)[0]
            fitting = [*map(_score_of_bits, matches), *([line.score] if line is not None else [])]
            scores[code] += max([score_of_noise, *fitting])
    return max(scores, key=lambda code: scores[code])


def _sheets(frames: Sequence[Frame]) -> tuple[Sheet, ...]:
    """A sheet for each shape and number of symbols that several of these frames have, serial left out.

    Frames in which some of the symbols happen not to stand are the others', and have no sheet.
    """
    shapes: dict[tuple[InCode, int, Shape], list[Frame]] = {}
    for frame in frames:
        if (code := _code_of(frame)) != OF_SERIAL:
            shapes.setdefault((code, -frame.reading.symbols, frame.reading.shape), []).append(frame)
    found: list[Sheet] = []
    for (_, _, (_, size, _)), alike in sorted(shapes.items(), key=lambda each: each[0][:2]):  # most symbols first
        if len(alike) < FEWEST_ALIKE or _has_more_symbols(found, alike[0]):
            continue
        try:
            draft = describe(alike, f"{size} bits")
        except InputError:  # what no sheet can say teaches nothing
            continue
        found += [draft.sheet] if draft is not None else []
    return tuple(found)


def _has_more_symbols(sheets: Sequence[Sheet], frame: Frame) -> bool:
    """Whether a frame has some of the symbols of one of these sheets, and no others."""
    more = [sheet for sheet in sheets if len(sheet.alphabet) > frame.reading.symbols > 2]
    return bool(more and match_sheets(frame.as_read.durations_us[None], more, CLEAN)[0])


def _read_by(durations_us: Floats, sheets: Sequence[Sheet]) -> Reading | None:
    """A burst read by these sheets, if that is likelier than chance."""
    matches = match_sheets(durations_us[None], sheets, COARSEST)[0]
    best, chance = _likeliest(list(map(_score_of_bits, matches)), float(noise_score(durations_us)))
    return _as_unknown(durations_us[None], [(matches[best], chance, 0.0)])[0] if best is not None else None


def _as_unknown(durations_us: Floats, found: Sequence[tuple[Match, float, float]]) -> list[Reading]:
    """Matches, each with its chance and evidence, as unknown frames: line code and bits, without a sheet's fields.

    ``durations_us``, shape (matches, pulses), are the bursts that were matched.
    """
    among = _among_bits(durations_us, [match.bit_spans_us for match, *_ in found])
    readings = []
    for (match, chance, evidence), is_data in zip(found, among, strict=True):
        line = LineReading(
            match.sheet.code, match.clock, match.bits, match.bit_spans_us, np.where(is_data, match.expected_us, np.nan),
            0, match.timing, symbol_bits=match.sheet.bits_a_symbol, symbols=len(match.sheet.alphabet),
        )  # fmt: skip
        reading = reading_of_line(line, chance, evidence)
        if len(match.kind.sections) > 1:
            inside = np.flatnonzero(is_data)
            gaps = np.flatnonzero(np.isnan(match.expected_us)).tolist()
            gaps = [at for at in gaps if inside[0] < at < inside[-1]]
            reading = replace(reading, sections=match.kind.sections, gaps=tuple(gaps))
        readings.append(reading)
    return readings


def _among_bits(durations_us: Floats, spans_us: Sequence[Floats]) -> NDArray[np.bool_]:
    """Which pulses of each burst, shape (bursts, pulses), have their middle within one of its bits."""
    if not spans_us:
        return np.zeros(durations_us.shape, np.bool_)
    apart = 2 * float(durations_us.sum(axis=1).max()) * np.arange(len(spans_us))  # so that no burst reaches another
    middles = np.cumsum(durations_us, axis=1) - durations_us / 2 + apart[:, None]
    starts, ends = (np.concatenate(spans_us) + np.repeat(apart, list(map(len, spans_us)))[:, None]).T
    bit = np.searchsorted(starts, middles, side="right") - 1
    among: NDArray[np.bool_] = (bit >= 0) & (middles < ends[bit])
    return among
