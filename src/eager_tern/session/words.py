"""Numbers and names as the desk writes them."""

from __future__ import annotations

import time
from functools import cache

from eager_tern.casebook.values import Caught
from eager_tern.protocol.fields import in_words
from eager_tern.protocol.loading import library_sheet
from eager_tern.protocol.reading import Reading
from eager_tern.texts import tr

SHORT_BITS = 32  # a code of as many is shown in hex where there is little room
_in_microseconds = False
CODE_NAMES = {
    "pulse-distance": tr("pulse distance"),
    "pulse-width": tr("pulse width"),
    "biphase": tr("bi-phase"),
    "async-serial": tr("asynchronous serial"),
    "unknown": tr("plain bits"),
}


def clock_time(seconds: float) -> str:
    return time.strftime("%H:%M:%S", time.localtime(seconds))


def write_durations(in_microseconds: bool) -> None:
    """From now on write all durations in microseconds, or each in the unit that fits it."""
    global _in_microseconds
    _in_microseconds = in_microseconds


def duration(us: float) -> str:
    """A duration with sensible digits."""
    if us < 10_000 or _in_microseconds:
        return f"{us:.0f} µs"
    if us < 1_000_000:
        return f"{us / 1e3:.1f} ms"
    if us < 60e6:
        return f"{us / 1e6:.2f} s"
    return f"{us / 60e6:.1f} min" if us < 7200e6 else f"{us / 3600e6:.1f} h"


def moment(us: float, step_us: float) -> str:
    """A time on a ruler whose lines are so far apart."""
    if _in_microseconds or step_us < 100:
        return f"{us:.12g} µs"
    return f"{us / 1e6:g} s" if step_us >= 1e5 else f"{us / 1e3:g} ms"


def frequency(hz: float) -> str:
    return f"{hz / 1e6:.3f} MHz" if hz >= 1e6 else f"{hz / 1e3:.1f} kHz"


def reading_name(reading: Reading) -> str:
    """A reading's protocol, for a person."""
    return reading.sheet.name if reading.sheet is not None else tr("unknown protocol")


def short_code(press: Caught) -> str:
    """Protocol and code of a press in a few characters."""
    reading = press.reading
    if reading.first_missed:
        return tr("repeats only")
    if reading.protocol in ("", "unknown"):
        count = len(reading.bits)
        digits = f"{int(reading.bits, 2):0{-(-count // 4)}X} " if 0 < count <= SHORT_BITS else ""
        return tr("{digits}{count} bits", digits=digits, count=count)
    own = [name for name in reading.fields if name not in reading.turning] or list(reading.fields)
    fields = _code_fields(reading.protocol) or tuple((name, _own_width(name)) for name in own[:3])
    numbers = "·".join(in_words(reading.fields.get(name, 0), width) for name, width in fields)
    return f"{reading.protocol.upper()} {numbers}" if library_sheet(reading.protocol) is not None else numbers


def _own_width(name: str) -> int:
    """Of a sheet of one's own: bytes without a meaning yet in hex, what has a name in decimal."""
    return 8 if name.startswith("byte") else 0


@cache
def _code_fields(protocol: str) -> tuple[tuple[str, int], ...]:
    """Of the library's sheets: the fields that tell keys apart, address before command, with their widths."""
    sheet = library_sheet(protocol)
    fields = sorted(sheet.fields, key=lambda f: f.name) if sheet is not None else []
    return tuple((field.name, field.bits.width) for field in fields if field.role is None)


def hold(press: Caught) -> str:
    """How many frames a press had in what time, where it had several."""
    if press.repeats < 1 and not press.reading.first_missed:
        return ""
    return f"×{len(press.reading.frames)} in {press.reading.held_us / 1e6:.1f} s"
