"""What clear frames of a code that no sheet describes teach: temporary sheets and speeds, by which others are read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.errors import InputError
from eager_tern.linecode import prices
from eager_tern.linecode.closeness import CLEAN, COARSEST, COARSEST_SHEET
from eager_tern.linecode.likelihood import any_pulse_score, noise_score, probabilities
from eager_tern.linecode.serial import read_at
from eager_tern.linecode.values import Clock, Code, Framing, LineReading
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
    unknown = [frame for frame in frames if is_of_no_sheet(frame) and not frame.mended]
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
    return Taught(sheets_of(clear), sheets_of(uneven), tuple(agreed))


def taught_of_each_shape(frames: Sequence[Frame]) -> dict[Shape, Taught]:
    """The codes that clean frames that no sheet describes teach, one frame too, by their shape."""
    clear: dict[Shape, list[Frame]] = {}
    for frame in frames:
        if is_of_no_sheet(frame) and not frame.mended and reads_well(frame.readings):
            clear.setdefault(frame.reading.shape, []).append(frame)
    return {shape: Taught(sheets_of(alike, 1)) for shape, alike in clear.items()}


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
            scores = [score_of_bits(match) + prices.UNKNOWN for match in matches[row]]
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


def score_of_bits(match: Match) -> float:
    """Nats for the pulses of a match, with bits that could have been any."""
    return match.timing - match.bits.size / match.sheet.bits_a_symbol * float(np.log(len(match.sheet.alphabet)))


def is_of_no_sheet(frame: Frame) -> bool:
    """Whether a frame is read, long enough to teach something, and no sheet describes it."""
    best = frame.best
    return best is not None and not best.known and best.bits.size >= FEWEST_BITS


def code_of(frame: Frame) -> InCode:
    """The line code of a frame that is read."""
    best = frame.reading
    return OF_SERIAL if best.code == SERIAL else (best.code, best.symbol_bits)


def sheets_of(frames: Sequence[Frame], fewest: int = FEWEST_ALIKE) -> tuple[Sheet, ...]:
    """A sheet for each shape and number of symbols that several of these frames have, serial left out.

    Frames in which some of the symbols happen not to stand are the others', and have no sheet.
    """
    shapes: dict[tuple[InCode, int, Shape], list[Frame]] = {}
    for frame in frames:
        if (code := code_of(frame)) != OF_SERIAL:
            shapes.setdefault((code, -frame.reading.symbols, frame.reading.shape), []).append(frame)
    found: list[Sheet] = []
    for (_, _, (_, size, _)), alike in sorted(shapes.items(), key=lambda each: each[0][:2]):  # most symbols first
        if len(alike) < fewest or _has_more_symbols(found, alike[0]):
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


def read_by_any(durations_us: Floats, sheets: Sequence[Sheet]) -> Reading | None:
    """A burst read by these sheets, if that is likelier than chance."""
    matches = match_sheets(durations_us[None], sheets, COARSEST)[0]
    best, chance = _likeliest(list(map(score_of_bits, matches)), float(noise_score(durations_us)))
    return _as_unknown(durations_us[None], [(matches[best], chance, 0.0)])[0] if best is not None else None


def _as_unknown(durations_us: Floats, found: Sequence[tuple[Match, float, float]]) -> list[Reading]:
    """Matches, each with its chance and evidence, as unknown frames: line code and bits, without a sheet's fields.

    ``durations_us``, shape (matches, pulses), are the bursts that were matched.
    """
    among = _among_bits(durations_us, [match.bit_spans_us for match, *_ in found])
    readings = []
    for (match, chance, evidence), is_data, pulses_us in zip(found, among, durations_us, strict=True):
        line = LineReading(
            match.sheet.code, match.clock, match.bits, match.bit_spans_us, np.where(is_data, match.expected_us, np.nan),
            0, match.timing, symbol_bits=match.sheet.bits_a_symbol, symbols=len(match.sheet.alphabet),
        )  # fmt: skip
        reading = reading_of_line(line, chance, evidence)
        if len(match.kind.sections) > 1:
            reading = replace(reading, sections=match.kind.sections, gaps=_gaps_of(match, is_data, pulses_us))
        readings.append(reading)
    return readings


def _gaps_of(match: Match, is_data: NDArray[np.bool_], durations_us: Floats) -> tuple[int, ...]:
    """Which pulses part a match's sections: of several silences between the bits of two, a sync's for one, the longest.

    ``is_data`` and ``durations_us`` have shape (pulses,).
    """
    inside = np.flatnonzero(is_data)
    silences = np.flatnonzero(np.isnan(match.expected_us))
    longest: dict[int, int] = {}  # by how many pulses of bits stand before
    for at, before in zip(silences.tolist(), np.searchsorted(inside, silences).tolist(), strict=True):
        if 0 < before < inside.size:
            longest[before] = max(longest.get(before, at), at, key=durations_us.__getitem__)
    return tuple(longest.values())


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
