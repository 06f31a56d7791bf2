"""A take read in the line code that the user names, even if another would fit better."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import get_args

from msgspec import Struct

from eager_tern.linecode.identify import as_one, read_as
from eager_tern.linecode.parts import parts_of
from eager_tern.linecode.runs import parsed
from eager_tern.linecode.serial import async_serial, serial_readings
from eager_tern.linecode.values import Code, Framing, LineReading, Parity
from eager_tern.protocol.burst_reading import without_frames
from eager_tern.protocol.end_bits import with_end_bits
from eager_tern.protocol.presses import Frame, group_presses
from eager_tern.protocol.reading import UNKNOWN_MOST, reading_of_line
from eager_tern.protocol.sections import with_sections
from eager_tern.protocol.take import TakeRead, read_pulses
from eager_tern.signal.bursts import GapSettings, split_bursts
from eager_tern.signal.values import Pulses

SERIAL = re.compile(r"serial(?::(\d+(?:\.\d+)?)(?:-([5-8])([NEO])([12]))?)?", re.IGNORECASE)
PARITIES: dict[str, Parity] = {"N": "none", "E": "even", "O": "odd"}
CODES = ("pulse-distance", "pulse-width", "biphase")
FEWEST_PULSES = 3


class Said(Struct, frozen=True):
    """A line code; of serial characters the length of a bit and the framing, where they were said."""

    code: Code
    unit_us: float | None = None
    framing: Framing | None = None


def said(text: str) -> Said:
    """What `pulse-distance`, `pulse-width`, `biphase` or `serial:1200-8N1` says. Raises ValueError."""
    if text in CODES:
        return Said(next(code for code in get_args(Code) if code == text))
    found = SERIAL.fullmatch(text)
    if found is None or (found[1] and float(found[1]) <= 0):
        raise ValueError(f'"{text}" is none of {", ".join(CODES)} and serial:1200-8N1')
    framing: Framing | None = None
    if found[2]:
        framing = int(found[2]), PARITIES[found[3].upper()], int(found[4])
    return Said("async-serial", 1e6 / float(found[1]) if found[1] else None, framing)


def read_said(pulses: Pulses, how: Said, gaps: GapSettings | None = None) -> TakeRead:
    """The frames of a take in the line code said; what cannot be read in it at all is noise.

    Where a take without sheets is read in that code anyway, its frames stand: they were asked about one another.
    """
    edges = pulses.edge_times_us
    anyway = read_pulses(pulses, (), gaps).frames if how.code in CODES else []
    frames = [frame for frame in anyway if frame.best is not None and frame.best.code == how.code]
    noise = []
    left = without_frames(split_bursts(pulses, gaps), frames)
    forced: list[Frame] = []
    for first, last in left:
        burst = pulses.part(first, last, edges)
        found = list(_frames(burst, how)) if last - first + 1 >= FEWEST_PULSES else []
        forced += [frame.moved(first) for frame in found]
        noise += [] if found else [(first, last)]
    forced = with_sections(pulses, with_end_bits(pulses, forced))
    frames = sorted(frames + forced, key=lambda frame: frame.first)
    return TakeRead(pulses, tuple(group_presses(frames)), tuple(noise))


def _frames(burst: Pulses, how: Said) -> Iterator[Frame]:
    d = burst.durations_us
    if how.code == "async-serial":
        line = _characters(burst, how)
        if line is not None:
            yield _frame(burst, 0, d.size - 1, line)
        return
    found = next((each for each in parsed(d) if each.code == how.code), None)
    parts = parts_of(d, found.rows) if found is not None else []
    for first, last, rows in parts:
        if found is not None:
            yield _frame(burst.part(first, last), first, last, as_one(d[first : last + 1], found, rows, first))
    if not parts and (line := read_as(burst, how.code)) is not None:
        yield _frame(burst, 0, d.size - 1, line)


def _characters(burst: Pulses, how: Said) -> LineReading | None:
    if how.framing is None:
        return async_serial(burst.durations_us, how.unit_us)
    return serial_readings(burst.durations_us, how.unit_us).get(how.framing)


def _frame(part: Pulses, first: int, last: int, line: LineReading) -> Frame:
    return Frame(first, last, part, (reading_of_line(line, UNKNOWN_MOST),))
