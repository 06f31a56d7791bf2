"""The table of keys as CSV, JSON and a C header."""

from __future__ import annotations

import json
import shlex
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct, to_builtins

from eager_tern.casebook.keys import Key
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PressReading
from eager_tern.errors import InputError
from eager_tern.export.names import c_string, free, identifier, in_comment
from eager_tern.export.templating import provenance
from eager_tern.linecode.values import bits_of_text
from eager_tern.protocol.codes import Codes, codes_of
from eager_tern.protocol.fields import Value, in_words, marked
from eager_tern.replacing import write_text
from eager_tern.signal.values import Pulses
from eager_tern.tables import table_text

SCHEMA = "eager-tern/keys/1"
LONGEST_16_BITS = 65_535


class ExportedKey(Struct, frozen=True):
    name: str
    protocol: str
    address: int | None
    command: int | None
    fields: dict[str, Value]
    bits: str
    codes: Codes | None
    carrier_hz: float | None
    pulses_us: list[float]
    frames: int = 1
    rest_us: float | None = None


def exported_keys(casebook: Casebook, keys: Sequence[Key]) -> list[ExportedKey]:
    """The caught keys with the raw timings of the frame each was taken from; ``frames`` says how many a press had, and
    ``rest_us`` what was between the first two.
    """
    takes: dict[int, Pulses] = {}
    found = []
    for key in keys:
        if (best := key.best) is None:
            continue
        if best.take_id not in takes:
            takes[best.take_id] = casebook.take_pulses(best.take_id)
        pulses, frames = takes[best.take_id], best.reading.frames
        found.append(exported_key(key.name, best.reading, pulses.part(*frames[0]), _rest_us(pulses, frames)))
    return found


def exported_key(name: str, reading: PressReading, frame: Pulses, rest_us: float | None = None) -> ExportedKey:
    """One key, from what was read of a press and the pulses of its first frame."""
    fields = dict(reading.fields)
    return ExportedKey(
        name,
        reading.protocol,
        _number(fields.get("address")),
        _number(fields.get("command")),
        fields,
        reading.bits,
        codes_of(bits_of_text(reading.bits)),
        frame.carrier_hz,
        [round(each, 1) for each in frame.durations_us.tolist()],
        len(reading.frames),
        rest_us,
    )


def _rest_us(pulses: Pulses, frames: Sequence[tuple[int, int]]) -> float | None:
    """The silence between the first two frames of a press; None where there is one only."""
    return float(pulses.durations_us[frames[0][1] + 1 : frames[1][0]].sum()) if len(frames) > 1 else None


def _number(value: Value) -> int | None:
    return value if isinstance(value, int) else None


COLUMNS = ("name", "protocol", "address", "command", "fields", "bits", "code", "pulses_us", "code_turned")


def to_csv(title: str, keys: Sequence[ExportedKey]) -> str:
    rows: list[Sequence[str]] = [COLUMNS]
    for key in keys:
        pulses = " ".join(f"{d:g}" for d in key.pulses_us)
        fields = " ".join(f"{name}={shlex.quote(in_words(value, 0))}" for name, value in key.fields.items())
        code, turned = (key.codes.as_sent, key.codes.turned) if key.codes else ("", "")
        numbers = _cell(key.address), _cell(key.command)
        rows.append([key.name, key.protocol, *numbers, fields, key.bits, code, pulses, turned])
    return table_text(rows)


def _cell(value: int | None) -> str:
    return "" if value is None else str(value)


def to_json(title: str, keys: Sequence[ExportedKey]) -> str:
    document = {"schema": SCHEMA, "gadget": title, "made": provenance(), "keys": to_builtins(keys)}
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"


def to_c_header(title: str, keys: Sequence[ExportedKey]) -> str:
    """Arrays of µs, mark first, one a key, and a table of them. ``read`` takes the file as timing text."""
    prefix = identifier(title)
    guard = f"{prefix.upper()}_KEYS_H"
    taken = {f"{prefix}_key", f"{prefix}_keys"}  # what the header itself declares
    names = [free(f"{prefix}_{identifier(key.name)}", taken) for key in keys]
    numbers = [abs(v) for key in keys for v in (key.address, key.command) if v is not None]
    wide = "int64_t" if max(numbers, default=0) >= 1 << 31 else "int32_t"
    longest = max((round(d) for key in keys for d in key.pulses_us), default=0)
    kind = "uint16_t" if longest <= LONGEST_16_BITS else "uint32_t"
    lines = [
        f"/* Keys of {in_comment(title)}: microseconds, mark first.",
        f" * {provenance()} */",
        *(f"#ifndef {guard}", f"#define {guard}", "", "#include <stdint.h>", ""),
    ]
    for key, name in zip(keys, names, strict=True):
        values = ", ".join(str(round(d)) for d in key.pulses_us)
        lines += [
            f"/* {in_comment(key.name)}: {in_comment(key.protocol + _numbers(key))}",
            f"   bits as sent: {key.bits or 'none'}" + (f", {key.codes.as_sent} */" if key.codes else " */"),
            f"static const {kind} {name}[] = {{{values}}};",
            "",
        ]
    lines += [
        "typedef struct {", "    const char *name, *protocol;", f"    {wide} address, command; /* -1: has none */",
        "    const char *bits;", f"    const {kind} *pulses;", "    uint16_t count;",
        f"}} {prefix}_key;", "", f"static const {prefix}_key {prefix}_keys[] = {{",
    ]  # fmt: skip
    for key, name in zip(keys, names, strict=True):
        address, command = (-1 if v is None else v for v in (key.address, key.command))
        lines.append(
            f"    {{{c_string(key.name)}, {c_string(key.protocol)}, {address}, {command}, {c_string(key.bits)},"
            f" {name}, sizeof {name} / sizeof *{name}}},"
        )
    return "\n".join([*lines, "};", "", "#endif", ""])


def _numbers(key: ExportedKey) -> str:
    return "".join(f", {name} {marked(value)}" for name, value in key.fields.items())


WRITERS: dict[str, Callable[[str, Sequence[ExportedKey]], str]] = {
    ".csv": to_csv,
    ".json": to_json,
    ".h": to_c_header,
}


def write_keys(path: Path, title: str, keys: Sequence[ExportedKey]) -> None:
    """Write the keys in the format that the suffix names. Raises InputError."""
    writer = WRITERS.get(path.suffix.lower())
    if writer is None:
        raise InputError(path, f'cannot write the suffix "{path.suffix}"; known are {", ".join(WRITERS)}')
    write_text(path, writer(title, keys))
