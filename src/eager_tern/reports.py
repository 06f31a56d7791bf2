"""The command's documents: readings and frames as JSON and as lines of text."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from eager_tern.compare.asking import next_shots
from eager_tern.compare.checks import Found
from eager_tern.compare.comparison import Comparison, is_possible
from eager_tern.compare.fields import Field, Linear, Table
from eager_tern.compare.proof import Proof, is_settled, unproved
from eager_tern.compare.stack import label_word
from eager_tern.compare.structure import structure_of
from eager_tern.compare.wording import all_findings
from eager_tern.formats.capture import Note
from eager_tern.intake.files import FileTake
from eager_tern.linecode.values import bit_text
from eager_tern.protocol.documents import durations_us, frame_document, noise_document
from eager_tern.protocol.fields import Value, in_words, marked
from eager_tern.protocol.making import MadeFrame
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import UNKNOWN, Reading, Shape, serial_words
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import TakeRead
from eager_tern.protocol.why import why_not
from eager_tern.sending.documents import step_document
from eager_tern.sending.echo import Echo, Meant
from eager_tern.sending.order import Done
from eager_tern.sending.wording import echo_in_words, frames_in_words
from eager_tern.signal.values import Floats, Pulses

READINGS = "eager-tern/readings/1"
FRAME = "eager-tern/frame/1"
COMPARISON = "eager-tern/comparison/1"
SENT = "eager-tern/sent/1"
ECHO = "eager-tern/echo/1"


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


def comparison_document(found: Comparison, proof: Proof | None = None) -> dict[str, Any]:
    """The JSON document of ``compare``."""
    document: dict[str, Any] = {
        "schema": COMPARISON,
        "rows": found.stack.rows,
        "bit_count": found.stack.columns,
        "constant": found.stack.constant.tolist(),
        "varying": found.stack.varying.tolist(),
        "fields": [_found_field(field) for field in found.fields],
        "checks": [_found_check(check) for check in found.checks],
        "counters": [
            {"kind": each.kind, "positions": list(each.positions), "chance": _chance(each.chance)}
            for each in found.counters
        ],
        "unexplained": list(found.unexplained),
    }
    document["next_shots"] = [{"labels": ask.labels, "why": ask.why} for ask in next_shots(found)]
    if proof is not None:
        counts = {"labelled": proof.labelled, "made": proof.made, "predicted": proof.predicted}
        document["proof"] = {
            **{name: int(rows.sum()) for name, rows in counts.items()},
            "unproved": unproved(found),
        }
    return document


def _found_field(field: Field) -> dict[str, Any]:
    document: dict[str, Any] = {
        "name": field.name,
        "positions": list(field.positions),
        "map": _map(field.map),
        "rows_explained": field.explained,
        "rows_contradicting": field.contradicting.tolist(),
        "chance": _chance(field.chance),
        "possible": is_possible(field),
    }
    if field.when:
        document["when"] = {name: list(values) for name, values in field.when.items()}
    if field.also:
        document["odds"] = round(field.odds[0], 3)
        document["also"] = [
            {"positions": list(each.positions), "map": _map(each.map), "odds": round(odds, 3)}
            for each, odds in zip(field.also, field.odds[1:], strict=True)
        ]
    if field.others:
        document["others"] = [{"positions": list(o.positions), "map": _map(o.map)} for o in field.others]
    return document


def _map(found: Linear | Table) -> dict[str, Any]:
    if isinstance(found, Table):
        return {"kind": "table", "encoding": "binary", "table": {str(k): v for k, v in sorted(found.words.items())}}
    return {"kind": "linear", "encoding": found.encoding, "scale": found.scale, "offset": found.offset}


def _found_check(found: Found) -> dict[str, Any]:
    check = found.check
    width = check.at.width
    parameters: dict[str, Any] = {
        "width": width,
        "unit": width if check.of is not None else check.unit,
        "order": check.order,
        "init": check.init,
        "negate": check.negate,
        "carry": check.carry,
        "swap": check.swap,
        "xor_out": check.xor_out,
        **({"modulus": check.modulus} if check.modulus else {}),
        **({"rotate": check.rotate} if check.rotate else {}),
    }
    if check.kind == "crc":
        parameters |= {"poly": check.poly, "reflect_in": check.reflect_in, "reflect_out": check.reflect_out}
    if check.kind == "linear":
        parameters["columns"] = [f"{column:0{(width + 3) // 4}x}" for column in check.columns]
    kind = "xor" if check.kind == "copy" else check.kind  # a copy is the exclusive-or of one number
    return {
        "kind": kind,
        "positions": list(found.positions),
        "covers": [list(span) for span in found.covers],
        "parameters": parameters,
        "rows_ok": int(found.holds.sum()),
        "rows_failing": np.flatnonzero(~found.holds).tolist(),
        "chance": _chance(found.chance),
    }


def _chance(log10: float) -> float:
    """A probability from its logarithm; what is less than the smallest number is that."""
    return float(10.0 ** max(min(log10, 0.0), -300.0))


def describe_comparison(found: Comparison, names: Sequence[str], proof: Proof | None = None) -> list[str]:
    """The comparison in lines for a person; ``names`` are what rows are called."""
    stack = found.stack
    lines = [
        f"{stack.rows} frames of {stack.columns} bits, {len(stack.varying)} of which vary, {found.explained} explained"
    ]
    for told in all_findings(found, names):
        lines += [f"{told.claim} {told.chance}".rstrip(), *(f"  {doubt}" for doubt in told.doubts)]
    for ask in next_shots(found):
        lines.append(f"next: {', '.join(f'{n} = {label_word(v)}' for n, v in ask.labels.items())} ({ask.why})")
    if is_settled(found):
        lines.append("no further press would settle more")
    if proof is not None:
        lines.append(f"{proof.words}, that is by a search that was not shown them")
        lines += [f"not proved yet: {each}" for each in unproved(found)]
    return lines


def sent_document(target: str, done: Done, with_echo: bool) -> dict[str, Any]:
    """The JSON document of ``send``."""
    missing = {"heard": 0, "same_bits": False}
    heard = [None if not with_echo else missing if echo is None else _echo(echo) for echo in done.echoes]
    steps = [step_document(one, echo) for one, echo in zip(done.sent, heard, strict=True)]
    return {"schema": SENT, "target": target, "steps": steps}


def echo_document(found: Sequence[Echo | None], heard: TakeRead) -> dict[str, Any]:
    """The JSON document of ``echo``. ``heard`` of a press counts frames."""
    presses = [
        {"meant": number, **(_echo(one) if one is not None else {"heard": 0, "same_bits": False})}
        for number, one in enumerate(found)
    ]
    return {"schema": ECHO, "presses": presses}


def _echo(echo: Echo) -> dict[str, Any]:
    return {
        "heard": echo.heard,
        "frames_meant": echo.meant,
        "same_bits": echo.same_bits,
        "bits": bit_text(echo.bits) if echo.bits.size else None,
        "first_different": echo.first_different,
        "mark_excess_us": round(echo.mark_excess_us, 1),
        "clock": round(echo.clock, 5),
        "rms_us": round(echo.rms_us, 1),
        "worst_us": round(echo.worst_us, 1),
        "gap_error_us": round(echo.gap_error_us, 1) if echo.gap_error_us is not None else None,
        "carrier_hz": echo.carrier_hz,
    }


def describe_sent(done: Done, with_echo: bool) -> list[str]:
    """The same in sentences, a line a press."""
    lines = []
    for one, echo in zip(done.sent, done.echoes, strict=True):
        saying = one.saying
        how = "made from the sheet" if saying.made else "as recorded"
        lines.append(f"{one.start_s:8.2f} s  {saying.what}: {frames_in_words(one.frames)}, {how}")
        if one.obeyed is not None:
            lines.append("            obeyed: " + ", ".join(f"{name} {value}" for name, value in one.obeyed.items()))
        elif one.why:
            lines.append(f"            heard, and not obeyed: {one.why}")
        if with_echo:
            lines.append("            " + echo_in_words(echo))
    return lines


def describe_echoes(meant: Sequence[Meant], found: Sequence[Echo | None]) -> list[str]:
    return [f"press {number}: {echo_in_words(one)}" for number, one in enumerate(found)]


def _take(found: FileTake, with_noise: bool, asked: Sheet | None) -> dict[str, Any]:
    capture, take = found.capture, found.take
    deviation_hz = found.measured.deviation_hz
    structures = _structures(take)
    frames = [
        {
            **frame_document(frame, number, press.is_repeat(i)),
            **_periods(frame, capture.falling_us),
            **({"why": why_not(frame, asked)} if asked is not None else {}),
            **({"structure": structures[frame.reading.shape]} if _is_unknown(frame) else {}),
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


def _is_unknown(frame: Frame) -> bool:
    return frame.best is not None and frame.best.protocol == UNKNOWN


def _structures(take: TakeRead) -> dict[Shape, dict[str, Any] | None]:
    """What the unknown frames of a take say without labels, those of one shape together."""
    shapes: dict[Shape, list[Frame]] = {}
    for frame in filter(_is_unknown, take.frames):
        shapes.setdefault(frame.reading.shape, []).append(frame)
    found = {}
    for shape, frames in shapes.items():
        told = structure_of(np.array([frame.reading.bits for frame in frames]), shape[2])
        checks = [_found_check(check) for check in told.checks] if told is not None else []
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


def _in_words(name: str, value: Value) -> str:
    return f"{name} {value} ({marked(value)})" if isinstance(value, int) and value >= 0 else f"{name} {in_words(value)}"


def _words(reading: Reading | None) -> str:
    if reading is None:
        return "unknown"
    fields = ", ".join(_in_words(name, value) for name, value in reading.fields.items())
    failed = [check.name for check in reading.checks if not check.ok]
    doubts = f", does not hold: {', '.join(failed)}" if failed else ""
    shown = fields or bit_text(reading.bits) or reading.kind
    if reading.framing is not None:
        shown = f"{serial_words(reading)}: {shown}"
    return f"{reading.protocol}, {shown}{doubts}, confidence {reading.confidence:.2f}"
