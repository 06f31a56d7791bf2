"""The shot list: the presses planned, in order. Each new press takes the next shot's labels.

A plan is typed, a line each: a key's name (``Power``), a thing and the values it is to take (``mode cool dry heat``),
or a thing and a range (``temperature 16..30``, ``level 0..100 by 25``). Several of them with commas between give every
combination, the last one changing fastest.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from decimal import Decimal, InvalidOperation
from itertools import product

from msgspec import Struct
from msgspec.structs import replace

from eager_tern.casebook.values import Caught
from eager_tern.errors import InputError
from eager_tern.tables import table_rows, table_text

MOST_SHOTS = 5000
RANGE = re.compile(r"(-?\d+(?:\.\d+)?)\s*\.\.\s*(-?\d+(?:\.\d+)?)(?:\s+by\s+(\d+(?:\.\d+)?))?")
KEY_COLUMN = "key"
NEIGHBOURS = 3
DOUBTFUL = 0.6

Labels = tuple[tuple[str, str], ...]


class Shot(Struct, frozen=True):
    """One press planned. ``labels`` pairs what is varied with its value; a key has one pair with an empty name."""

    labels: Labels
    press_id: int | None = None
    skipped: bool = False

    @property
    def text(self) -> str:
        """As the press's label."""
        return ", ".join(f"{name} = {value}" if name else value for name, value in self.labels)

    @property
    def spoken(self) -> str:
        """To be read from afar; a name and its value stay on one line."""
        return " · ".join(f"{name}\u00a0{value}" if name else value for name, value in self.labels)

    @property
    def open(self) -> bool:
        return self.press_id is None and not self.skipped


Shots = tuple[Shot, ...]


def parse_plan(text: str) -> Shots:
    """The shots of a plan. Raises InputError with the line."""
    shots: list[Shot] = []
    for number, line in enumerate(text.splitlines(), 1):
        line = line.split("#", 1)[0].strip()
        if not line:
            continue
        varied = [_values(part.strip(), number) for part in line.split(",") if part.strip()]
        shots += [Shot(tuple(labels)) for labels in product(*varied)]
        if len(shots) > MOST_SHOTS:
            raise InputError("shot list", f"more than {MOST_SHOTS} presses are planned", f"line {number}")
    return tuple(shots)


def _values(part: str, line: int) -> list[tuple[str, str]]:
    """What one thing is to be, each value with the thing's name."""
    name, _, rest = part.partition(" ")
    rest = rest.strip()
    if found := RANGE.fullmatch(rest):
        return [(name, value) for value in _range(found, line)]
    if part[:1] in "\"'" or not rest or name[:1].isupper() or not name[:1].isalpha():
        return [("", part.strip("\"'"))]
    return [(name.rstrip(":="), value) for value in rest.split() if value != "="]


def _range(found: re.Match[str], line: int) -> list[str]:
    try:
        first, last, step = Decimal(found[1]), Decimal(found[2]), Decimal(found[3] or 1)
    except InvalidOperation:
        raise InputError("shot list", f'"{found[0]}" is no range', f"line {line}") from None
    if step == 0 or abs(last - first) / step > MOST_SHOTS:
        raise InputError("shot list", f'"{found[0]}" has too many values', f"line {line}")
    count = int(abs(last - first) / step) + 1
    sign = 1 if last >= first else -1
    values = [first + sign * step * i for i in range(count)]
    return [f"{value.normalize():f}" for value in values]


def next_shot(shots: Sequence[Shot]) -> int | None:
    """Which shot the next press takes: the first that is open behind the last one taken, else the first open one."""
    taken = max((i for i, shot in enumerate(shots) if not shot.open), default=-1)
    opens = [i for i, shot in enumerate(shots) if shot.open]
    return next((i for i in opens if i > taken), opens[0] if opens else None)


def taken(shots: Shots, press_id: int) -> Shots:
    """The list after a press has taken the next shot."""
    return _changed(shots, next_shot(shots), press_id=press_id)


def skipped(shots: Shots) -> Shots:
    """The list with the next shot passed over."""
    return _changed(shots, next_shot(shots), skipped=True)


def repeated(shots: Shots) -> Shots:
    """The list with the shot taken last planned once more, next."""
    last = max((i for i, shot in enumerate(shots) if shot.press_id is not None), default=None)
    if last is None:
        return shots
    return (*shots[: last + 1], Shot(shots[last].labels), *shots[last + 1 :])


def stepped_back(shots: Shots) -> tuple[Shots, int | None]:
    """The list with the last shot open again, and the press that had taken it."""
    last = max((i for i, shot in enumerate(shots) if not shot.open), default=None)
    if last is None:
        return shots, None
    return _changed(shots, last, press_id=None, skipped=False), shots[last].press_id


def _changed(shots: Shots, at: int | None, **what: object) -> Shots:
    return shots if at is None else (*shots[:at], replace(shots[at], **what), *shots[at + 1 :])


def odd_one(press: Caught, before: Sequence[Caught]) -> str:
    """Why a press is to be looked at twice, beside those taken before it; empty if it is like them."""
    now = press.reading
    if now.first_missed:
        return "only its repeats were heard"
    if not now.checks_hold:
        return "one of its checks fails"
    for earlier in [p.reading for p in before[-NEIGHBOURS:]]:
        if now.protocol != earlier.protocol:
            return f"it is {now.protocol or 'unreadable'} where the one before was {earlier.protocol or 'unreadable'}"
        if len(now.bits) != len(earlier.bits):
            return f"it has {len(now.bits)} bits where the one before had {len(earlier.bits)}"
    if now.confidence < DOUBTFUL:
        return "its reading is in doubt"
    return ""


def shots_csv(shots: Sequence[Shot]) -> str:
    """The list as a table: a column for each thing varied, one for plain keys."""
    names = list(dict.fromkeys(name or KEY_COLUMN for shot in shots for name, _ in shot.labels))
    said = [{name or KEY_COLUMN: value for name, value in shot.labels} for shot in shots]
    return table_text([names, *([row.get(name, "") for name in names] for row in said)])


def shots_from_csv(text: str, source: object = "shot list") -> Shots:
    """A list from such a table. Raises InputError."""
    rows = table_rows(text, source)
    if len(rows) < 2:
        raise InputError(source, "has no rows under its header")
    names = rows[0][1]
    shots = []
    for number, row in rows[1:]:
        if len(row) > len(names):
            raise InputError(source, f"{len(row)} columns under a header of {len(names)}", f"line {number}")
        pairs = [(n, v) for n, v in zip(names, row, strict=False) if v and n != "file"]
        shots.append(Shot(tuple(("" if name == KEY_COLUMN else name, value) for name, value in pairs)))
    return tuple(shot for shot in shots if shot.labels)
