"""The table of keys as files: CSV, JSON and a C header."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from eager_tern.casebook.keys import Key
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Gadget, bits_of_text
from eager_tern.errors import InputError
from eager_tern.protocol.codes import Codes, codes_of
from eager_tern.protocol.fields import Value, marked
from eager_tern.replacing import write_text
from eager_tern.signal.values import Pulses
from eager_tern.tables import table_text

SCHEMA = "eager-tern/keys/1"
LONGEST_16_BITS = 65_535
LONGEST_NAME = 60  # of an identifier: compilers tell 63 letters apart


@dataclass(frozen=True)
class ExportedKey:
    name: str
    protocol: str
    address: int | None
    command: int | None
    fields: dict[str, Value]
    bits: str
    codes: Codes | None
    carrier_hz: float | None
    pulses_us: list[float]


def exported_keys(casebook: Casebook, keys: Sequence[Key]) -> list[ExportedKey]:
    """The caught keys with the raw timings of the frame each was taken from."""
    takes: dict[int, Pulses] = {}
    found = []
    for key in keys:
        if (best := key.best) is None:
            continue
        if best.take_id not in takes:
            takes[best.take_id] = casebook.take_pulses(best.take_id)
        pulses, (first, last) = takes[best.take_id], best.reading.frames[0]
        fields = dict(best.reading.fields)
        timings = [round(float(d), 1) for d in pulses.durations_us[first : last + 1]]
        found.append(
            ExportedKey(
                key.name,
                best.reading.protocol,
                _number(fields.get("address")),
                _number(fields.get("command")),
                fields,
                best.reading.bits,
                codes_of(bits_of_text(best.reading.bits)),
                pulses.carrier_hz,
                timings,
            )
        )
    return found


def _number(value: Value) -> int | None:
    return value if isinstance(value, int) else None


def to_csv(gadget: Gadget, keys: Sequence[ExportedKey]) -> str:
    rows: list[list[str]] = [["name", "protocol", "address", "command", "bits", "code", "code_turned", "pulses_us"]]
    for key in keys:
        pulses = " ".join(f"{d:g}" for d in key.pulses_us)
        codes = [key.codes.as_sent, key.codes.turned] if key.codes else ["", ""]
        rows.append([key.name, key.protocol, _cell(key.address), _cell(key.command), key.bits, *codes, pulses])
    return table_text(rows)


def _cell(value: int | None) -> str:
    return "" if value is None else str(value)


def to_json(gadget: Gadget, keys: Sequence[ExportedKey]) -> str:
    document = {"schema": SCHEMA, "gadget": gadget.name, "keys": [asdict(key) for key in keys]}
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"


def to_c_header(gadget: Gadget, keys: Sequence[ExportedKey]) -> str:
    """Arrays of µs, mark first, one a key, and a table of them. ``read`` takes the file as timing text."""
    prefix = _identifier(gadget.name)
    guard = f"{prefix.upper()}_KEYS_H"
    taken = {f"{prefix}_key", f"{prefix}_keys"}  # what the header itself declares
    names = [_free(f"{prefix}_{_identifier(key.name)}", taken) for key in keys]
    longest = max((round(d) for key in keys for d in key.pulses_us), default=0)
    kind = "uint16_t" if longest <= LONGEST_16_BITS else "uint32_t"
    lines = [
        f"/* Keys of {_comment(gadget.name)}: microseconds, mark first. */",
        *(f"#ifndef {guard}", f"#define {guard}", "", "#include <stdint.h>", ""),
    ]
    for key, name in zip(keys, names, strict=True):
        values = ", ".join(str(round(d)) for d in key.pulses_us)
        lines += [
            f"/* {_comment(key.name)}: {_comment(key.protocol + _numbers(key))}",
            f"   bits as sent: {key.bits or 'none'}" + (f", {key.codes.as_sent} */" if key.codes else " */"),
            f"static const {kind} {name}[] = {{{values}}};",
            "",
        ]
    lines += [
        "typedef struct {", "    const char *name, *protocol;", "    int32_t address, command; /* -1: has none */",
        "    const char *bits;", f"    const {kind} *pulses;", "    uint16_t count;",
        f"}} {prefix}_key;", "", f"static const {prefix}_key {prefix}_keys[] = {{",
    ]  # fmt: skip
    for key, name in zip(keys, names, strict=True):
        address, command = (-1 if v is None else v for v in (key.address, key.command))
        lines.append(
            f"    {{{_c_string(key.name)}, {_c_string(key.protocol)}, {address}, {command}, {_c_string(key.bits)},"
            f" {name}, sizeof {name} / sizeof *{name}}},"
        )
    return "\n".join([*lines, "};", "", "#endif", ""])


def _numbers(key: ExportedKey) -> str:
    return "".join(f", {name} {marked(value)}" for name, value in key.fields.items())


def _comment(text: str) -> str:
    """Words within a comment: in a line, and nothing in them ends it, begins another or goes on in the next line."""
    flat = " ".join("".join(c if c.isprintable() else " " for c in text).split())
    return flat.replace("*/", "* /").replace("/*", "/ *").replace("\\", "/").replace("??/", "? ?/")


def _c_string(text: str) -> str:
    """A string literal that every compiler takes: UTF-8, what is no plain letter as octal escapes."""
    out = []
    for byte in text.encode("utf-8", "replace"):
        plain = 32 <= byte < 127 and chr(byte) not in '"\\?'
        out.append(chr(byte) if plain else f"\\{byte:03o}")
    return f'"{"".join(out)}"'


def _identifier(name: str) -> str:
    plain = (
        name.lower()
        .replace("+", " plus ")
        .replace("−", " minus ")
        .replace("-", " minus " if name.endswith("-") else " ")
    )
    word = re.sub(r"[^a-z0-9]+", "_", plain).strip("_")[:LONGEST_NAME] or "unnamed"
    return f"n{word}" if word[0].isdigit() else word


def _free(name: str, taken: set[str]) -> str:
    """The name, or the first one made from it that nobody has; it is taken then."""
    number, free = 1, name
    while free in taken:
        number += 1
        free = f"{name}_{number}"
    taken.add(free)
    return free


WRITERS: dict[str, Callable[[Gadget, Sequence[ExportedKey]], str]] = {
    ".csv": to_csv,
    ".json": to_json,
    ".h": to_c_header,
}


def write_keys(path: Path, gadget: Gadget, keys: Sequence[ExportedKey]) -> None:
    """Write the keys in the format that the suffix names. Raises InputError."""
    writer = WRITERS.get(path.suffix.lower())
    if writer is None:
        raise InputError(path, f'cannot write the suffix "{path.suffix}"; known are {", ".join(WRITERS)}')
    write_text(path, writer(gadget, keys))
