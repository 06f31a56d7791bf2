"""Protocol sheets from TOML, with errors that name the line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from eager_tern.errors import InputError
from eager_tern.protocol.schema import Sheet

BASE_KEY = "based_on"


def parse_sheet(text: str, source: object, base: Callable[[str], Sheet | None] | None = None) -> Sheet:
    """A sheet from its TOML text.

    ``base`` finds the sheet that ``based_on`` names (the library's, if not given); its keys stand wherever this
    text does not say otherwise. Raises InputError with the line and the reason.
    """
    try:
        own = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
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
            **parent.model_dump(exclude_defaults=True, exclude={"id", "name"}),
            "family": parent.family,
            **raw,
        }
    raw.setdefault("family", own.get("id", ""))
    try:
        return Sheet.model_validate(raw)
    except ValidationError as error:
        first = error.errors()[0]
        path = tuple(first["loc"])
        reason = re.sub(r"^Value error, ", "", first["msg"])
        label = ".".join(str(part) for part in path if isinstance(part, str))
        raise InputError(source, f"{label}: {reason}" if label else reason, _line(text, path)) from None


def load_sheet(path: Path) -> Sheet:
    """A sheet from a file. Raises InputError."""
    try:
        return parse_sheet(path.read_text("utf-8"), path)
    except OSError as error:
        raise InputError(path, error.strerror or "cannot be read") from None
    except UnicodeDecodeError as error:
        raise InputError(path, "is not text", f"byte {error.start}") from None


def sheet_text(sheet_id: str) -> str | None:
    """The TOML text of a sheet of the library."""
    resource = files("eager_tern.protocol.sheets") / f"{sheet_id}.toml"
    return resource.read_text("utf-8") if resource.is_file() else None


@cache
def library_sheet(sheet_id: str) -> Sheet | None:
    """A sheet of the library by its id, None if there is none."""
    text = sheet_text(sheet_id) if re.fullmatch(r"[a-z0-9-]+", sheet_id) else None
    return parse_sheet(text, f"{sheet_id}.toml") if text is not None else None


@cache
def library() -> tuple[Sheet, ...]:
    """All sheets that ship with the application, in the order of their ids."""
    names = sorted(p.name for p in files("eager_tern.protocol.sheets").iterdir() if p.name.endswith(".toml"))
    found = (library_sheet(name.removesuffix(".toml")) for name in names)
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
    return f"line {at}" if at else ""
