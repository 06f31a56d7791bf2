"""The table of keys as files: CSV, JSON and a C header."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

from eager_tern.casebook.keys import Key
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Gadget
from eager_tern.errors import InputError
from eager_tern.protocol.fields import Value, marked
from eager_tern.replacing import write_text
from eager_tern.signal.values import Pulses

SCHEMA = "eager-tern/keys/1"


@dataclass(frozen=True)
class ExportedKey:
    name: str
    protocol: str
    address: int | None
    command: int | None
    fields: dict[str, Value]
    bits: str
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
                pulses.carrier_hz,
                timings,
            )
        )
    return found


def _number(value: Value) -> int | None:
    return value if isinstance(value, int) else None


def to_csv(gadget: Gadget, keys: Sequence[ExportedKey]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["name", "protocol", "address", "command", "bits", "pulses_us"])
    for key in keys:
        pulses = " ".join(f"{d:g}" for d in key.pulses_us)
        writer.writerow([key.name, key.protocol, _cell(key.address), _cell(key.command), key.bits, pulses])
    return out.getvalue()


def _cell(value: int | None) -> str:
    return "" if value is None else str(value)


def to_json(gadget: Gadget, keys: Sequence[ExportedKey]) -> str:
    document = {"schema": SCHEMA, "gadget": gadget.name, "keys": [asdict(key) for key in keys]}
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"


def to_c_header(gadget: Gadget, keys: Sequence[ExportedKey]) -> str:
    """Arrays of µs, mark first, one a key, and a table of them. ``read`` takes the file as timing text."""
    prefix = _identifier(gadget.name)
    guard = f"{prefix.upper()}_KEYS_H"
    names = _distinct([f"{prefix}_{_identifier(key.name)}" for key in keys])
    lines = [
        f"/* Keys of {_comment(gadget.name)}: microseconds, mark first. */",
        *(f"#ifndef {guard}", f"#define {guard}", "", "#include <stdint.h>", ""),
    ]
    for key, name in zip(keys, names, strict=True):
        values = ", ".join(str(round(d)) for d in key.pulses_us)
        lines += [
            f"/* {_comment(key.name)}: {key.protocol}{_numbers(key)}",
            f"   bits as sent: {key.bits or 'none'} */",
            f"static const uint16_t {name}[] = {{{values}}};",
            "",
        ]
    lines += [
        "typedef struct {", "    const char *name, *protocol;", "    int32_t address, command; /* -1: has none */",
        "    const char *bits;", "    const uint16_t *pulses;", "    uint16_t count;",
        f"}} {prefix}_key;", "", f"static const {prefix}_key {prefix}_keys[] = {{",
    ]  # fmt: skip
    for key, name in zip(keys, names, strict=True):
        address, command = (-1 if v is None else v for v in (key.address, key.command))
        lines.append(
            f'    {{{json.dumps(key.name)}, "{key.protocol}", {address}, {command}, "{key.bits}",'
            f" {name}, sizeof {name} / sizeof *{name}}},"
        )
    return "\n".join([*lines, "};", "", "#endif", ""])


def _numbers(key: ExportedKey) -> str:
    return "".join(f", {name} {marked(value)}" for name, value in key.fields.items())


def _comment(text: str) -> str:
    return text.replace("*/", "* /")


def _identifier(name: str) -> str:
    plain = (
        name.lower()
        .replace("+", " plus ")
        .replace("−", " minus ")
        .replace("-", " minus " if name.endswith("-") else " ")
    )
    word = re.sub(r"[^a-z0-9]+", "_", plain).strip("_") or "key"
    return f"n{word}" if word[0].isdigit() else word


def _distinct(names: list[str]) -> list[str]:
    seen: dict[str, int] = {}
    out = []
    for name in names:
        seen[name] = seen.get(name, 0) + 1
        out.append(name if seen[name] == 1 else f"{name}_{seen[name]}")
    return out


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
