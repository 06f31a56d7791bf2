"""The recorder's line protocol: what a microcontroller says over its serial port. docs/recorder.md describes it.

Every line is timing text; what is not a duration stands behind a ``#``. A device that prints nothing but signed
durations is understood as well.
"""

from __future__ import annotations

import re

import numpy as np
from msgspec import Struct

from eager_tern.errors import InputError
from eager_tern.formats.text_bursts import WORDS
from eager_tern.formats.timing_text import parse
from eager_tern.signal.values import Floats, signed_from_start

VERSION = 2
IDENTIFY = b"?\n"
HELLO = re.compile(r"tern-recorder (\d{1,3}) tick (\d{1,6}) us, (.{0,80})")
MARKED = re.compile(r"(\d{1,3}) ([0-9a-f]{2})")
DURATION = re.compile(r"[+-]\d{1,10}")
LONGEST_LINE = 4096
PROSE = re.compile(r"[A-Za-z][\w ,.:;()'=+-]{2,}")
UNKNOWN_SILENCE_US = 200_000.0  # behind a burst whose device does not tell


class Hello(Struct, frozen=True):
    """The device says what it is."""

    version: int
    tick_us: int
    name: str


class Durations(Struct, frozen=True):
    """Signed µs. ``number`` counts the lines, modulo 256; None from a device that does not count."""

    signed_us: Floats
    number: int | None = None


class Scrambled(Struct, frozen=True):
    """A line that is none of the protocol, or whose checksum does not hold."""

    text: str


class Remark(Struct, frozen=True):
    """What stands behind a ``#`` and is neither: an answer to an order, or talk."""

    text: str


Line = Hello | Durations | Remark | Scrambled


def checksum(text: str) -> int:
    """CRC-8 with polynomial 0x07, start and final value 0, of the ASCII text."""
    register = 0
    for byte in text.encode("ascii", "replace"):
        register ^= byte
        for _ in range(8):
            register = (register << 1 ^ 0x07 if register & 0x80 else register << 1) & 0xFF
    return register


def encode_durations(signed_us: Floats, number: int) -> str:
    """A line with its number and checksum, without the line's end."""
    words = " ".join(f"{round(d):+d}" for d in signed_us.tolist() if round(d))
    body = f"{words} # {number % 256}"
    return f"{body} {checksum(body):02x}"


def encode_order(body: str) -> str:
    """An order with its checksum, without the line's end."""
    return f"{body} # {checksum(body):02x}"


def decode_order(text: str) -> str | None:
    """An order without its checksum; None where that does not hold."""
    body, _, told = text.strip().rpartition(" # ")
    return body if body and told == f"{checksum(body):02x}" else None


def encode_hello(name: str, tick_us: int, version: int = VERSION) -> str:
    """The answer to ``?``."""
    body = f"# tern-recorder {version} tick {tick_us} us, {name}"
    return f"{body} # {checksum(body):02x}"


def decode_line(text: str) -> Line | None:
    """What a line says; None for an empty one, or words about something else."""
    text = text.strip()
    if not text:
        return None
    durations, _, comment = text.partition("#")
    words = durations.split()
    if not words:
        body, _, told = comment.rpartition("#")
        hello = HELLO.fullmatch(body.strip())
        if hello is None:
            return Remark(comment.strip())
        if told.strip() != f"{checksum('#' + body.rstrip()):02x}":
            return Scrambled(text)
        return Hello(int(hello[1]), int(hello[2]), hello[3])
    if not all(DURATION.fullmatch(word) for word in words):
        return _plain(text)
    values = np.array(words, dtype=np.float64)
    if not comment:
        return Durations(values)
    marked = MARKED.fullmatch(comment.strip())
    if marked is None or checksum(text.rpartition(" ")[0]) != int(marked[2], 16):
        return Scrambled(text)
    return Durations(values, int(marked[1]))


def _plain(text: str) -> Line | None:
    """A line of a device that has a style of its own: any timing text, or words about something else."""
    try:
        pulses = parse(text)
    except InputError:
        return None if PROSE.fullmatch(text) else Scrambled(text)
    signed = signed_from_start(pulses)
    # Unsigned durations are a whole burst; words come one duration a line.
    alone = text.split()[0].lower() in WORDS
    if alone:
        return Durations(-np.abs(np.array([float(text.split()[1])])) if WORDS[text.split()[0].lower()] < 0 else signed)
    return Durations(np.append(signed, -UNKNOWN_SILENCE_US)) if pulses.durations_us.size >= 3 else Scrambled(text)


class LineSplitter:
    """Bytes to lines, however they are cut up on the way."""

    def __init__(self) -> None:
        self._rest = b""

    def feed(self, data: bytes) -> list[str]:
        *lines, self._rest = (self._rest + data).split(b"\n")
        if len(self._rest) > LONGEST_LINE:  # no line end for so long: this is not text
            lines.append(self._rest)
            self._rest = b""
        return [line.decode("ascii", "replace") for line in lines]
