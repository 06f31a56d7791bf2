"""Files read, and kept in a casebook."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PressReading, press_reading
from eager_tern.formats.capture import Capture
from eager_tern.formats.registry import read_captures
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import TakeRead, read_edges, read_pulses
from eager_tern.signal.values import Polarity, signed_from_start

MOST_STRAYS = 500  # of which each has a line of its own in the casebook


@dataclass(frozen=True)
class FileTake:
    """One capture of a file with all that was read in it. ``polarity`` is None where the file names its marks."""

    capture: Capture
    polarity: Polarity | None
    take: TakeRead


def read_file(
    path: Path, sheets: Sequence[Sheet], *, channel: int | None = None, polarity: Polarity | None = None
) -> list[FileTake]:
    """Every take of a file. Raises InputError."""
    return [read_capture(capture, sheets, polarity) for capture in read_captures(path, channel)]


def read_capture(capture: Capture, sheets: Sequence[Sheet], polarity: Polarity | None = None) -> FileTake:
    """A capture read with the sheets."""
    if capture.edges is None:
        return FileTake(capture, None, read_pulses(capture.pulses, sheets))
    found, take = read_edges(capture.edges, sheets, polarity)
    return FileTake(capture, found, take)


def keep(casebook: Casebook, gadget_id: int, found: FileTake, *, started_at: float | None = None) -> list[int]:
    """Put a take with its presses and strays into a casebook, whole or not at all. Gives the ids of the presses."""
    started = time.time() if started_at is None else started_at
    capture, take = found.capture, found.take
    with casebook.changing():
        take_id = casebook.add_take(
            gadget_id, Path(capture.path).name, capture.format, started_at=started, polarity=found.polarity,
            sample_rate_hz=capture.sample_rate_hz, carrier_hz=take.pulses.carrier_hz,
        )  # fmt: skip
        casebook.append_durations(take_id, signed_from_start(take.pulses))
        for reading in stray_readings(take):
            casebook.put_press(take_id, reading, stray=True, caught_at=started + reading.start_us / 1e6)
        return [
            casebook.put_press(take_id, press_reading(press), caught_at=started + press.start_us / 1e6)
            for press in take.presses
        ]


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
