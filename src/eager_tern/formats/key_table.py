"""A table of keys as it was exported: a key a row, its durations in the column ``pulses_us``."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions, read_only
from eager_tern.formats.timing_text import SILENCE_US
from eager_tern.signal.values import Floats, pulses_from_signed
from eager_tern.tables import table_rows
from eager_tern.text_file import read_text

PULSES, NAME = "pulses_us", "name"


def claims(head: bytes, suffix: str) -> bool:
    first = head.partition(b"\n")[0].decode("utf-8", "replace").lower()
    return suffix in (".csv", ".tsv") and PULSES in first and NAME in first


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """The keys one after the other, a second apart, each noted by its name. Raises InputError with the line."""
    (_, header), *rows = table_rows(read_text(path), path)
    names = [cell.lower() for cell in header]
    at = names.index(PULSES)
    signed: list[Floats] = []
    notes: list[Note] = []
    now = 0.0
    for line, row in rows:
        values = _durations(row[at] if at < len(row) else "", path, line)
        length = float(np.abs(values).sum())
        notes.append(Note(now, now + length, row[names.index(NAME)]))
        signed += [values, np.array([-SILENCE_US])]
        now += length + SILENCE_US
    if not signed:
        raise InputError(path, "holds no keys")
    pulses = pulses_from_signed(np.concatenate(signed[:-1]))
    return [Capture(str(path), FORMAT.name, pulses=pulses, notes=tuple(notes))]


def _durations(cell: str, path: Path, line: int) -> Floats:
    try:
        values = np.array([float(word) for word in cell.split()])
    except ValueError:
        raise InputError(path, f"{PULSES} holds no durations", f"line {line}") from None
    if values.size == 0 or not np.isfinite(values).all() or (values <= 0).any():
        raise InputError(path, f"{PULSES} holds no durations", f"line {line}")
    values[1::2] *= -1
    return values


FORMAT = Format("table of keys", (), claims, read, read_only)
