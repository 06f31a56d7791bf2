"""Readings: what a frame says, by each sheet that fits it, with the evidence."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from eager_tern.linecode import prices
from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.identify import identify
from eager_tern.linecode.likelihood import any_pulse_score, probabilities
from eager_tern.linecode.serial import told_by_framing
from eager_tern.linecode.values import NO_BITS, Bits, Clock, Code, Framing, LineReading
from eager_tern.protocol.checks import CheckResult
from eager_tern.protocol.fields import DataField, ListField, TextField, Value
from eager_tern.protocol.matching import Match, match_sheets
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Floats, Pulses

UNKNOWN = "unknown"
SERIAL = "async-serial"
# Of unknown frames as receivers give them (benches/test_strangers.py), 2 in 100 that look clear are misread.
UNKNOWN_MOST = 0.97
CLOSE_BITS = 12  # of a frame that is told from any other by lying close
GUESSED = 0.3  # confidence left in a frame of which a mark or a space was lost, and so a bit or two guessed
BEYOND = 0.9  # confidence at most in a value that the sheet was not found out with: a field may end there, or bend

Shape = tuple[Code, int, tuple[int, ...]]  # line code, bits, bits of each section


class Reading(Struct, frozen=True, gc=False):
    """One interpretation of a frame. ``protocol`` is a sheet's id or "unknown"; ``sheet`` is the one it was read by.

    ``symbol_bits`` are sent together, as in ``LineReading``. ``gaps`` are the pulses between the sections of a frame
    that no sheet describes.

    ``bit_spans_us`` (n, 2) and ``expected_us`` (pulses,) are counted from the frame's first edge. ``evidence`` is by
    how many nats it explains the pulses better than that they could be anything.
    """

    protocol: str
    confidence: float
    code: Code
    clock: Clock
    bits: Bits
    bit_spans_us: Floats
    expected_us: Floats
    fields: dict[str, Value] = field(default_factory=dict)
    checks: tuple[CheckResult, ...] = ()
    kind: str = ""
    stands_for_repeat: bool = False
    sheet: Sheet | None = None
    sections: tuple[int, ...] = ()
    gaps: tuple[int, ...] = ()
    symbol_bits: int = 1
    symbols: int = 2
    framing: Framing | None = None
    evidence: float = 0.0

    @property
    def beyond(self) -> tuple[str, ...]:
        """The fields whose values lie outside what they were found out with: there they may say something else."""
        fields = self.sheet.bounded if self.sheet is not None else ()
        return tuple(dict.fromkeys(f.name for f in fields if f.is_beyond(self.fields.get(f.name))))

    @property
    def shape(self) -> Shape:
        """What frames must share for their bits to be stacked."""
        return self.code, int(self.bits.size), self.sections

    @property
    def known(self) -> bool:
        """Whether a sheet describes the frame, and not only its line code."""
        return self.sheet is not None

    @property
    def meant(self) -> Bits:
        """The bits without what this kind of frame inverts."""
        return self.sheet.frame(self.kind).turned(self.bits) if self.sheet is not None else self.bits

    @property
    def checks_hold(self) -> bool:
        return all(check.ok for check in self.checks)


def read_frame(pulses: Pulses, sheets: Sequence[Sheet]) -> tuple[Reading, ...]:
    """Readings of one frame, most probable first; empty where random pulses explain it as well.

    Where no sheet fits closely, what the frame alone says of its line code stands among them as "unknown".
    """
    return read_frames([pulses], sheets)[0]


def read_frames(frames: Sequence[Pulses], sheets: Sequence[Sheet]) -> list[tuple[Reading, ...]]:
    """The readings of several frames: those with as many pulses have the sheets laid on them together."""
    return _read_together(frames, sheets, by_line=True)


def read_by_sheets(
    frames: Sequence[Pulses], sheets: Sequence[Sheet], most_rms: float | None = None
) -> list[tuple[Reading, ...]]:
    """The readings of several frames by the sheets alone, where one of them is likelier than noise; ``most_rms`` as in
    ``match_sheets``.
    """
    return _read_together(frames, sheets, by_line=False, most_rms=most_rms)


def _read_together(
    frames: Sequence[Pulses], sheets: Sequence[Sheet], by_line: bool, most_rms: float | None = None
) -> list[tuple[Reading, ...]]:
    readings: list[tuple[Reading, ...]] = [() for _ in frames]
    for alike, durations in by_size(frames):
        anything = any_pulse_score(durations)
        for at, found, score in zip(alike, match_sheets(durations, sheets, most_rms), anything.tolist(), strict=True):
            readings[at] = _weighed(frames[at], found, score, by_line) if found or by_line else ()
    return readings


def by_size(frames: Sequence[Pulses]) -> Iterator[tuple[list[int], Floats]]:
    """Frames with as many pulses together: their indices, and their durations, shape (frames, pulses)."""
    sizes: dict[int, list[int]] = {}
    for at, frame in enumerate(frames):
        sizes.setdefault(frame.durations_us.size, []).append(at)
    for alike in sizes.values():
        yield alike, np.array([frames[at].durations_us for at in alike])


def _weighed(pulses: Pulses, matches: Sequence[Match], anything: float, by_line: bool) -> tuple[Reading, ...]:
    """The sheets' readings of a frame, weighed against its line code alone and against noise (log probability
    ``anything``).
    """
    scores = [match.score for match in matches]
    lines = () if not by_line or any(map(fits_closely, matches)) else identify(pulses)
    scores += [line.score + (prices.SERIAL if line.code == SERIAL else prices.UNKNOWN) for line in lines[:1]]
    chances = probabilities([*scores, anything + prices.NOISE_BESIDE_SHEETS])
    if chances[-1] > 0.5:
        return ()
    readings = [
        reading_of_match(match, chance * (GUESSED if match.out_of_place or match.is_bare else 1.0), score - anything)
        for match, chance, score in zip(matches, chances, scores, strict=False)
    ]
    readings += [reading_of_line(line, chances[-2], scores[-1] - anything) for line in lines[:1]]
    best: dict[tuple[str, bool], Reading] = {}  # kinds of frame that look alike are told apart by their checks
    for reading in sorted(readings, key=lambda r: -r.confidence):
        best.setdefault((reading.protocol, reading.stands_for_repeat), reading)
    return tuple(best.values())


def serial_words(reading: Reading) -> str:
    """Speed, framing and, where all bytes are printable, text of serial characters: `1200 baud 8N1 "ok"`."""
    if reading.framing is None:
        return ""
    data, parity, stop = reading.framing
    speed = f"{1e6 / reading.clock.unit_us:.0f} baud {data}{parity[0].upper()}{stop}"
    numbers = reading.fields.get("bytes")
    text = bytes(numbers).decode("ascii", "replace").rstrip("\r\n\0") if isinstance(numbers, tuple) else ""
    return f'{speed} "{text}"' if text and text.isascii() and text.isprintable() else speed


def bit_span(reading: Reading | None, bit: int) -> tuple[float, float] | None:
    """Start and end of a bit (µs from the frame's first edge); None where there is no such bit."""
    if reading is None or not 0 <= bit < len(reading.bit_spans_us):
        return None
    start, end = reading.bit_spans_us[bit]
    return float(start), float(end)


def bit_at(reading: Reading | None, at_us: float) -> int:
    """The bit whose stretch holds a moment, counted from the frame's first edge; −1 where there is none."""
    if reading is None:
        return -1
    inside = np.flatnonzero((reading.bit_spans_us[:, 0] <= at_us) & (at_us < reading.bit_spans_us[:, 1]))
    return int(inside[0]) if inside.size else -1


def field_values(sheet: Sheet, bits: Bits) -> dict[str, Value]:
    """What a sheet's fields say in a frame's bits as meant; a field that means nothing there is left out."""
    values: dict[str, Value] = {}
    named: tuple[DataField | TextField | ListField, ...] = (*sheet.fields, *sheet.texts, *sheet.lists)
    for each in named:
        values[each.name] = each.read(bits)
    for name, alike in sheet.conditional.items():
        right = next((f for f in alike if f.means_something(values)), None)
        if right is None:
            del values[name]
        elif len(alike) > 1:
            values[name] = right.read(bits)
    return values


def fits_closely(read: Match | Reading) -> bool:
    """Whether no line code by itself could explain the frame better: all checks hold, all edges lie on the ruler."""
    return read.bits.size >= CLOSE_BITS and read.clock.rms_us < CLEAN * read.clock.unit_us and read.checks_hold


def reading_of_match(match: Match, chance: float, evidence: float = 0.0) -> Reading:
    """What a sheet that fits says of a frame; ``chance`` is how probable that is beside all other readings,
    ``evidence`` (nats) beside pulses that could be anything.
    """
    sheet, bits = match.sheet, match.meant
    results = match.results
    fields = field_values(sheet, bits) if bits.size else {}
    confidence = chance * 0.3 ** sum(not r.ok for r in results)
    most = BEYOND if any(field.is_beyond(fields.get(field.name)) for field in sheet.bounded) else 0.999
    return Reading(
        protocol=sheet.id,
        confidence=min(confidence, most),
        code=sheet.code,
        clock=match.clock,
        bits=match.bits,
        bit_spans_us=match.bit_spans_us,
        expected_us=match.expected_us,
        fields=fields,
        checks=results,
        kind=match.kind.name,
        stands_for_repeat=match.kind.repeat,
        sheet=sheet,
        sections=match.kind.sections if len(match.kind.sections) > 1 else (),
        symbol_bits=sheet.bits_a_symbol,
        evidence=evidence,
    )


def _fields_of_line(line: LineReading) -> dict[str, Value]:
    """The bytes of characters; the digits of a code that has some."""
    if line.framing is not None:
        return {"bytes": ListField(name="bytes", width=line.symbol_bits).read(line.bits)}
    return digits_of(line)


def digits_of(read: LineReading | Reading) -> dict[str, Value]:
    """The digits of a code whose symbols stand for no whole number of bits; other codes have none."""
    if read.symbols == 1 << read.symbol_bits:
        return {}
    return {"digits": "".join(map(str, symbol_numbers(read).tolist()))}


def symbol_numbers(read: LineReading | Reading) -> NDArray[np.intp]:
    """The number of each symbol, of a code in which each stands for several bits."""
    return read.bits.reshape(-1, read.symbol_bits) @ (1 << np.arange(read.symbol_bits)[::-1])


def framed(line: LineReading) -> float:
    """How probable it is that serial characters are some, beside bits that only last as long; 1 for other codes."""
    return 1.0 if line.framing is None else probabilities([told_by_framing(line), 0.0])[0]


def reading_of_line(line: LineReading, chance: float, evidence: float = 0.0) -> Reading:
    """What a line code alone says of a frame; ``chance`` and ``evidence`` as in ``reading_of_match``."""
    return Reading(
        protocol=SERIAL if line.code == SERIAL else UNKNOWN,
        confidence=min(chance, UNKNOWN_MOST) * framed(line),
        code=line.code,
        clock=line.clock,
        bits=line.bits if line.bits.size else NO_BITS,
        bit_spans_us=line.bit_spans_us,
        expected_us=line.expected_us,
        fields=_fields_of_line(line),
        symbol_bits=line.symbol_bits,
        symbols=line.symbols,
        framing=line.framing,
        evidence=evidence,
    )
