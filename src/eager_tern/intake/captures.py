"""Captures of one gadget gathered into a stack: the first frame of each file, all read in the same way."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from eager_tern.compare.labels import parse_labels
from eager_tern.compare.stack import Stack
from eager_tern.errors import InputError
from eager_tern.intake.files import read_file
from eager_tern.protocol.describing import describe_line
from eager_tern.protocol.draft import Draft
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.by_hand import FOUND_OUT, ByHand


@dataclass(frozen=True)
class Gathered:
    """``frames`` and ``names`` go with the stack's rows. ``line`` is a sheet of the line; ``words`` tell
    what was left out and why, ``failed`` which captures could not be used."""

    stack: Stack
    frames: tuple[Frame, ...]
    names: tuple[str, ...]
    line: Draft
    words: tuple[str, ...]
    failed: tuple[InputError, ...] = ()


def gather(paths: Sequence[Path], labels_path: Path | None, by_hand: ByHand = FOUND_OUT) -> Gathered:
    """The stack of some files with the labels of a table. Raises InputError where nothing can be compared.

    Without a table, every press of every file is a row of its own.
    """
    if labels_path is None:
        return _every_press(paths, by_hand)
    try:
        names, rows, words = parse_labels(labels_path.read_text("utf-8"), labels_path)
    except OSError as error:
        raise InputError(labels_path, error.strerror or "cannot be read") from None
    except UnicodeDecodeError as error:
        raise InputError(labels_path, "is not text", f"byte {error.start}") from None
    by_name = {path.name: path for path in paths}
    missing = [name for name in rows if name not in by_name]
    words += [f"{labels_path}: no capture {name} was given; its labels are left out" for name in missing]
    words += [f"{path}: has no labels in {labels_path.name}" for name, path in by_name.items() if name not in rows]
    order = [name for name in rows if name in by_name] + [name for name in by_name if name not in rows]
    frames: dict[str, Frame] = {}
    failed = []
    for name in order:
        try:
            frame = first_frame(by_name[name], by_hand=by_hand)
        except InputError as error:
            failed.append(error)
            continue
        if frame is None:
            words.append(f"{by_name[name]}: holds no frame")
        else:
            frames[name] = frame
    if not frames:
        raise InputError(labels_path, "none of its captures holds a frame")
    frames, line, left_out = in_one_shape(frames, {name: by_name[name] for name in frames}, labels_path, by_hand)
    words += [f"{by_name[name]}: {why}; set apart" for name, why in left_out.items()]
    bits = np.array([_bits(frame) for frame in frames.values()], dtype=np.uint8)
    none = dict.fromkeys(names)
    labels = {label: tuple((rows.get(name) or none)[label] for name in frames) for label in names}
    sections = next(iter(frames.values())).readings[0].sections
    return Gathered(
        Stack(bits, labels, sections), tuple(frames.values()), tuple(frames), line, tuple(words), tuple(failed)
    )


def _every_press(paths: Sequence[Path], by_hand: ByHand) -> Gathered:
    """The presses of some files as rows without labels; those that are not of the usual shape are set apart."""
    frames: dict[str, Frame] = {}
    failed = []
    for path in paths:
        try:
            leads = list(_leads(path, (), by_hand))
        except InputError as error:
            failed.append(error)
            continue
        frames |= {f"{path.name}, press {number}": lead for number, lead in enumerate(leads)}
    if not frames:
        raise InputError(paths[0], "holds no frame that could be compared")
    usual = Counter(frame.reading.shape for frame in frames.values()).most_common(1)[0][0]
    alike = {name: frame for name, frame in frames.items() if frame.reading.shape == usual}
    words = tuple(f"{name}: {_bits(f).size} bits; set apart" for name, f in frames.items() if name not in alike)
    line = describe_line(list(alike.values()), paths[0].stem)
    if line is None:
        raise InputError(paths[0], "the frames show no line code that a sheet could describe")
    bits = np.array([_bits(frame) for frame in alike.values()], dtype=np.uint8)
    return Gathered(Stack(bits, {}, usual[2]), tuple(alike.values()), tuple(alike), line, words, tuple(failed))


def first_frame(path: Path, sheets: Sequence[Sheet] = (), by_hand: ByHand = FOUND_OUT) -> Frame | None:
    """A capture's first frame with bits that is no repeat, read by its line code alone or by the sheets."""
    return next(_leads(path, sheets, by_hand), None)


def _leads(path: Path, sheets: Sequence[Sheet], by_hand: ByHand) -> Iterator[Frame]:
    """The frames with bits that say which key each press was."""
    for found in read_file(path, sheets, by_hand=by_hand):
        for press in found.take.presses:
            if not press.first_missed and press.lead.best is not None and press.lead.best.bits.size:
                yield press.lead


def in_one_shape(
    frames: dict[str, Frame], paths: dict[str, Path], source: object, by_hand: ByHand = FOUND_OUT
) -> tuple[dict[str, Frame], Draft, dict[str, str]]:
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
    for name, frame in frames.items():
        again = frame if name in alike else first_frame(paths[name], (line.sheet,), by_hand)
        if again is not None and _bits(again).size == usual[1]:
            out[name] = again
        else:
            left_out[name] = f"{_bits(frame).size} bits, where most frames have {usual[1]}"
    return out, line, left_out


def _bits(frame: Frame) -> np.ndarray:
    return frame.readings[0].bits
