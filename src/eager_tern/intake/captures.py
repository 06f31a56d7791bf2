"""Captures of one gadget gathered into a stack: the first frame of each file, all read in the same way."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.compare.labels import Capture, at_times, listed, named, parse_labels
from eager_tern.compare.stack import Stack
from eager_tern.errors import InputError
from eager_tern.intake.files import AS_USUAL, Manner
from eager_tern.protocol.describing import describe_line
from eager_tern.protocol.draft import Draft
from eager_tern.protocol.presses import Frame
from eager_tern.text_file import read_text


class Gathered(Struct, frozen=True):
    """``frames`` and ``names`` go with the stack's rows. ``line`` is a sheet of the line; ``words`` tell
    what was left out and why, ``failed`` which captures could not be used."""

    stack: Stack
    frames: tuple[Frame, ...]
    names: tuple[str, ...]
    line: Draft
    words: tuple[str, ...]
    failed: tuple[InputError, ...] = ()


def gather(paths: Sequence[Path], labels_path: Path | None, manner: Manner = AS_USUAL) -> Gathered:
    """The stack of some files' presses with the labels of a table. Raises InputError where nothing can be compared.

    Without a table, every press of every file is a row of its own.
    """
    if labels_path is None:
        return _every_press(paths, manner)
    text = read_text(labels_path)
    by_name = {path.name: path for path in paths}
    only = paths[0].name if len(paths) == 1 else None
    table = parse_labels(text, labels_path, only)
    found, failed = _leads_of(by_name, manner)
    if table.counted == "times":
        starts = {file: [lead.pulses.start_us / 1e6 if lead else None for lead in each] for file, each in found.items()}
        table = at_times(table, starts, labels_path)
    names, rows, words, counted, _ = table
    missing = list(dict.fromkeys(file for file, _ in rows if file not in by_name))
    words += [f"{labels_path}: no capture {listed(missing)} was given; its labels are left out"] if missing else []
    labelled = {file for file, _ in rows}
    without = [file for file in by_name if file not in labelled]
    words += [f"{labels_path}: has no labels of {listed(without)}"] if without else []
    wanted = [capture for capture in rows if capture[0] in by_name] + [(file, 0) for file in without]
    if counted == "rows" and only in found and len(found[only]) != len(rows):
        raise InputError(
            labels_path, f"has {len(rows)} rows, and {only} has {len(found[only])} presses: which is which?"
        )
    for file, leads in found.items():
        numbers = {press for name, press in rows if name == file}
        if leads and numbers and min(numbers) == 1 and max(numbers) == len(leads):
            raise InputError(
                labels_path, f"numbers the presses of {file} from 1 to {len(leads)}; they are counted from 0"
            )
    frames: dict[Capture, Frame] = {}
    empty: list[str] = []
    beyond: list[str] = []
    for file, press in wanted:
        leads = found.get(file, [])
        if counted == "files" or file in without:  # a capture stands for its first frame with bits
            lead = next((each for each in leads if each is not None), None)
        else:
            lead = leads[press] if press < len(leads) else None
        if lead is not None:
            frames[file, press] = lead
        elif press < len(leads) or (not leads and file in found):
            empty.append(named((file, press)))
        elif file in found:
            beyond.append(f"{named((file, press))} ({len(leads)} presses, counted from 0)")
    words += [f"{labels_path}: no frame in {listed(empty)}"] if empty else []
    words += [f"{labels_path}: no such press: {listed(beyond)}"] if beyond else []
    if not frames:
        raise InputError(labels_path, "none of its captures holds a frame")
    frames, line, left_out = in_one_shape(frames, by_name, labels_path, manner)
    words += _set_apart({named(capture): why for capture, why in left_out.items()})
    bits = np.array([_bits(frame) for frame in frames.values()], dtype=np.uint8)
    none = dict.fromkeys(names)
    labels = {label: tuple((rows.get(name) or none)[label] for name in frames) for label in names}
    sections = next(iter(frames.values())).readings[0].sections
    called = tuple(f"{file}, press {press}" if press else file for file, press in frames)
    return Gathered(Stack(bits, labels, sections), tuple(frames.values()), called, line, tuple(words), tuple(failed))


def _leads_of(paths: Mapping[str, Path], manner: Manner) -> tuple[dict[str, list[Frame | None]], list[InputError]]:
    """The first frames of all presses of some files, and those files that cannot be read."""
    found, failed = {}, []
    for name, path in paths.items():
        try:
            found[name] = _leads(path, manner)
        except InputError as error:
            failed.append(error)
    return found, failed


def _every_press(paths: Sequence[Path], manner: Manner) -> Gathered:
    """The presses of some files as rows without labels; those that are not of the usual shape are set apart."""
    found, failed = _leads_of({str(path): path for path in paths}, manner)
    frames = {
        f"{Path(name).name}, press {n}": lead for name, leads in found.items() for n, lead in enumerate(leads) if lead
    }
    if not frames:
        raise InputError(paths[0], "holds no frame that could be compared")
    usual = Counter(frame.reading.shape for frame in frames.values()).most_common(1)[0][0]
    alike = {name: frame for name, frame in frames.items() if frame.reading.shape == usual}
    words = tuple(_set_apart({name: f"{_bits(f).size} bits" for name, f in frames.items() if name not in alike}))
    line = describe_line(list(alike.values()), paths[0].stem)
    if line is None:
        raise InputError(paths[0], "the frames show no line code that a sheet could describe")
    bits = np.array([_bits(frame) for frame in alike.values()], dtype=np.uint8)
    return Gathered(Stack(bits, {}, usual[2]), tuple(alike.values()), tuple(alike), line, words, tuple(failed))


def _set_apart(reasons: Mapping[str, str]) -> list[str]:
    """Which presses are left out, those for one reason in one line: another sensor of a night's log has thousands."""
    alike: dict[str, dict[str, list[str]]] = {}  # by reason and file
    for name, why in reasons.items():
        file, press, number = name.rpartition(", press ")
        alike.setdefault(why, {}).setdefault(file + press, []).append(number)
    return [
        f"{file}{listed(numbers)}: {why}; set apart" for why, files in alike.items() for file, numbers in files.items()
    ]


def _leads(path: Path, manner: Manner) -> list[Frame | None]:
    """The frames that say which key each press was, in the order of ``read``; None for a press without bits."""
    return [
        press.lead if not press.first_missed and press.lead.best is not None and press.lead.best.bits.size else None
        for found in manner.read(path)
        for press in found.take.presses
    ]


def in_one_shape(
    frames: dict[Capture, Frame], paths: Mapping[str, Path], source: object, manner: Manner = AS_USUAL
) -> tuple[dict[Capture, Frame], Draft, dict[Capture, str]]:
    """Frames of the line code and length that most have, a sheet that describes their line, and what is left out.

    Those that differ are read once more by what the others show: a frame that is damaged may have lost a bit.
    """
    usual = Counter(frame.reading.shape for frame in frames.values()).most_common(1)[0][0]
    alike = {name: frame for name, frame in frames.items() if frame.reading.shape == usual}
    line = describe_line(list(alike.values()), Path(str(source)).stem)
    if line is None:
        raise InputError(source, "the frames show no line code that a sheet could describe")
    left_out = {}
    out = {}
    once_more = replace(manner, sheets=(*manner.sheets, line.sheet))
    odd = {file: _leads(paths[file], once_more) for file in dict.fromkeys(n[0] for n in frames if n not in alike)}
    for name, frame in frames.items():
        again: Frame | None = frame
        if name not in alike:
            again = next((each for each in odd[name[0]][name[1] :] if each is not None), None)
        if again is not None and _bits(again).size == usual[1]:
            out[name] = again
        else:
            left_out[name] = f"{_bits(frame).size} bits, where most frames have {usual[1]}"
    return out, line, left_out


def _bits(frame: Frame) -> np.ndarray:
    return frame.readings[0].bits
