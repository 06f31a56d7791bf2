"""What ``read`` and ``make`` say: JSON, and lines of text."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from eager_tern.formats.capture import Note
from eager_tern.intake.files import FileTake
from eager_tern.linecode.values import bit_text
from eager_tern.protocol.documents import durations_us, frame_document, noise_document
from eager_tern.protocol.fields import Value, in_words, marked
from eager_tern.protocol.making import MadeFrame
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading, Shape, serial_words
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import TakeRead
from eager_tern.protocol.why import why_not
from eager_tern.signal.values import Floats, Pulses

READINGS = "eager-tern/readings/1"
FRAME = "eager-tern/frame/1"


def readings_document(takes: Sequence[FileTake], with_noise: bool, asked: Sheet | None = None) -> dict[str, Any]:
    """The JSON document of ``read``; with a sheet that was asked about, why it is not each frame's."""
    return {"schema": READINGS, "takes": [_take(take, with_noise, asked) for take in takes]}


def made_document(made: MadeFrame) -> dict[str, Any]:
    """The JSON document of ``make``."""
    return {
        "schema": FRAME,
        "protocol": made.protocol,
        "bits": bit_text(made.bits),
        "pulses_us": durations_us(made.pulses.durations_us),
        "carrier_hz": made.pulses.carrier_hz,
    }


def _take(found: FileTake, with_noise: bool, asked: Sheet | None) -> dict[str, Any]:
    capture, take = found.capture, found.take
    deviation_hz = found.measured.deviation_hz
    structures = _structures(take)
    frames = [
        {
            **frame_document(frame, number, press.is_repeat(i)),
            **_periods(frame, capture.falling_us),
            **({"why": why_not(frame, asked)} if asked is not None else {}),
            **({"structure": structures[frame.reading.shape]} if frame.is_unknown else {}),
        }
        for number, press in enumerate(take.presses)
        for i, frame in enumerate(press.frames)
    ]
    if with_noise:
        edges = take.pulses.edge_times_us
        frames += [
            noise_document(Pulses(take.pulses.durations_us[a : b + 1], float(edges[a]), take.pulses.carrier_hz))
            for a, b in take.noise
        ]
        frames.sort(key=lambda frame: float(frame["start_us"]))
    return {
        "path": capture.path,
        "format": capture.format,
        "sample_rate_hz": capture.sample_rate_hz,
        "channel": capture.channel,
        "polarity": found.polarity,
        "carrier_hz": take.pulses.carrier_hz,
        "keying": capture.keying,
        **({"deviation_hz": round(deviation_hz, 1)} if deviation_hz is not None else {}),
        **({"carrier_duty": round(capture.duty, 3)} if capture.duty is not None else {}),
        **({"edges": "falling"} if capture.falling_us is not None else {}),
        **({"resolution_us": capture.resolution_us} if capture.resolution_us is not None else {}),
        **({"channel_name": capture.channel_name} if capture.channel_name else {}),
        **({"notes": [_note(note) for note in capture.notes]} if capture.notes else {}),
        "frames": frames,
    }


def _structures(take: TakeRead) -> dict[Shape, dict[str, Any] | None]:
    """What the unknown frames of a take say without labels, those of one shape together."""
    shapes: dict[Shape, list[Frame]] = {}
    for frame in take.frames:
        if frame.is_unknown:
            shapes.setdefault(frame.reading.shape, []).append(frame)
    if not shapes:
        return {}
    # Where nothing is unknown, not loading the comparison saves a tenth of the time that a small file takes.
    from eager_tern.compare.structure import structure_of
    from eager_tern.reports.comparison import found_check

    found: dict[Shape, dict[str, Any] | None] = {}
    for shape, frames in shapes.items():
        told = structure_of(np.array([frame.reading.bits for frame in frames]), shape[2])
        checks = [found_check(check) for check in told.checks] if told is not None else []
        found[shape] = {"unit": told.unit, "order": told.order, "checks": checks} if told is not None else None
    return found


def _periods(frame: Frame, falling_us: Floats | None) -> dict[str, Any]:
    """Of a frame of falling edges: mark and space together, and no pulses, since half of their edges are not known."""
    if falling_us is None:
        return {}
    d = frame.pulses.durations_us
    return {"pulses_us": [], "periods_us": durations_us(d[0:-1:2] + d[1::2])}


def _note(note: Note) -> dict[str, Any]:
    return {"start_us": round(note.start_us, 2), "end_us": round(note.end_us, 2), "text": note.text}


def describe_take(found: FileTake, with_noise: bool, asked: Sheet | None = None) -> list[str]:
    """What was read in a take, in lines for a person."""
    capture, take = found.capture, found.take
    channel = f", channel {capture.channel}" if capture.channel else ""
    polarity = f", {found.polarity}" if found.polarity else ""
    lines = [f"{capture.path}: {capture.format}{channel}{polarity}, {len(take.presses)} presses"]
    for press in take.presses:
        lead, more = press.lead, len(press.frames) - 1
        repeats = f", {more} {'repeat' if more == 1 else 'repeats'}" if more else ""
        mended = f", {lead.mended}" if lead.mended else ""
        missed = ", only repeats: the first frame was missed" if press.first_missed else ""
        lines.append(f"  {press.start_us / 1e6:10.4f} s  {_words(lead.best)}{repeats}{missed}{mended}")
        if asked is not None:
            reasons = "; ".join(why_not(lead, asked))
            lines.append(f"{'':14}{asked.id} {'fits' if not reasons else f'does not fit: {reasons}'}")
    if with_noise and take.noise:
        lines.append(f"  {len(take.noise)} stretches that are no signal")
    return lines


def _in_words(name: str, value: Value, decimal: bool) -> str:
    if decimal:
        return f"{name} {in_words(value, 0)}"
    return f"{name} {value} ({marked(value)})" if isinstance(value, int) and value >= 0 else f"{name} {in_words(value)}"


def _words(reading: Reading | None) -> str:
    if reading is None:
        return "unknown"
    of_sheet = reading.sheet.fields if reading.sheet is not None else ()
    in_decimal = {field.name for field in of_sheet if not field.shown_width}
    fields = ", ".join(_in_words(name, value, name in in_decimal) for name, value in reading.fields.items())
    failed = [check.name for check in reading.checks if not check.ok]
    doubts = f", does not hold: {', '.join(failed)}" if failed else ""
    shown = fields or bit_text(reading.bits) or reading.kind
    if reading.framing is not None:
        shown = f"{serial_words(reading)}: {shown}"
    return f"{reading.protocol}, {shown}{doubts}, confidence {reading.confidence:.2f}"
