"""Files read, and kept in a casebook."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PressReading, press_reading
from eager_tern.formats import vcd
from eager_tern.formats.capture import Capture, Note
from eager_tern.formats.iq import Description
from eager_tern.formats.registry import read_captures
from eager_tern.intake.faint import FAINT, Faint, clearest_pulses
from eager_tern.protocol.reading import Reading
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.shapes import FEWEST_CHECK_BITS
from eager_tern.protocol.take import TakeRead, read_edges, read_marks
from eager_tern.signal.by_hand import FOUND_OUT, ByHand
from eager_tern.signal.quality import advice_on
from eager_tern.signal.values import Polarity, signed_from_start

PROVEN = 0.95  # that a faint frame is right whose checks hold
MOST_STRAYS = 500  # of which each has a line of its own in the casebook


@dataclass(frozen=True)
class FileTake:
    """One capture of a file with all that was read in it.

    ``polarity`` is None where the file names its marks. ``faint`` are the stretches whose pulses no threshold gave.
    """

    capture: Capture
    polarity: Polarity | None
    take: TakeRead
    faint: tuple[Faint, ...] = ()
    by_hand: ByHand = FOUND_OUT

    @property
    def advice(self) -> tuple[str, ...]:
        """What is wrong with the recording, and what to try."""
        return advice_on(self.take.pulses, self.capture.sample_rate_hz, len(self.take.frames))


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
    takes = [replace(read_capture(capture, sheets, by_hand), by_hand=by_hand) for capture in captures]
    with_frames = [take for take in takes if take.take.presses]
    if channel is not None or not with_frames:
        return takes
    return _distinct(with_frames) if with_frames[0].capture.format == vcd.NAME else with_frames


def _distinct(takes: Sequence[FileTake]) -> list[FileTake]:
    """Takes without those that say the same as one before: a simulator dumps a line in each module it goes through."""
    seen: list[list[tuple[int, bytes]]] = []
    distinct = []
    for take in takes:
        frames = [(round(f.pulses.start_us / 1000), f.best.bits.tobytes() if f.best else b"") for f in take.take.frames]
        if frames not in seen:
            seen.append(frames)
            distinct.append(take)
    return distinct


def read_capture(capture: Capture, sheets: Sequence[Sheet], by_hand: ByHand = FOUND_OUT) -> FileTake:
    """A capture read with the sheets, and with what the user overruled."""
    if capture.bursts:
        pulses, faint = clearest_pulses(capture.bursts, sheets)
        take = read_marks(replace(pulses, carrier_hz=capture.pulses.carrier_hz), sheets, by_hand)
        return FileTake(capture, None, _doubted(take, faint), faint)
    if capture.edges is None:
        return FileTake(capture, None, read_marks(capture.pulses, sheets, by_hand))
    found, take = read_edges(capture.edges, sheets, by_hand)
    return FileTake(capture, found, take)


def _doubted(take: TakeRead, faint: Sequence[Faint]) -> TakeRead:
    """The take with what is known of its faint frames: how they were read, and how far their bits can be trusted."""
    presses = []
    for press in take.presses:
        frames = []
        for frame in press.frames:
            of = [f for f in faint if f.start_us < frame.pulses.end_us and f.end_us > frame.pulses.start_us]
            if of:
                readings = tuple(replace(r, confidence=r.confidence * _trust(r, of[0])) for r in frame.readings)
                frame = replace(frame, readings=readings, mended=frame.mended or FAINT)
            frames.append(frame)
        presses.append(replace(press, frames=tuple(frames)))
    return replace(take, presses=tuple(presses))


def _trust(reading: Reading, faint: Faint) -> float:
    """How far the bits of a faint frame can be trusted: checks of many bits say more than the signal."""
    proven = reading.checks_hold and sum(check.width for check in reading.checks) >= FEWEST_CHECK_BITS
    return max(faint.certainty, PROVEN) if proven else faint.certainty


def keep(casebook: Casebook, gadget_id: int, found: FileTake, *, started_at: float | None = None) -> list[int]:
    """Put a take with its presses and strays into a casebook, whole or not at all. Gives the ids of the presses."""
    started = time.time() if started_at is None else started_at
    capture, take = found.capture, found.take
    with casebook.changing():
        take_id = casebook.add_take(
            gadget_id, Path(capture.path).name, capture.format, started_at=started, polarity=found.polarity,
            sample_rate_hz=capture.sample_rate_hz, carrier_hz=take.pulses.carrier_hz,
            path=str(Path(capture.path).absolute()), channel=capture.channel, by_hand=found.by_hand,
        )  # fmt: skip
        casebook.append_durations(take_id, signed_from_start(take.pulses))
        for reading in stray_readings(take):
            casebook.put_press(take_id, reading, stray=True, caught_at=started + reading.start_us / 1e6)
        return [
            casebook.put_press(
                take_id,
                press_reading(press),
                caught_at=started + press.start_us / 1e6,
                label=_noted(capture.notes, press.start_us),
            )
            for press in take.presses
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
