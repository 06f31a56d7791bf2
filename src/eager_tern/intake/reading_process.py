"""The process that reads: it keeps a processor busy, and neither the window nor what is heard has to wait for it."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import chain
from multiprocessing.connection import Connection
from pathlib import Path

from msgspec import Struct

from eager_tern.casebook.values import Faint, PassageRead
from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Note, ReadOptions
from eager_tern.intake.faint import with_doubts
from eager_tern.intake.files import FileTake, pulses_only, read_file_stepwise
from eager_tern.intake.passages import as_kept
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import TakeReader, reads_better_turned
from eager_tern.signal.bursts import GapSettings
from eager_tern.signal.by_hand import FOUND_OUT, ByHand
from eager_tern.signal.values import Floats

# What it is asked


class BeginTake(Struct, frozen=True):
    """Read a take whose durations will be fed; ``at_once``: while they are still coming."""

    sheets: Sequence[Sheet]
    gaps: GapSettings
    cut: bool = False
    carrier_hz: float | None = None
    faint: tuple[Faint, ...] = ()
    at_once: bool = False


class Feed(Struct, frozen=True):
    """Durations of the take, the last ones if ``ends``. Answered by passages, then ``Fed``."""

    signed_us: Floats
    ends: bool = False


class ReadFile(Struct, frozen=True):
    """Read a file. Answered by ``TakeFound`` and passages for each take in it, then ``FileEnd``."""

    path: Path
    sheets: Sequence[Sheet]
    options: ReadOptions = AS_FOUND
    by_hand: ByHand = FOUND_OUT


# What it answers, beside passages as a casebook keeps them


class Fed(Struct, frozen=True):
    """All durations of a ``Feed`` were read."""


class Turned(Struct, frozen=True):
    """The take being fed is the other way round: what was taken for its marks are spaces."""


class TakeFound(Struct, frozen=True):
    """A take of a file: its pulses, nothing of them read yet."""

    found: FileTake


class FileEnd(Struct, frozen=True):
    """``reason`` says why there is no more, where it was not the file's own end."""

    reason: str = ""


Request = BeginTake | Feed | ReadFile
Answer = PassageRead | Fed | Turned | TakeFound | FileEnd


def serve(connection: Connection) -> None:
    """Answer one request after the other until the other side is gone."""
    reader, begun = TakeReader(()), BeginTake((), GapSettings())
    nothing = False  # whether it is a live take of which nothing was read yet
    while True:
        request: Request = connection.recv()
        match request:
            case BeginTake():
                begun, nothing = request, request.at_once
                reader = TakeReader(
                    request.sheets, request.gaps, cut=request.cut, at_once=request.at_once,
                    carrier_hz=request.carrier_hz,
                )  # fmt: skip
            case Feed():
                for passage in chain(reader.feed(request.signed_us), reader.finish() if request.ends else ()):
                    connection.send(as_kept(with_doubts(passage, begun.faint)))
                    if nothing and reads_better_turned(passage, begun.sheets):
                        connection.send(Turned())
                    nothing &= not passage.presses
                connection.send(Fed())
            case ReadFile():
                connection.send(FileEnd(_read_file(connection, request)))


def _read_file(connection: Connection, request: ReadFile) -> str:
    try:
        steps = read_file_stepwise(request.path, request.sheets, request.options, request.by_hand)
        for begun, passages in steps:
            notes: Sequence[Note] = begun.capture.notes
            connection.send(TakeFound(pulses_only(begun)))
            for passage in passages:
                connection.send(as_kept(passage, notes))
    except InputError as error:
        return str(error)
    except MemoryError:
        return f"{request.path}: is too large for this machine's memory"
    return ""
