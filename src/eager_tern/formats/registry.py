"""All formats in one place: which reads a file is asked of each, by content first and suffix second."""

from __future__ import annotations

import stat
from collections.abc import Sequence
from pathlib import Path

from eager_tern.errors import InputError
from eager_tern.formats import audio, casebook_file, edge_log, iq, key_table, level_csv, parcel, timing_text, vcd
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.replacing import replacing
from eager_tern.signal.values import Pulses

HEAD = 4096
# In the order in which they are asked; any text is timing text in the end.
FORMATS: tuple[Format, ...] = tuple(
    module.FORMAT for module in (audio, casebook_file, parcel, key_table, vcd, iq, edge_log, level_csv, timing_text)
)


def read_captures(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """The captures of a file, one a channel that carries a signal, or the channel asked for. Raises InputError."""
    form = format_of(path, options)
    try:
        captures = form.read(path, options)
    except OSError as error:
        raise InputError(path, error.strerror or "cannot be read") from None
    except MemoryError:
        raise InputError(path, "is too large for this machine's memory") from None
    if options.channel is None:
        return captures
    chosen = [capture for capture in captures if capture.channel == options.channel]
    if not chosen:
        numbers = ", ".join(str(c.channel) for c in captures if c.channel is not None)
        raise InputError(path, f"has no signal on channel {options.channel}" + (f" (on {numbers})" if numbers else ""))
    return chosen


def format_of(path: Path, options: ReadOptions = AS_FOUND) -> Format:
    """The format a file is in. Raises InputError where it is none, or cannot be read at all."""
    head = _head(path)
    if options.samples is not None:
        return next(form for form in FORMATS if "samples" in form.obeys)
    claiming = (form for form in FORMATS if form.claims(head, path.suffix.lower()))
    form = next(claiming, None)
    if form is None:
        nul = head.find(b"\0")
        raise InputError(path, "is neither text nor a binary format known here", f"byte {max(nul, 0)}")
    return form


def _head(path: Path) -> bytes:
    try:
        mode = path.stat().st_mode
        if stat.S_ISDIR(mode):
            raise InputError(path, "is a directory")
        if not stat.S_ISREG(mode):
            raise InputError(path, "is a pipe or a device, which has no end; record from it instead")
        with path.open("rb") as file:
            head = file.read(HEAD)
    except FileNotFoundError:
        raise InputError(path, "does not exist") from None
    except (OSError, ValueError) as error:
        raise InputError(path, getattr(error, "strerror", None) or "cannot be read") from None
    if not head.strip():
        raise InputError(path, "is empty")
    return head


def writer_of(path: Path) -> Format:
    """The format that a path's suffix names, if it can be written there. Raises InputError."""
    form = next((form for form in FORMATS if path.suffix.lower() in form.suffixes), None)
    if form is None:
        known = ", ".join(suffix for form in FORMATS for suffix in form.suffixes)
        raise InputError(path, f'cannot write the suffix "{path.suffix}"; known are {known}')
    if not path.absolute().parent.is_dir():
        raise InputError(path, "its folder does not exist")
    if not form.overwrites and path.exists():
        raise InputError(path, f"exists already, and a {form.name} is not written over")
    return form


def write_pulses(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """Write pulses in the format that the suffix names, with notes where it takes them: whole, or not at all.

    Raises InputError.
    """
    form = writer_of(path)
    if pulses.durations_us.size == 0:
        raise InputError(path, "is not written: there are no pulses to write")
    with replacing(path) as beside:
        form.write(beside, pulses, notes)
