"""A parcel: a gadget in one file for another casebook, a zip archive of open formats.

``parcel.json`` says what is in it: name, sheets, keys with their places on the plate, recordings with the labels of
their presses (µs from the start). Recordings are timing text, sheets TOML. docs/casebook.md has it in full.
"""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import msgspec
from msgspec import Meta, Struct

from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions, read_only
from eager_tern.formats.timing_text import parse
from eager_tern.refused import refused
from eager_tern.signal.values import Pulses

SCHEMA = "eager-tern/parcel/1"
LIST = "parcel.json"
MAGIC = b"PK\x03\x04"
MOST_BYTES = 200_000_000  # of one member: an hour of dense pulses has a tenth of that
Member = Annotated[str, Meta(max_length=200)]


class Labelled(Struct):
    """What a press is called that lasts from one time to the other, µs."""

    start_us: float
    end_us: float
    label: str


class Recorded(Struct):
    file: Member
    carrier_hz: float | None = None
    presses: list[Labelled] = []


class Placed(Struct):
    name: str
    row: Annotated[int, Meta(ge=0, le=999)]
    col: Annotated[int, Meta(ge=0, le=999)]


class Contents(Struct, rename={"schema_": "schema"}, kw_only=True):
    """What ``parcel.json`` says."""

    schema_: Annotated[str, Meta(pattern=r"^eager-tern/parcel/1$")] = SCHEMA
    name: str
    about: str = ""
    sheets: list[Member] = []
    keys: list[Placed] = []
    recordings: list[Recorded] = []


def is_parcel(path: Path) -> bool:
    """Whether a file is one, told by what it begins with."""
    try:
        with path.open("rb") as file:
            return claims(file.read(256), path.suffix)
    except OSError:
        return False


def contents(path: Path) -> Contents:
    """Raises InputError."""
    try:
        return msgspec.json.decode(_member(path, LIST), type=Contents)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise refused(path, error, f"{LIST} is not what a parcel has: ") from None


def sheet_texts(path: Path) -> list[str]:
    """The sheets in it, as TOML. Raises InputError."""
    return [_text(path, name) for name in contents(path).sheets]


def packed(what: Contents, files: dict[str, str]) -> dict[str, str]:
    """Everything that goes into the archive, by name: the list first."""
    listed = json.dumps(msgspec.to_builtins(what), indent=2, ensure_ascii=False)
    return {LIST: listed + "\n", **files}


def claims(head: bytes, suffix: str) -> bool:
    return head.startswith(MAGIC) and LIST.encode() in head


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """A capture for each recording, its labels as notes. Raises InputError."""
    found = []
    for each in contents(path).recordings:
        pulses = parse(_text(path, each.file), f"{path}: {each.file}")
        notes = tuple(Note(one.start_us, one.end_us, one.label) for one in each.presses)
        marks = Pulses(pulses.durations_us, pulses.start_us, each.carrier_hz)
        found.append(Capture(str(path), FORMAT.name, pulses=marks, notes=notes))
    return found


def _text(path: Path, name: str) -> str:
    try:
        return _member(path, name).decode("utf-8")
    except UnicodeDecodeError as error:
        raise InputError(path, f"{name} is no text in UTF-8", f"byte {error.start}") from None


def _member(path: Path, name: str) -> bytes:
    """A file of the archive. Raises InputError."""
    import zipfile  # where there is a parcel

    try:
        with zipfile.ZipFile(path) as archive:
            if archive.getinfo(name).file_size > MOST_BYTES:
                raise InputError(path, f"{name} is larger than {MOST_BYTES // 1_000_000} MB")
            return archive.read(name)
    except KeyError:
        raise InputError(path, f"has no {name}, though its list names it" if name != LIST else "is no parcel") from None
    except (zipfile.BadZipFile, OSError, EOFError, NotImplementedError, RuntimeError) as error:
        raise InputError(path, f"is a damaged archive ({error})") from None


FORMAT = Format("parcel", (), claims, read, read_only)
