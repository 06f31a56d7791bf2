"""Protocol sheets from TOML, with errors that name the line."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import cache
from itertools import chain
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import ValidationError

from eager_tern.errors import InputError
from eager_tern.linecode.values import Bits
from eager_tern.protocol.fields import from_keys
from eager_tern.protocol.matching import match_sheets
from eager_tern.protocol.schema import FrameKind, Sheet
from eager_tern.protocol.template import frame_pulses
from eager_tern.refused import path_and_reason
from eager_tern.text_file import read_text

BASE_KEY = "based_on"
SUFFIX = ".toml"
SHEETS = Path(__file__).with_name("sheets")  # those that ship
LONGEST = 200_000  # characters: the longest sheet here has some four thousand
NESTED = re.compile(r"(?<=\w)\s*\.\s*(?=[A-Za-z_\"'])")  # the points of dotted keys, not those of numbers
DEEPEST = 40


def parse_sheet(text: str, source: object, base: Callable[[str], Sheet | None] | None = None) -> Sheet:
    """A sheet from its TOML text.

    ``base`` finds the sheet that ``based_on`` names (the library's, if not given); its keys stand wherever this
    text does not say otherwise. Raises InputError with the line and the reason.
    """
    if len(text) > LONGEST:
        raise InputError(source, f"is too long for a sheet: {len(text):,} characters, {LONGEST:,} at most")
    for number, line in enumerate(text.splitlines(), 1):
        if len(NESTED.findall(line)) > DEEPEST:
            raise InputError(source, "has tables within tables without end", f"line {number}")
    sheet = _parsed(text, source, base)
    if sheet.serial is None and sheet.mark_excess_us is None and not reads_what_it_makes(sheet):
        raise InputError(
            source, "it cannot read what it makes: are two symbols alike, or pulses shorter than a receiver's error?"
        )
    return sheet


def _parsed(text: str, source: object, base: Callable[[str], Sheet | None] | None = None) -> Sheet:
    """The sheet of a text, whether or not it can read what it makes."""
    import tomli  # the standard library's, compiled; a window is on the screen before it reads its first sheet

    try:
        own = tomli.loads(text)
    except RecursionError:
        raise InputError(source, "has lists or tables within each other without end") from None
    except ValueError as error:  # a number of thousands of digits is one, too
        reason, place = str(error), ""
        if found := re.search(r"\(at (line \d+), column (\d+)\)", reason):
            place, reason = f"{found[1]}, column {found[2]}", reason[: found.start()].strip()
        raise InputError(source, reason, place) from None
    raw = dict(own)
    if BASE_KEY in own:
        name = raw.pop(BASE_KEY)
        parent = (base or library_sheet)(name) if isinstance(name, str) else None
        if parent is None:
            raise InputError(source, f'there is no sheet "{name}" to base this one on', _line(text, (BASE_KEY,)))
        raw = {
            **{key: value for key, value in parent.said().items() if key not in ("id", "name")},
            **raw,
        }
    return sheet_of_keys(raw, source, text)


def reads_what_it_makes(sheet: Sheet) -> bool:
    """Whether frames of the sheet, made without any error, are read as they were made."""
    for kind in sheet.leads:
        bits = _every_symbol(sheet, kind)
        pulses = frame_pulses(sheet, kind, bits)
        matches = match_sheets(pulses.durations_us[None], (sheet,))[0]
        if not any(match.kind.name == kind.name and np.array_equal(match.meant, bits) for match in matches):
            return False
    return True


def _every_symbol(sheet: Sheet, kind: FrameKind) -> Bits:
    """Bits in which every symbol stands, each of them three times in a row where there are two."""
    if sheet.serial is not None or len(sheet.alphabet) == 2:
        return (np.arange(kind.bit_count) // 3 % 2).astype(np.uint8)
    numbers = np.arange(kind.bit_count // sheet.bits_a_symbol) % len(sheet.alphabet)
    return (numbers[:, None] >> np.arange(sheet.bits_a_symbol)[::-1] & 1).astype(np.uint8).ravel()


def sheet_of_keys(raw: dict[str, Any], source: object, text: str = "") -> Sheet:
    """A sheet from what its keys say; ``text`` is where they were read from. Raises InputError."""
    try:
        return from_keys(Sheet, {"family": raw.get("id", ""), **raw})
    except ValidationError as error:
        path, reason = path_and_reason(error)
        label = ".".join(str(part) for part in path if isinstance(part, str))
        place = _line(text, path) if path else _named_in(text, reason)
        raise InputError(source, f"{label}: {reason}" if label else reason, place) from None


def load_sheet(path: Path) -> Sheet:
    """A sheet from a file. Raises InputError."""
    return parse_sheet(read_text(path), path)


def sheets_in(folder: Path) -> tuple[list[Sheet], list[InputError]]:
    """The sheets in a folder's .toml files, and what is wrong with those that cannot be used."""
    sheets: dict[str, Sheet] = {}
    wrong: list[InputError] = []
    for path in sorted(folder.glob(f"*{SUFFIX}")):
        try:
            sheet = load_sheet(path)
        except InputError as error:
            wrong.append(error)
        else:
            sheets[sheet.id] = sheet
    return list(sheets.values()), wrong


def with_own(*own: Sequence[Sheet]) -> tuple[Sheet, ...]:
    """Sheets of one's own before the library's; of two with one id the first counts."""
    found: dict[str, Sheet] = {}
    for sheet in chain(*own, library()):
        found.setdefault(sheet.id, sheet)
    return tuple(found.values())


def sheet_text(sheet_id: str) -> str | None:
    """The TOML text of a sheet of the library."""
    path = SHEETS / f"{sheet_id}{SUFFIX}"
    return path.read_text("utf-8") if path.is_file() else None


@cache
def library_sheet(sheet_id: str) -> Sheet | None:
    """A sheet of the library by its id, None if there is none."""
    text = sheet_text(sheet_id) if re.fullmatch(r"[a-z0-9-]+", sheet_id) else None
    # That these read what they make is for a test to find out, not for every start.
    return _parsed(text, f"{sheet_id}.toml") if text is not None else None


def sheet_named(what: str) -> Sheet | None:
    """The library's sheet of that id, or that of a .toml file; None where it names neither. Raises InputError."""
    sheet = library_sheet(what)
    return load_sheet(Path(what)) if sheet is None and Path(what).suffix == SUFFIX else sheet


@cache
def library() -> tuple[Sheet, ...]:
    """All sheets that ship with the application, in the order of their ids."""
    found = (library_sheet(path.stem) for path in sorted(SHEETS.glob(f"*{SUFFIX}")))
    return tuple(sheet for sheet in found if sheet is not None)


def _line(text: str, path: tuple[Any, ...]) -> str:
    """The line on which the thing at ``path`` stands, or the nearest thing above it that has a line of its own."""
    lines = text.splitlines()
    at, table = 0, ""
    for part in path:
        if isinstance(part, int):
            headers = [i for i, line in enumerate(lines) if line.replace(" ", "").startswith(f"[[{table}]]")]
            if part < len(headers):
                at = headers[part] + 1
            continue
        table = f"{table}.{part}" if table else part
        for i in range(max(at - 1, 0), len(lines)):
            line = lines[i].strip()
            if i >= at and line.startswith("[[") and at and not line.startswith(f"[[{table}"):
                break
            if re.match(rf'"?{re.escape(part)}"?\s*=', line) or line.startswith((f"[{table}]", f"[[{table}]]")):
                at = i + 1
                break
    return _place(lines, at)


def _named_in(text: str, reason: str) -> str:
    """The line of the first thing that a reason about the whole sheet names in quotes: a field, a frame or a key."""
    lines = text.splitlines()
    for word in re.findall(r'"([^"]+)"', reason):
        for form in (rf'\s*name\s*=\s*"{re.escape(word)}"', rf"\s*{re.escape(word)}\s*="):
            for at, line in enumerate(lines, 1):
                if re.match(form, line):
                    return _place(lines, at)
    return ""


def _place(lines: Sequence[str], at: int) -> str:
    """A line counted from 1, with the column at which its value begins."""
    if not at:
        return ""
    value = re.match(r"[^=]*=\s*", lines[at - 1])
    return f"line {at}, column {value.end() + 1}" if value else f"line {at}"
