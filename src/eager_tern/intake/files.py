"""Files read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.casebook.values import NOT_MEASURED, Faint, Measured
from eager_tern.formats import vcd
from eager_tern.formats.capture import AS_FOUND, Capture, ReadOptions
from eager_tern.formats.registry import read_captures
from eager_tern.intake.faint import clearest_pulses, with_doubts
from eager_tern.protocol.periods import read_periods
from eager_tern.protocol.said import Said, read_said
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import (
    Passage,
    TakeRead,
    begins_in_mark,
    clean_marks,
    joined,
    likelier_polarity,
    read_passages,
)
from eager_tern.signal.bursts import GapSettings
from eager_tern.signal.by_hand import FOUND_OUT, ByHand
from eager_tern.signal.order import median
from eager_tern.signal.quality import advice_on
from eager_tern.signal.values import Polarity, Pulses


class FileTake(Struct, frozen=True):
    """One capture of a file with what was read in it; ``cut``: it begins within a mark.

    ``polarity`` is None where the file names its marks.
    """

    capture: Capture
    polarity: Polarity | None
    take: TakeRead
    measured: Measured = NOT_MEASURED
    by_hand: ByHand = FOUND_OUT
    cut: bool = False

    def advice(self, frames: int) -> tuple[str, ...]:
        """What is wrong with the recording of which so many frames could be read, and what to try."""
        if self.capture.resolution_us is not None:  # which says why there is none
            return ()
        return advice_on(self.take.pulses, self.capture.sample_rate_hz, frames)


def read_file(
    path: Path, sheets: Sequence[Sheet], options: ReadOptions = AS_FOUND, by_hand: ByHand = FOUND_OUT
) -> list[FileTake]:
    """Every take of a file. Raises InputError.

    Where no channel was asked for and some hold frames, those that hold none are left out.
    """
    captures = read_captures(path, replace(options, level=by_hand.level))
    takes = [_whole(capture, sheets, by_hand) for capture in captures]
    return takes if options.channel is not None else _worth_keeping(takes)


def read_file_stepwise(
    path: Path, sheets: Sequence[Sheet], options: ReadOptions = AS_FOUND, by_hand: ByHand = FOUND_OUT
) -> Iterator[tuple[FileTake, Iterator[Passage]]]:
    """The same takes as they are read: each with its pulses and no presses yet, and its passages. Raises InputError."""
    captures = read_captures(path, replace(options, level=by_hand.level))
    if len(captures) == 1 or options.channel is not None:
        for capture in captures:
            begun = before_reading(capture, sheets, by_hand)
            yield begun, passages_of(begun, sheets)
        return
    for found in _worth_keeping([_whole(capture, sheets, by_hand) for capture in captures]):
        pulses = found.take.pulses
        whole = Passage(0, pulses.durations_us.size + 1, pulses, found.take.presses, found.take.noise)
        yield replace(found, take=TakeRead(pulses, (), ())), iter((whole,))


def before_reading(capture: Capture, sheets: Sequence[Sheet], by_hand: ByHand) -> FileTake:
    """A capture's pulses, with what the user overruled, before anything is read in them."""
    polarity, pulses, cut = None, capture.pulses, False
    faint: tuple[Faint, ...] = ()
    if capture.bursts:
        pulses, faint = clearest_pulses(capture.bursts, sheets)
        pulses = replace(pulses, carrier_hz=capture.pulses.carrier_hz)
    elif capture.falling_us is not None:
        pulses = read_periods(capture.falling_us, sheets).pulses
    elif capture.edges is not None:
        polarity = by_hand.polarity or likelier_polarity(capture.edges, sheets, by_hand)
        pulses, _ = capture.marks(polarity)
        cut = begins_in_mark(capture.edges, polarity)
    deviations = [burst.deviation_hz for burst in capture.bursts if burst.deviation_hz]
    deviation = median(deviations) if deviations else None
    measured = Measured(capture.keying, deviation, capture.duty, faint)
    return FileTake(capture, polarity, TakeRead(clean_marks(pulses, by_hand), (), ()), measured, by_hand, cut)


def passages_of(begun: FileTake, sheets: Sequence[Sheet]) -> Iterator[Passage]:
    """What is read in a capture, passage by passage."""
    if begun.capture.falling_us is not None:
        read = read_periods(begun.capture.falling_us, sheets)
        yield Passage(0, read.pulses.durations_us.size + 1, read.pulses, read.presses, ())
        return
    passages = read_passages(begun.take.pulses, sheets, GapSettings(begun.by_hand.gap_us), begun.cut)
    yield from (with_doubts(passage, begun.measured.faint) for passage in passages)


def as_said(found: FileTake, how: Said) -> FileTake:
    """A take read in the line code that somebody says."""
    return replace(found, take=read_said(found.take.pulses, how, GapSettings(found.by_hand.gap_us)))


class Manner(Struct, frozen=True):
    """How files are read: with which sheets, what of them, and what somebody says about the line."""

    sheets: tuple[Sheet, ...] = ()
    options: ReadOptions = AS_FOUND
    by_hand: ByHand = FOUND_OUT
    said: Said | None = None

    def read(self, path: Path) -> list[FileTake]:
        """Every take of a file. Raises InputError."""
        found = read_file(path, self.sheets, self.options, self.by_hand)
        return [as_said(one, self.said) for one in found] if self.said is not None else found


AS_USUAL = Manner()


def _whole(capture: Capture, sheets: Sequence[Sheet], by_hand: ByHand) -> FileTake:
    begun = before_reading(capture, sheets, by_hand)
    return replace(begun, take=joined(begun.take.pulses, list(passages_of(begun, sheets))))


def _worth_keeping(takes: Sequence[FileTake]) -> list[FileTake]:
    """Takes without those that hold no frames, where others do, and without those that say the same as one before:
    a simulator dumps a line in each module it goes through.
    """
    with_frames = [take for take in takes if take.take.presses]
    if not with_frames or with_frames[0].capture.format != vcd.NAME:
        return with_frames or list(takes)
    seen: list[list[tuple[int, bytes]]] = []
    distinct = []
    for take in with_frames:
        frames = [(round(f.pulses.start_us / 1000), f.best.bits.tobytes() if f.best else b"") for f in take.take.frames]
        if frames not in seen:
            seen.append(frames)
            distinct.append(take)
    return distinct


def pulses_only(found: FileTake) -> FileTake:
    """Without what is only needed to read it, so that it goes quickly to another process."""
    return replace(found, capture=replace(found.capture, bursts=(), edges=None, pulses=Pulses(np.empty(0))))
