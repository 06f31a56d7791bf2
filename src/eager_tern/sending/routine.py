"""Routines: the shot list's language with pauses, repetitions and rhythms, and the steps that come of it.

A line a step: a key (``Power``), fields and their values (``temperature 21, mode dry``; a value may be a range, or
several), bits of the frame as a number (``bits 16-19 0..15``, the first of them highest), how often (``x 5``), how far
apart (``every 1.5 s``, and ``every 0.05 s fast`` for whoever means it), or ``pause 2 s``. A ``#`` begins a comment.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from decimal import Decimal
from itertools import product
from typing import Protocol

from msgspec import Struct

from eager_tern.casebook.shots import MOST_SHOTS
from eager_tern.compare.labels import listed
from eager_tern.errors import InputError
from eager_tern.protocol.fields import Value, value_of
from eager_tern.protocol.schema import Sheet
from eager_tern.sending.saying import Saying

SHORTEST_PAUSE_S = 0.1  # between presses, unless somebody says that he means it: what is hurried is not obeyed
USUAL_PAUSE_S = 0.5
LONGEST_PAUSE_S = 86_400.0
MANY = 200  # presses: before more are said, it is told how long they take

NUMBER = r"\d+(?:\.\d+)?"
PAUSE = re.compile(rf"pause\s+({NUMBER})\s*(ms|s|min)?", re.IGNORECASE)
EVERY = re.compile(rf"\s+every\s+({NUMBER})\s*(ms|s|min)?(\s+fast)?\s*$", re.IGNORECASE)
BITS = re.compile(r"bits\s+(\d{1,4})\s*-\s*(\d{1,4})\s+(.+)", re.IGNORECASE)
TIMES = re.compile(r"\s+x\s*(\d+)\s*$", re.IGNORECASE)
RANGE = re.compile(rf"(-?{NUMBER})\s*\.\.\s*(-?{NUMBER})(?:\s*/\s*({NUMBER})|\s+by\s+({NUMBER}))?")
IN_SECONDS = {"ms": 1e-3, "s": 1.0, "min": 60.0}


class Voice(Protocol):
    """Whoever knows a gadget's keys and fields."""

    @property
    def key_names(self) -> Sequence[str]: ...

    @property
    def sheet(self) -> Sheet | None: ...

    def key(self, name: str) -> Saying: ...

    def fields(self, what: str, values: dict[str, Value]) -> Saying: ...

    def with_bits(self, what: str, first: int, last: int, number: int) -> Saying: ...


class Step(Struct, frozen=True):
    """One press of a routine, or a pause. ``line`` is where it stands, from 1.

    ``key`` or ``values`` say what is pressed; neither, that it is a pause. ``pause_s`` is the silence before the next
    press; None: what is usual.
    """

    line: int
    what: str
    key: str = ""
    values: tuple[tuple[str, Value], ...] = ()
    bits: tuple[int, int, int] | None = None  # the first, the last, and their number
    pause_s: float | None = None
    fast: bool = False

    @property
    def is_pause(self) -> bool:
        return not self.key and not self.values and self.bits is None

    def said_by(self, voice: Voice) -> Saying:
        """What it sends. Raises InputError."""
        if self.bits is not None:
            return voice.with_bits(self.what, *self.bits)
        return voice.key(self.key) if self.key else voice.fields(self.what, dict(self.values))


def steps_of(text: str, voice: Voice, source: object = "routine") -> list[Step]:
    """The steps of a routine. Raises InputError naming the line."""
    steps: list[Step] = []
    for number, line in enumerate(text.splitlines(), 1):
        try:
            steps += steps_of_line(line, number, voice)
        except InputError as error:
            raise InputError(source, f"{error.source}: {error.reason}", f"line {number}") from None
        if len(steps) > MOST_SHOTS:
            raise InputError(source, f"more than {MOST_SHOTS:,} presses", f"line {number}")
    return steps


def steps_of_line(line: str, number: int, voice: Voice) -> list[Step]:
    """The steps of one line, none for a comment. Raises InputError."""
    words = _without_comment(line, voice)
    if not words:
        return []
    if found := PAUSE.fullmatch(words):
        return [Step(number, words, pause_s=_seconds(found[1], found[2]))]
    every, fast = None, False
    if found := EVERY.search(words):
        every, fast, words = _seconds(found[1], found[2]), bool(found[3]), words[: found.start()]
    count = 1
    if _named(words, voice) is None and (found := TIMES.search(words)):
        count, words = int(found[1]), words[: found.start()]
        if not 1 <= count <= MOST_SHOTS:
            raise InputError(f"x {count}", f"a step is said 1 to {MOST_SHOTS:,} times")
    if (name := _named(words, voice)) is not None:
        return [Step(number, name, key=name, pause_s=every, fast=fast)] * count
    if found := BITS.fullmatch(words):
        first, last = int(found[1]), int(found[2])
        numbers = [value for value in _values(found[3]) if isinstance(value, int)]
        return [
            Step(number, f"bits {first}-{last} {n}", bits=(first, last, n), pause_s=every, fast=fast)
            for n in numbers
            for _ in range(count)
        ]
    return [
        Step(number, ", ".join(f"{n} {v}" for n, v in pairs), values=tuple(pairs), pause_s=every, fast=fast)
        for pairs in _combinations(words, voice)
        for _ in range(count)
    ]


def _without_comment(line: str, voice: Voice) -> str:
    """A key's own name may hold a #."""
    whole = line.strip()
    return whole if _named(whole, voice) is not None else line.split("#", 1)[0].strip()


def _named(words: str, voice: Voice) -> str | None:
    bare = words.strip().strip("\"'")
    return next((name for name in voice.key_names if name.casefold() == bare.casefold()), None)


def _seconds(number: str, unit: str | None) -> float:
    seconds = float(number) * IN_SECONDS[(unit or "s").lower()]
    if seconds > LONGEST_PAUSE_S:
        raise InputError(f"{number} {unit or 's'}", "is longer than a day")
    return seconds


def _combinations(words: str, voice: Voice) -> list[list[tuple[str, Value]]]:
    """Every combination of the values named, the last one changing fastest."""
    sheet = voice.sheet
    known = tuple(sheet.fields_by_name) if sheet is not None else ()
    varied: list[list[tuple[str, Value]]] = []
    for part in (p.strip() for p in words.split(",")):
        found = re.fullmatch(r"(\S+?)\s*(?:[=:\s])\s*(.+)", part)
        if found is None or found[1] not in known:
            keys = listed(voice.key_names) or "none"
            raise InputError(
                f'"{part or words}"',
                f"is neither a key ({keys}) nor a field and its value ({', '.join(known) or 'none'})",
            )
        varied.append([(found[1], value) for value in _values(found[2])])
    return [list(pairs) for pairs in product(*varied)]


def _values(text: str) -> list[Value]:
    if found := RANGE.fullmatch(text.strip()):
        first, last, step = Decimal(found[1]), Decimal(found[2]), Decimal(found[3] or found[4] or 1)
        if step == 0 or abs(last - first) / step > MOST_SHOTS:
            raise InputError(f'"{text}"', "has too many values")
        sign = 1 if last >= first else -1
        return [
            value_of(f"{(first + sign * step * i).normalize():f}") for i in range(int(abs(last - first) / step) + 1)
        ]
    return [value_of(word) for word in text.split()]


def pauses_between(steps: Sequence[Step], every_s: float) -> list[float]:
    """The silence behind each step, in seconds. A routine's ``pause`` stands instead of the usual one."""
    behind = []
    for at, step in enumerate(steps):
        follows = steps[at + 1] if at + 1 < len(steps) else None
        if step.is_pause:
            behind.append(step.pause_s or 0.0)
        elif follows is None or follows.is_pause:
            behind.append(0.0)
        else:
            behind.append(step.pause_s if step.pause_s is not None else every_s)
    return behind
