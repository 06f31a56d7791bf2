"""Unknown frames of a take agree on one code: doubtful ones are read as the clear ones are."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.closeness import CLEAN, COARSEST
from eager_tern.linecode.identify import read_as
from eager_tern.linecode.likelihood import noise_score
from eager_tern.linecode.values import LineReading
from eager_tern.protocol.candidates import Span
from eager_tern.protocol.matching import match_sheets
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import SERIAL, reading_of_line
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.taught import (
    FEWEST_ALIKE,
    InCode,
    Taught,
    code_of,
    is_of_no_sheet,
    read_as_taught,
    read_by_any,
    score_of_bits,
    sheets_of,
)
from eager_tern.signal.values import Floats, Pulses

ASKED = 24  # frames that decide on the line code


def doubtful_read_again(
    pulses: Pulses, edges: Floats, frames: list[Frame], noise: list[Span]
) -> tuple[list[Frame], list[Span]]:
    """The frames and the rest of a take, with doubtful frames and noise read anew in the code of the clear frames."""
    unknown = [frame for frame in frames if is_of_no_sheet(frame)]
    if len(unknown) < FEWEST_ALIKE:
        return frames, noise
    code = _code_of_all(unknown)
    frames = [_in_code(frame, code) if is_of_no_sheet(frame) else frame for frame in frames]
    unknown = [frame for frame in frames if is_of_no_sheet(frame)]
    sent = Counter(frame.reading.bits.size for frame in unknown)
    looks = {(code_of(frame), frame.reading.symbols) for frame in unknown}
    if not noise and min(sent.values()) >= FEWEST_ALIKE and looks == {(code, unknown[0].reading.symbols)}:
        return frames, noise  # nothing is left that others could teach how to read
    sheets = sheets_of([frame for frame in unknown if code_of(frame) == code])
    if not sheets:
        return frames, noise
    most = max(len(sheet.alphabet) for sheet in sheets)
    others = [frame for frame in unknown if code_of(frame) != code or frame.reading.symbols < most]
    anew = _as_the_others(pulses, edges, others, dict(noise), sheets)
    frames = [anew.get(frame.first, frame) for frame in frames]
    ends = {frame.last for frame in anew.values()}
    noise = [(first, last) for first, last in noise if last not in ends]
    sizes = {sheet.bit_count for sheet in sheets}
    out = []
    for frame in frames:
        odd = is_of_no_sheet(frame) and frame.reading.code == code[0] and frame.reading.bits.size not in sizes
        out.append(_read_anew(frame, sheets) if odd else frame)
    left = []
    for first, last in noise:
        reading = read_by_any(pulses.durations_us[first : last + 1], sheets)
        if reading is None:
            left.append((first, last))
        else:
            out.append(Frame(first, last, pulses.part(first, last, edges), (reading,)))
    return sorted(out, key=lambda frame: frame.first), left


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
    if (reading := read_by_any(frame.pulses.durations_us, sheets)) is not None:
        return Frame(frame.first, frame.last, frame.pulses, (reading,))
    mended = read_by_any(frame.as_read.durations_us, sheets) if frame.mended else None
    return replace(frame, readings=(mended,)) if mended is not None else frame


def _in_code(frame: Frame, code: InCode) -> Frame:
    """The frame read in the line code of all, if its own is in doubt."""
    best = frame.reading
    clean = best.clock.rms_us < CLEAN * best.clock.unit_us and best.code != SERIAL
    line = _line(frame, code) if code_of(frame) != code and not clean else None
    if line is None or line.clock.rms_us > COARSEST * line.clock.unit_us:
        return frame
    return replace(frame, readings=(reading_of_line(line, best.confidence), *frame.readings))


def _line(frame: Frame, code: InCode) -> LineReading | None:
    return read_as(frame.as_read, code[0], symbol_bits=code[1])


def _code_of_all(frames: Sequence[Frame]) -> InCode:
    """The line code most likely for all frames together, those of the code teaching it; a frame it does not fit counts
    as noise.
    """
    asked = [frames[i] for i in sorted(set(np.linspace(0, len(frames) - 1, ASKED).astype(int).tolist()))]
    codes = sorted({code_of(frame) for frame in asked})
    if len(codes) == 1:
        return codes[0]
    noise = [float(noise_score(frame.as_read.durations_us)) for frame in asked]
    scores: dict[InCode, float] = {}
    for code in codes:
        sheets = sheets_of([frame for frame in frames if code_of(frame) == code])
        scores[code] = 0.0
        for frame, score_of_noise in zip(asked, noise, strict=True):
            line = _line(frame, code)
            matches = match_sheets(frame.as_read.durations_us[None], sheets, CLEAN)[0]
            fitting = [*map(score_of_bits, matches), *([line.score] if line is not None else [])]
            scores[code] += max([score_of_noise, *fitting])
    return max(scores, key=lambda code: scores[code])
