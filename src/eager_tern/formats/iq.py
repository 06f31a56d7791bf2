"""IQ recordings: a SigMF pair, or bare samples of which the user tells type and rate."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Any

import msgspec
import numpy as np
from msgspec import Meta, Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Description, Format, Note, ReadOptions
from eager_tern.refused import refused
from eager_tern.signal.keying import keying_of, pulses_of_bursts
from eager_tern.signal.quality import CLIPS, clips
from eager_tern.signal.radio import Transmission, find_transmissions
from eager_tern.signal.recording import Recording
from eager_tern.signal.values import Pulses

META, DATA = ".sigmf-meta", ".sigmf-data"
RAW_SUFFIXES = (".iq", ".cu8", ".cs8", ".ci8", ".cs16", ".ci16", ".cf32", ".cfile")

# Sample types by their SigMF names: NumPy's own name, what stands for zero, and full scale.
TYPES: dict[str, tuple[str, float, float]] = {
    "u8": ("u1", 127.5, 127.5),
    "i8": ("i1", 0.0, 128.0),
    "u16": ("u2", 32767.5, 32767.5),
    "i16": ("i2", 0.0, 32768.0),
    "u32": ("u4", 2147483647.5, 2147483647.5),
    "i32": ("i4", 0.0, 2147483648.0),
    "f32": ("f4", 0.0, 1.0),
    "f64": ("f8", 0.0, 1.0),
}
RATES = (100.0, 1e9)
WRITTEN_RATE_HZ = 250_000
WRITTEN_LEVEL = 0.8
REST_S = 0.02
PIECE = 1 << 18
LOOKED_AT = 1 << 17  # samples of a burst, to see whether it clips
LARGEST = 1e6  # of full scale: what is more is no sample


def claims(head: bytes, suffix: str) -> bool:
    """A SigMF description, JSON with the keys that each has; its other half and bare samples may look like anything."""
    if suffix == DATA or suffix in RAW_SUFFIXES:
        return True
    return head.lstrip()[:1] == b"{" and (b"core:" in head or b'"global"' in head)


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """One capture a transmitter found. ``path`` is either half of a SigMF pair, or holds bare samples that the options
    describe. Raises InputError.
    """
    if options.samples is not None:
        return read_raw(path, options.samples)
    if path.suffix.lower() in RAW_SUFFIXES:
        raise InputError(path, "holds bare samples; --samples and --rate tell what they are, as in cu8 and 250000")
    meta_path, data_path = path.with_suffix(META), path.with_suffix(DATA)
    description, notes = _described(meta_path)
    if not data_path.is_file():
        raise InputError(path, f"its other half, {data_path.name}, is missing")
    return read_raw(data_path, description, path, notes)


def read_raw(
    path: Path, description: Description, told_as: Path | None = None, notes: tuple[Note, ...] = ()
) -> list[Capture]:
    """One capture a transmitter found in bare samples of the type and rate given. Raises InputError."""
    recording, warnings = open_recording(path, description)
    transmissions = find_transmissions(recording)
    name = str(told_as or path)
    captures = []
    warnings += _clipping(recording, transmissions)
    for number, found in enumerate(transmissions):
        carrier_hz = recording.center_hz + found.frequency_hz
        captures.append(
            Capture(
                name,
                FORMAT.name,
                number,
                recording.rate_hz,
                pulses=replace(pulses_of_bursts(found.bursts), carrier_hz=carrier_hz),
                bursts=found.bursts,
                keying=keying_of(found.bursts),
                channel_name=f"{carrier_hz / 1e6:.4f} MHz",
                notes=notes,
                warnings=warnings,
            )
        )
    return captures or [Capture(name, FORMAT.name, 0, recording.rate_hz, notes=notes, warnings=warnings)]


def _clipping(recording: Recording, transmissions: Sequence[Transmission]) -> tuple[str, ...]:
    """A warning where a transmitter was louder than the receiver could tell."""
    for burst in [burst for found in transmissions for burst in found.bursts[:1]]:
        first, last = (int(t / 1e6 * recording.rate_hz) for t in (burst.start_us, burst.end_us))
        samples = recording.part(first, min(last, first + LOOKED_AT, recording.size))
        if clips(samples.real) or clips(samples.imag):
            return (CLIPS,)
    return ()


def open_recording(path: Path, description: Description) -> tuple[Recording, tuple[str, ...]]:
    """The samples, read piece by piece as they are asked for, and warnings. Raises InputError."""
    kind, order = _type_of(description.datatype, path)
    complex_ = description.datatype.startswith("c")
    numpy_type, zero, full = TYPES[kind]
    stored = np.dtype(order + numpy_type)
    if not RATES[0] <= description.rate_hz <= RATES[1]:
        raise InputError(path, f"a sample rate of {description.rate_hz:g} Hz is not possible")
    each = stored.itemsize * (2 if complex_ else 1)
    size, rest = divmod(path.stat().st_size, each)
    if size == 0:
        raise InputError(path, "holds no samples")
    warnings = (f"ends within a sample, at byte {size * each + rest}",) if rest else ()
    values = np.memmap(path, stored, "r", shape=(size * (2 if complex_ else 1),))

    def part(first: int, last: int) -> NDArray[Any]:
        each = 2 if complex_ else 1
        with np.errstate(over="ignore", invalid="ignore"):  # doubles beyond a float's range
            scaled = (values[each * first : each * last].astype(np.float32) - np.float32(zero)) / np.float32(full)
        usable = np.isfinite(scaled) & (np.abs(scaled) < LARGEST)
        scaled = scaled if usable.all() else np.where(usable, scaled, np.float32(0))
        return scaled.view(np.complex64) if complex_ else scaled

    return Recording(description.rate_hz, size, part, description.center_hz), warnings


def _type_of(datatype: str, path: Path) -> tuple[str, str]:
    base, _, order = datatype.partition("_")
    kind = base[1:].replace("s", "i", 1) if base[1:2] == "s" else base[1:]  # cs16 is a common spelling of ci16
    if base[:1] not in ("c", "r") or kind not in TYPES or order not in ("", "le", "be"):
        known = ", ".join(f"c{kind}" for kind in TYPES)
        raise InputError(path, f'the sample type "{datatype[:20]}" is not known; known are {known} with _le or _be')
    return kind, ">" if order == "be" else "<"


NotNegative = Annotated[int, Meta(ge=0)]


def _core(name: str) -> str:
    """A key as SigMF's own ones are called."""
    return f"core:{name}"


class _Global(Struct, rename=_core):
    datatype: str
    sample_rate: Annotated[float, Meta(gt=0)]
    num_channels: int = 1
    version: str = "1.2.0"


class _CaptureSegment(Struct, rename=_core):
    sample_start: int = 0
    frequency: float = 0.0


class _Annotation(Struct, rename=_core):
    sample_start: NotNegative
    sample_count: NotNegative = 0
    label: str = ""
    comment: str = ""


class _Meta(Struct, rename={"about": "global"}):
    """What is used of a SigMF description (version 1.2); the rest may be there."""

    about: _Global
    captures: list[_CaptureSegment] = []
    annotations: list[_Annotation] = []


def _described(path: Path) -> tuple[Description, tuple[Note, ...]]:
    """Description and annotations of a SigMF recording. Raises InputError."""
    if not path.is_file():
        raise InputError(path, "the description of the recording is missing")
    try:
        meta = msgspec.json.decode(path.read_bytes(), type=_Meta)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise refused(path, error) from None
    if meta.about.num_channels != 1:
        raise InputError(path, "has several channels mixed in one file, which cannot be read")
    center = meta.captures[0].frequency if meta.captures else 0.0
    us = 1e6 / meta.about.sample_rate
    notes = tuple(
        Note(a.sample_start * us, (a.sample_start + a.sample_count) * us, a.label or a.comment)
        for a in meta.annotations
        if a.label or a.comment
    )
    return Description(meta.about.datatype, meta.about.sample_rate, center), notes


def write(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """A carrier switched on for the marks, 250 kS/s of ci16_le, with its description."""
    rate = WRITTEN_RATE_HZ
    edges = pulses.edge_times_us * rate / 1e6
    size = int(np.ceil(edges[-1] if pulses.durations_us.size else 0.0) + REST_S * rate)
    data_path = path.with_suffix(DATA)
    with data_path.open("wb") as file:
        for first in range(0, size, PIECE):
            line = _line(edges, first, min(PIECE, size - first)) * WRITTEN_LEVEL
            pairs = np.zeros((line.size, 2), "<i2")
            pairs[:, 0] = np.rint(line * 32767)
            file.write(pairs.tobytes())
    about = {
        "core:datatype": "ci16_le",
        "core:sample_rate": rate,
        "core:recorder": "Eager Tern",
        "core:version": "1.2.0",
    }
    annotations = [
        {
            "core:sample_start": round(note.start_us * rate / 1e6),
            "core:sample_count": round((note.end_us - note.start_us) * rate / 1e6),
            "core:label": note.text,
        }
        for note in notes
    ]
    captures = [{"core:sample_start": 0, "core:frequency": pulses.carrier_hz or 0.0}]
    document = {"global": about, "captures": captures, "annotations": annotations}
    path.with_suffix(META).write_text(json.dumps(document, indent=2) + "\n", "utf-8")


def _line(edges: NDArray[np.float64], first: int, count: int) -> NDArray[np.float64]:
    """The level of the samples from ``first`` on: each edge a ramp two samples long, which keeps its place."""
    low, high = np.searchsorted(edges, [first - 2, first + count + 2])
    near = edges[low:high]
    level = np.full(count, float(low % 2))
    signs = 1.0 - 2.0 * ((np.arange(near.size) + low) % 2)
    nearest = np.rint(near).astype(np.intp)
    steps = np.zeros(count + 1)
    after = nearest + 2 - first
    early = after <= 0
    level += signs[early].sum()
    np.add.at(steps, np.minimum(after[~early], count), signs[~early])
    level += np.cumsum(steps)[:count]
    for shift in (-1, 0, 1):
        at = nearest + shift - first
        inside = (at >= 0) & (at < count)
        np.add.at(level, at[inside], (signs * np.clip((nearest + shift - near + 1) / 2, 0, 1))[inside])
    return level


FORMAT = Format("iq", (META, DATA), claims, read, write, obeys=frozenset({"samples"}))
