"""Everything that a subject can become, kind by kind, as texts; and into a folder, with a list of what was written."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from eager_tern.errors import InputError
from eager_tern.export.board import measured
from eager_tern.export.c_code import Example, c_library, c_test, made_examples
from eager_tern.export.keys import to_c_header, to_csv, to_json
from eager_tern.export.page import page
from eager_tern.export.parcel import parcel
from eager_tern.export.payloads import USUAL, payloads
from eager_tern.export.python_code import python_module
from eager_tern.export.sketch import sketch_text
from eager_tern.export.subject import Subject
from eager_tern.protocol.schema import Sheet
from eager_tern.replacing import not_written, replacing, write_text

SCHEMA = "eager-tern/export/1"
Files = dict[str, str | bytes]  # by the name of each, within the folder


class Kind(Struct, frozen=True):
    """A kind of files. ``needs`` says what a subject must have: ``keys``, a ``sheet``, ``either`` or ``takes``."""

    id: str
    title: str
    good_for: str
    needs: str
    files: Callable[[Subject, str], Files]


def _sheet(subject: Subject) -> Sheet:
    assert subject.sheet is not None  # ``cannot`` was asked before
    return subject.sheet


def _table(subject: Subject, template: str) -> Files:
    name = subject.name
    return {
        f"{name}_keys.csv": to_csv(subject.title, subject.keys),
        f"{name}_keys.json": to_json(subject.title, subject.keys),
    }


def _header(subject: Subject, template: str) -> Files:
    return {f"{subject.name}_keys.h": to_c_header(subject.title, subject.keys)}


def _payloads(subject: Subject, template: str) -> Files:
    return {f"{subject.name}_payloads.jsonl": payloads(subject.keys, template)}


def _c(subject: Subject, template: str) -> Files:
    sheet, name = _sheet(subject), subject.name
    captured = [Example(each.name, each.pulses, each.bits, False) for each in subject.captured]
    return {
        **_library(subject),
        f"{name}_test.c": c_test(sheet, name, subject.title, [*made_examples(sheet), *captured]),
    }


def _library(subject: Subject) -> Files:
    """The library's two files; what it takes on a board is measured where its compiler is at hand."""
    sheet, name = _sheet(subject), subject.name
    header, source = c_library(sheet, name, subject.title, subject.gadget)
    header, source = c_library(sheet, name, subject.title, subject.gadget, measured(name, header, source))
    return {f"{name}.h": header, f"{name}.c": source}


def _python(subject: Subject, template: str) -> Files:
    return {f"{subject.name}.py": python_module(_sheet(subject), subject.title, subject.gadget)}


def _sketch(subject: Subject, template: str) -> Files:
    folder = f"{subject.name}_sketch"
    texts = {f"{folder}/{folder}.ino": sketch_text(subject)}
    library = _library(subject) if subject.sheet is not None else {}
    return {**texts, **{f"{folder}/{file}": text for file, text in library.items()}}


def _page(subject: Subject, template: str) -> Files:
    return {f"{subject.name}.html": page(subject)}


def _parcel(subject: Subject, template: str) -> Files:
    return {f"{subject.name}.parcel.zip": parcel(subject)}


KINDS = {
    kind.id: kind
    for kind in (
        Kind("table", "Table", "every key with its code and timings, for a spreadsheet or a script", "keys", _table),
        Kind("payloads", "Payloads", "a line a key for a broker, or whatever else reads messages", "keys", _payloads),
        Kind("header", "C header", "raw timings as arrays, where nothing is to be computed", "keys", _header),
        Kind("c", "C library", "makes and reads frames in firmware: C99, no heap, no float", "sheet", _c),
        Kind("python", "Python module", "makes and reads frames in a script, without dependencies", "sheet", _python),
        Kind("sketch", "Sketch", "a hobby board that sends keys by name or from buttons", "either", _sketch),
        Kind("page", "Page", "to publish: frames, fields, checks and keys for other people to read", "either", _page),
        Kind("parcel", "Parcel", "the gadget in one file, which another casebook takes in", "takes", _parcel),
    )
}  # fmt: skip


def cannot(subject: Subject, kind: Kind) -> str:
    """Why a subject cannot become something; empty where it can."""
    if kind.needs == "keys" and not subject.keys:
        return "it has no key that was caught"
    if kind.needs == "sheet" and subject.sheet is None:
        return "it has no sheet, and its labelled presses do not say enough for one"
    if kind.needs == "takes" and not subject.recordings:
        return "a parcel is made of a casebook's gadget that has recordings"
    if kind.needs == "either" and subject.sheet is None and not subject.keys:
        return "it has neither a sheet nor a key that was caught"
    return ""


def files_of(subject: Subject, kind: Kind, template: str = USUAL) -> Files:
    """The files of one kind. Raises InputError where there can be none."""
    if reason := cannot(subject, kind):
        raise InputError(subject.title, f"cannot become {kind.id}: {reason}")
    return kind.files(subject, template)


def write_out(subject: Subject, kinds: Sequence[Kind], folder: Path, template: str = USUAL) -> list[str]:
    """Write the files of some kinds into a folder, which is made, and ``export.json`` beside them; their names.

    Nothing is written where one of the kinds cannot be. Raises InputError.
    """
    texts: Files = {}
    for kind in kinds:
        texts |= files_of(subject, kind, template)
    files = sorted(texts)
    document = {"schema": SCHEMA, "name": subject.name, "fields": _fields(subject), "files": files}
    texts["export.json"] = json.dumps(document, indent=2, ensure_ascii=False) + "\n"
    _write(folder, texts)
    return files


def _fields(subject: Subject) -> list[str]:
    if subject.sheet is not None:
        return list(subject.sheet.fields_by_name)
    return list(dict.fromkeys(name for key in subject.keys for name in key.fields))


def _write(folder: Path, files: Mapping[str, str | bytes]) -> None:
    for name, text in files.items():
        path = folder / name
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise InputError(path.parent, not_written(error)) from None
        if isinstance(text, str):
            write_text(path, text)
            continue
        with replacing(path) as beside:
            beside.write_bytes(text)
