"""All formats in one place: which reads a file is asked of each, by content first and suffix second."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Protocol

from eager_tern.errors import InputError
from eager_tern.formats import audio, casebook_file, iq, level_csv, timing_text, vcd
from eager_tern.formats.capture import Capture, Note
from eager_tern.signal.threshold import ThresholdSettings
from eager_tern.signal.values import Pulses

HEAD = 4096


class Format(Protocol):
    """What a format's module has."""

    @property
    def SUFFIXES(self) -> tuple[str, ...]: ...
    @property
    def recognises(self) -> Callable[[bytes], bool]: ...
    @property
    def read(self) -> Callable[[Path], list[Capture]]: ...
    @property
    def write(self) -> Callable[[Path, Pulses], None]: ...


# In the order in which they are asked; any text is timing text in the end.
FORMATS: tuple[Format, ...] = (audio, casebook_file, vcd, iq, level_csv, timing_text)


def read_captures(
    path: Path, channel: int | None = None, samples: iq.Description | None = None, level: float | None = None
) -> list[Capture]:
    """The captures of a file, one a channel that carries a signal, or the channel asked for. Raises InputError.

    ``samples`` describes bare samples, which say nothing about themselves; ``level`` is a threshold set by hand.
    """
    head = _head(path)
    if samples is not None:
        return _chosen(path, iq.read_raw(path, samples), channel)
    if path.suffix.lower() in iq.RAW_SUFFIXES:
        raise InputError(path, "holds bare samples; --samples and --rate tell what they are, as in cu8 and 250000")
    claimed: list[Format] = [form for form in FORMATS if form.recognises(head)]
    if path.suffix.lower() == iq.DATA:
        claimed = [iq]  # samples look like anything; what they are stands in the other half
    if not claimed:
        nul = head.find(b"\0")
        raise InputError(path, "is neither text nor a binary format known here", f"byte {max(nul, 0)}")
    form = claimed[0]
    if form is timing_text and path.suffix.lower() in level_csv.SUFFIXES and not timing_text.begins(head):
        form = level_csv  # it says best what is missing
    try:
        if level is not None and form in (audio, level_csv):
            captures = (audio if form is audio else level_csv).read(path, ThresholdSettings(level))
        else:
            captures = form.read(path)
    except OSError as error:
        raise InputError(path, error.strerror or "cannot be read") from None
    except MemoryError:
        raise InputError(path, "is too large for this machine's memory") from None
    return _chosen(path, captures, channel)


def _chosen(path: Path, captures: list[Capture], channel: int | None) -> list[Capture]:
    if channel is None:
        return captures
    chosen = [capture for capture in captures if capture.channel == channel]
    if not chosen:
        numbers = ", ".join(str(c.channel) for c in captures if c.channel is not None)
        raise InputError(path, f"has no signal on channel {channel}" + (f" (on {numbers})" if numbers else ""))
    return chosen


def _head(path: Path) -> bytes:
    try:
        if path.is_dir():
            raise InputError(path, "is a directory")
        if not path.exists():
            raise InputError(path, "does not exist")
        if not path.is_file():
            raise InputError(path, "is a pipe or a device, which has no end; record from it instead")
        with path.open("rb") as file:
            head = file.read(HEAD)
    except OSError as error:
        raise InputError(path, error.strerror or "cannot be read") from None
    if not head.strip():
        raise InputError(path, "is empty")
    return head


def writer_of(path: Path) -> Format:
    """The format that a path's suffix names, if its folder exists. Raises InputError."""
    for form in FORMATS:
        if path.suffix.lower() in form.SUFFIXES:
            if not path.absolute().parent.is_dir():
                raise InputError(path, "its folder does not exist")
            if form is casebook_file and path.exists():
                raise InputError(path, "exists already, and a casebook is not written over")
            return form
    known = ", ".join(suffix for form in FORMATS for suffix in form.SUFFIXES)
    raise InputError(path, f'cannot write the suffix "{path.suffix}"; known are {known}')


def write_pulses(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """Write pulses in the format that the suffix names, with notes where it takes them. Raises InputError."""
    form = writer_of(path)
    try:
        if form is iq:
            iq.write(path, pulses, notes)
        else:
            form.write(path, pulses)
    except OSError as error:
        raise InputError(path, error.strerror or "cannot be written") from None
