"""Files read, and kept in a casebook."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Faint, Measured, PressReading, press_reading
from eager_tern.formats import vcd
from eager_tern.formats.capture import Capture, Note
from eager_tern.formats.iq import Description
from eager_tern.formats.registry import read_captures
from eager_tern.intake.faint import clearest_pulses, doubted
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import (
    TakeRead,
    begins_in_mark,
    clean_marks,
    joined,
    likelier_polarity,
    read_stepwise,
)
from eager_tern.signal.bursts import GapSettings
from eager_tern.signal.by_hand import FOUND_OUT, ByHand
from eager_tern.signal.quality import advice_on
from eager_tern.signal.values import Polarity, signed_from_start

MOST_STRAYS = 500  # of which each has a line of its own in the casebook


@dataclass(frozen=True)
class FileTake:
    """One capture of a file with what was read in it.

    ``polarity`` is None where the file names its marks. ``faint`` are the stretches whose pulses no threshold gave.
    """

    capture: Capture
    polarity: Polarity | None
    take: TakeRead
    faint: tuple[Faint, ...] = ()
    by_hand: ByHand = FOUND_OUT

    @property
    def measured(self) -> Measured:
        deviations = [burst.deviation_hz for burst in self.capture.bursts if burst.deviation_hz]
        deviation = float(np.median(deviations)) if deviations else None
        return Measured(self.capture.keying, deviation, self.capture.duty, self.faint)

    def advice(self, frames: int) -> tuple[str, ...]:
        """What is wrong with the recording of which so many frames could be read, and what to try."""
        return advice_on(self.take.pulses, self.capture.sample_rate_hz, frames)


def read_file(
    path: Path,
    sheets: Sequence[Sheet],
    *,
    channel: int | None = None,
    by_hand: ByHand = FOUND_OUT,
    samples: Description | None = None,
) -> list[FileTake]:
    """Every take of a file; ``samples`` describes a file of bare ones. Raises InputError.

    Where no channel was asked for and some hold frames, those that hold none are left out.
    """
    captures = read_captures(path, channel, samples, by_hand.level)
    takes = [_whole(capture, sheets, by_hand) for capture in captures]
    return takes if channel is not None else _worth_keeping(takes)


def read_file_stepwise(
    path: Path,
    sheets: Sequence[Sheet],
    *,
    channel: int | None = None,
    by_hand: ByHand = FOUND_OUT,
    samples: Description | None = None,
) -> Iterator[FileTake]:
    """The same takes as they are read: the first of each holds its pulses and no presses yet, the others what was found
    since. Raises InputError.
    """
    captures = read_captures(path, channel, samples, by_hand.level)
    if len(captures) == 1 or channel is not None:
        for capture in captures:
            yield from read_capture_stepwise(capture, sheets, by_hand)
        return
    for found in _worth_keeping([_whole(capture, sheets, by_hand) for capture in captures]):
        yield _with(found, ())
        yield found


def read_capture_stepwise(capture: Capture, sheets: Sequence[Sheet], by_hand: ByHand) -> Iterator[FileTake]:
    """A capture read with the sheets, and with what the user overruled."""
    polarity, pulses, cut = None, capture.pulses, False
    faint: tuple[Faint, ...] = ()
    if capture.bursts:
        pulses, faint = clearest_pulses(capture.bursts, sheets)
        pulses = replace(pulses, carrier_hz=capture.pulses.carrier_hz)
    elif capture.edges is not None:
        polarity = by_hand.polarity or likelier_polarity(capture.edges, sheets, by_hand)
        pulses, _ = capture.marks(polarity)
        cut = begins_in_mark(capture.edges, polarity)
    pulses = clean_marks(pulses, by_hand)
    found = FileTake(capture, polarity, TakeRead(pulses, (), ()), faint, by_hand)
    yield found
    for part in read_stepwise(pulses, sheets, GapSettings(by_hand.gap_us), cut):
        yield replace(found, take=doubted(part, faint))


def _whole(capture: Capture, sheets: Sequence[Sheet], by_hand: ByHand) -> FileTake:
    parts = list(read_capture_stepwise(capture, sheets, by_hand))
    return _with(parts[0], parts)


def _with(found: FileTake, parts: Sequence[FileTake]) -> FileTake:
    return replace(found, take=joined(found.take.pulses, [part.take for part in parts]))


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


def keep(casebook: Casebook, gadget_id: int, found: FileTake, *, started_at: float | None = None) -> list[int]:
    """Put a take with its presses and strays into a casebook, whole or not at all. Gives the ids of the presses."""
    with casebook.changing():
        return keep_read(casebook, keep_pulses(casebook, gadget_id, found, started_at), found)


def keep_pulses(casebook: Casebook, gadget_id: int, found: FileTake, started_at: float | None = None) -> int:
    """Put a take's raw durations into a casebook. Gives its id."""
    capture, pulses = found.capture, found.take.pulses
    with casebook.changing():
        take_id = casebook.add_take(
            gadget_id, Path(capture.path).name, capture.format,
            started_at=time.time() if started_at is None else started_at, polarity=found.polarity,
            sample_rate_hz=capture.sample_rate_hz, carrier_hz=pulses.carrier_hz,
            path=str(Path(capture.path).absolute()), channel=capture.channel, by_hand=found.by_hand,
            measured=found.measured,
        )  # fmt: skip
        casebook.append_durations(take_id, signed_from_start(pulses))
    return take_id


def keep_read(casebook: Casebook, take_id: int, found: FileTake) -> list[int]:
    """Put what was read of a take beside its durations. Gives the ids of the presses."""
    started, notes = casebook.take(take_id).started_at, found.capture.notes
    with casebook.changing():
        for reading in stray_readings(found.take):
            casebook.put_press(take_id, reading, stray=True, caught_at=started + reading.start_us / 1e6)
        return [
            casebook.put_press(
                take_id,
                press_reading(press),
                caught_at=started + press.start_us / 1e6,
                label=_noted(notes, press.start_us),
            )
            for press in found.take.presses
        ]


def _noted(notes: Sequence[Note], at_us: float) -> str:
    """What the file calls the stretch that a press begins in."""
    return next((note.text for note in notes if note.start_us - 1 <= at_us < note.end_us), "")


def stray_readings(take: TakeRead) -> list[PressReading]:
    """What is kept of the bursts that are no frames. In a recording full of chatter, neighbours are one stray."""
    edges = take.pulses.edge_times_us
    spans = list(take.noise) if len(take.noise) <= MOST_STRAYS else _joined(take.noise)
    return [
        PressReading(frames=(span,), start_us=float(edges[span[0]]), held_us=float(edges[span[1] + 1] - edges[span[0]]))
        for span in spans
    ]


def _joined(spans: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Index ranges with those made one between which nothing but a space stands."""
    out: list[tuple[int, int]] = []
    for first, last in spans:
        if out and out[-1][1] + 2 == first:
            out[-1] = (out[-1][0], last)
        else:
            out.append((first, last))
    return out
