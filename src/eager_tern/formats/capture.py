"""What a file gives: one capture a channel, as edges of two levels, as pulses, or as a radio signal."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct

from eager_tern.errors import InputError
from eager_tern.signal.baseband import Baseband, Keying
from eager_tern.signal.polarity import find_polarity
from eager_tern.signal.values import NO_PULSES, Edges, Floats, Polarity, Pulses, pulses_from_edges


class Note(Struct, frozen=True):
    """What a file says about a stretch of its recording, µs from the start: the name of an array, an annotation."""

    start_us: float
    end_us: float
    text: str


class Capture(Struct, frozen=True):
    """One channel of a file.

    ``edges`` where the file holds levels, whose polarity is still open; ``pulses`` where it names marks and spaces or
    where a carrier was taken off. ``bursts`` are then the stretches of that carrier, for what is too faint for a
    threshold, and ``duty`` is the part of its period during which it is on, where that is known. ``channel_name`` is
    what the file calls the channel. ``falling_us`` are the times of falling edges, where nothing else was logged;
    ``resolution_us`` is the step of a clock too coarse to read anything. ``warnings`` say what of the file could not
    be used.
    """

    path: str
    format: str
    channel: int | None = None
    sample_rate_hz: float | None = None
    edges: Edges | None = None
    pulses: Pulses = NO_PULSES
    bursts: tuple[Baseband, ...] = ()
    keying: Keying | None = None
    duty: float | None = None
    channel_name: str = ""
    falling_us: Floats | None = None
    resolution_us: float | None = None
    notes: tuple[Note, ...] = ()
    warnings: tuple[str, ...] = ()

    def marks(self, polarity: Polarity | None = None) -> tuple[Pulses, Polarity | None]:
        """Its pulses and the polarity they are read with: the one given, or the one the line's rest shows."""
        if self.edges is None:
            return self.pulses, None
        chosen = polarity or find_polarity(self.edges).polarity
        return pulses_from_edges(self.edges, chosen), chosen


class Description(Struct, frozen=True):
    """What makes samples of bytes: ``datatype`` as SigMF names it (cu8, ci16_le, cf32_le, rf32_le …)."""

    datatype: str
    rate_hz: float
    center_hz: float = 0.0


class ReadOptions(Struct, frozen=True):
    """What somebody says of a file beforehand: which channel, a threshold in the samples' own units, what its bare
    samples are, how many there are a second where no time stands with them. None is found out.
    """

    channel: int | None = None
    level: float | None = None
    samples: Description | None = None
    rate_hz: float | None = None


AS_FOUND = ReadOptions()


def read_only(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """How a format is written that is made of a gadget and not of pulses: not at all."""
    raise InputError(path, "is made of a gadget: eager-tern export")


class Format(Struct, frozen=True):
    """A kind of file, and what can be done with it.

    ``claims`` tells from a file's first bytes and its suffix whether it is one. ``suffixes`` are those that it is
    written with. ``obeys`` names the read options, beside the channel, that mean something to it. A format that does
    not ``overwrite`` writes new files only.
    """

    name: str
    suffixes: tuple[str, ...]
    claims: Callable[[bytes, str], bool]
    read: Callable[[Path, ReadOptions], list[Capture]]
    write: Callable[[Path, Pulses, Sequence[Note]], None]
    obeys: frozenset[str] = frozenset()
    overwrites: bool = True
