"""Value change dumps (IEEE 1364): every one-bit signal, every bit of a bus, and real signals."""

from __future__ import annotations

import re
from array import array
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from io import BytesIO
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from msgspec import Struct, field

from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.signal.threshold import edges_of_changes
from eager_tern.signal.values import Edges, Floats, Pulses

NAME = "vcd"
KEYWORDS = (b"$date", b"$version", b"$timescale", b"$comment", b"$scope", b"$var")
HEAD = 65_536  # bytes in which signals are declared, where their names are to be mended
NAMED = re.compile(rb"(\$var\s+\w+\s+\d+\s+\S+\s+)([^$]*?)((?:\s*\[[\d:\s]+\])?\s+\$end)")
MOST_BITS_OF_BUS = 64
MOST_CHANGES = 50_000_000  # of all signals together: 800 MB
MOST_DECLARED = 50_000  # scopes and signals: a large design has some thousands
WRITTEN_NS = 1
REST_US = 100_000.0  # silence written behind the pulses, so that polarity can be told


class _Signal(Struct):
    """A signal as it is read: times in ticks and levels (0, 1, NaN: unknown, −1: high impedance) or real values."""

    name: str
    real: bool
    times: array[int] = field(default_factory=lambda: array("q"))
    values: array[float] = field(default_factory=lambda: array("d"))
    bus: int | str | None = None  # of the first bit of a bus: what all of it was last


def claims(head: bytes, suffix: str) -> bool:
    """Text that begins with one of the format's own keywords."""
    return head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(KEYWORDS)


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """One capture a signal that changes (the first, if none does). Raises InputError with the line."""
    signals: dict[str, list[_Signal]] = {}
    seen = _Seen()
    warnings: tuple[str, ...] = ()
    with _opened(path) as file:
        try:
            _read_into(file, signals, seen)
        except _StopError as stop:
            if not any(s.times for group in signals.values() for s in group):
                raise InputError(path, stop.reason, stop.place) from None
            warnings = (f"{stop.place}: {stop.reason}; what stands before it was read",)
    everything = [signal for group in signals.values() for signal in group]
    if not everything:
        raise InputError(path, "declares no one-bit and no real signal")
    start, end = seen.first, max(seen.last, seen.first)
    captures = [
        Capture(str(path), NAME, number, None, edges, channel_name=signal.name, warnings=warnings)
        for number, signal in enumerate(everything)
        if (edges := _edges(signal, start, end, seen.tick_us)) is not None
    ]
    if not captures:
        raise InputError(path, "holds no level of any signal")
    carrying = [c for c in captures if c.edges is not None and looks_like_a_signal(c.edges)]
    return carrying or captures[:1]


def _opened(path: Path) -> BinaryIO:
    """A dump to be read; where signals have names of several words, which the standard does not know, with one word
    for each.
    """
    file = path.open("rb")
    head = file.read(HEAD)
    file.seek(0)
    if all(len(found[2].split()) == 1 for found in NAMED.finditer(head)):
        return file
    with file:
        return BytesIO(NAMED.sub(lambda found: found[1] + b"_".join(found[2].split()) + found[3], file.read()))


class _Seen(Struct):
    """What has been read of the time axis so far."""

    tick_us: float = 1e-3
    first: int = 0
    last: int = 0


class _StopError(Exception):
    """The dump cannot be read any further."""

    def __init__(self, reason: str, place: str) -> None:
        self.reason, self.place = reason, place


def _change(token: Any, signals: dict[str, list[_Signal]], now: int) -> int:
    """Note what a token changes; gives how many changes that was."""
    from vcd.reader import TokenKind

    if token.kind is TokenKind.CHANGE_VECTOR:
        return _note_bus(signals.get(token.vector_change.id_code) or [], now, token.vector_change.value)
    real = token.kind is TokenKind.CHANGE_REAL
    group = signals.get((token.real_change if real else token.scalar_change).id_code)
    if not group:
        return 0
    if not real:
        return _note(group[0], now, token.scalar_change.value)
    group[0].times.append(now)
    group[0].values.append(token.real_change.value)
    return 1


def _read_into(file: Any, signals: dict[str, list[_Signal]], seen: _Seen) -> None:
    from vcd.reader import TokenKind, VCDParseError, tokenize

    scopes: list[str] = []
    changes = declared = 0
    began = False
    line = 1
    try:
        for token in tokenize(file):
            line = token.span.start.line
            kind = token.kind
            if kind is TokenKind.CHANGE_TIME:
                now = token.time_change
                if began and now < seen.last:
                    raise _StopError(f"time runs backwards, from {seen.last} to {now}", f"line {line}")
                if not began:
                    seen.first, began = now, True
                seen.last = now
            elif kind in (TokenKind.CHANGE_SCALAR, TokenKind.CHANGE_VECTOR, TokenKind.CHANGE_REAL):
                changes += _change(token, signals, seen.last)
            elif kind is TokenKind.SCOPE:
                declared += 1
                scopes.append(token.scope.ident)
            elif kind is TokenKind.UPSCOPE and scopes:
                scopes.pop()
            elif kind is TokenKind.VAR:
                declared += 1
                # A signal that goes through several scopes is dumped once, under one code.
                signals.setdefault(token.var.id_code, _declared(token.var, scopes))
            elif kind is TokenKind.TIMESCALE:
                scale = token.timescale
                seconds = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9, "ps": 1e-12, "fs": 1e-15}
                seen.tick_us = int(scale.magnitude) * seconds[scale.unit.value] * 1e6
            if declared > MOST_DECLARED:
                raise _StopError(f"declares more than {MOST_DECLARED} scopes and signals", f"line {line}")
            if changes > MOST_CHANGES:
                raise _StopError(f"has more than {MOST_CHANGES} changes", f"line {line}")
    except VCDParseError as error:
        reason = str(error).split(": ")[-1]
        raise _StopError(f"is no value change dump from here on ({reason})", f"line {line}") from None
    except (ValueError, KeyError, IndexError, OverflowError, UnicodeDecodeError) as error:
        raise _StopError(f"cannot be understood from here on ({error})", f"line {line}") from None


def _declared(var: Any, scopes: list[str]) -> list[_Signal]:
    name = ".".join([*scopes, var.reference])
    if var.type_.value in ("real", "realtime"):
        return [_Signal(name, real=True)]
    if var.type_.value in ("parameter", "event", "time", "integer", "string"):
        return []
    if var.size == 1:
        return [_Signal(name if var.bit_index is None else f"{name}[{var.bit_index}]", real=False)]
    if var.size > MOST_BITS_OF_BUS:
        return []
    return [_Signal(f"{name}[{bit}]", real=False) for bit in range(var.size)]


LEVELS = {"0": 0.0, "1": 1.0, "x": np.nan, "X": np.nan, "z": -1.0, "Z": -1.0}


def _note(signal: _Signal, at: int, value: str) -> bool:
    """Take down a level if it is another than the one before; whether it was."""
    level = LEVELS.get(value)
    if level is not None and not (signal.values and signal.values[-1] == level):
        signal.times.append(at)
        signal.values.append(level)
        return True
    return False


def _note_bus(group: list[_Signal], at: int, value: int | str) -> int:
    """Take down the bits of a bus that have changed; how many those are."""
    before = group[0].bus if group else None
    if isinstance(value, int) and isinstance(before, int) and value >= 0:
        group[0].bus = value
        changed = (value ^ before) & ((1 << len(group)) - 1)
        count = 0
        while changed:
            bit = (changed & -changed).bit_length() - 1
            changed &= changed - 1
            count += _note(group[bit], at, str(value >> bit & 1))
        return count
    if group:
        group[0].bus = value
    return sum(_note(s, at, each) for s, each in zip(group, _bits(value, len(group)), strict=False))


def _bits(value: int | str, size: int) -> Iterable[str]:
    """The bits of a bus, lowest first; a value shorter than the bus goes on with its first digit, or with 0."""
    digits = value if isinstance(value, str) else f"{value:b}"
    fill = digits[0] if digits[:1] in ("x", "X", "z", "Z") else "0"
    return digits.rjust(size, fill)[::-1][:size]


def _edges(signal: _Signal, start: int, end: int, tick_us: float) -> Edges | None:
    values: Floats = np.array(signal.values, dtype=np.float64)
    times: Floats = np.asarray((np.array(signal.times, dtype=np.int64) - start) * tick_us, dtype=np.float64)
    if not signal.real:
        # A line that is only ever pulled low is high where nobody drives it; elsewhere, not driven says nothing.
        pulled_low = bool((values == 0).any() and not (values == 1).any())
        values = np.where(values == -1.0, 1.0 if pulled_low else np.nan, values).astype(np.float64)
    known = np.isfinite(values)
    end_us = (end - start) * tick_us
    return edges_of_changes(times[known], values[known], 0.0, end_us) if known.any() else None


def looks_like_a_signal(edges: Edges) -> bool:
    """Whether a line does more than to be switched once or to run as a clock."""
    d = np.diff(edges.times_us)
    if d.size < 6:
        return False
    highs, lows = d[::2], d[1::2]
    regular = all(float(np.ptp(part)) <= 0.02 * float(part.mean()) for part in (highs, lows))
    return not regular


def write(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """One wire, low at rest, high during marks, in nanoseconds."""
    from vcd import VCDWriter

    edges = np.rint(pulses.edge_times_us * 1000 / WRITTEN_NS).astype(np.int64).tolist()
    with (
        path.open("w", encoding="ascii") as file,
        VCDWriter(
            file,
            timescale=f"{WRITTEN_NS} ns",
            date=datetime.now(UTC).isoformat(timespec="seconds"),
            version="Eager Tern",
        ) as writer,
    ):
        line = writer.register_var("take", "line", "wire", size=1, init=0)
        for i, at in enumerate(edges):
            writer.change(line, at, 1 - i % 2)
        writer.close(edges[-1] + int(REST_US * 1000))


FORMAT = Format(NAME, (".vcd",), claims, read, write)
