"""A recording of a live source into a file: what is heard is on disk as it comes."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TextIO

import numpy as np
from msgspec import Struct

from eager_tern.casebook.store import Casebook
from eager_tern.devices.live import LiveDevice
from eager_tern.errors import InputError
from eager_tern.formats.registry import write_pulses, writer_of
from eager_tern.formats.timing_text import as_words
from eager_tern.intake.passages import as_kept
from eager_tern.places import rescued_folder
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import TakeReader
from eager_tern.replacing import not_written
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed, signed_from_start

TEXT = ".txt"  # a new file of this kind is written as it is heard
PARTIAL = ".partial.txt"  # behind any other target's name: timing text, until the recording is over


class Recorded(Struct, frozen=True):
    """``trouble`` says what went wrong; what came before it is in ``pulses`` and in the file ``path`` all the same."""

    pulses: Pulses
    path: Path
    trouble: str = ""


class _Journal:
    """Durations written as timing text as they come; kept in memory, too, since a disk may refuse them."""

    def __init__(self, target: Path) -> None:
        self.parts: list[Floats] = []
        self.trouble = ""
        itself = target.suffix.lower() == TEXT and not target.exists()
        self.path = target if itself else target.with_name(target.name + PARTIAL)
        self._file: TextIO | None = None
        try:
            self._file = self.path.open("w", encoding="utf-8")
        except OSError as error:
            raise InputError(target, not_written(error)) from None

    def add(self, parts: Sequence[Floats]) -> None:
        self.parts += parts
        if self._file is None:
            return
        try:
            for part in parts:
                self._file.write(as_words(part) + "\n")
            self._file.flush()
        except OSError as error:
            self.trouble = f"{self.path}: {not_written(error)}; what is recorded meanwhile is kept in memory"
            self._file = None

    def close(self) -> None:
        if self._file is not None:
            self._file.close()


def record(device: LiveDevice, target: Path, seconds: float, stopped: Callable[[], bool]) -> Recorded:
    """Listen for so long, or until it is stopped, and write what was heard to a file of any format.

    While it goes on, and if the end never comes, what was heard stands as timing text in the target or beside it.
    Raises InputError for what cannot be written to at all.
    """
    writer_of(target)  # say now what would fail after the recording
    journal = _Journal(target)
    until = time.monotonic() + seconds
    scrambled = lost = 0
    trouble = news = ""
    while time.monotonic() < until and not stopped():
        try:
            received = device.poll()
        except InputError as error:
            trouble = str(error)
            break
        journal.add(received.durations)
        news = received.news or news
        scrambled += received.scrambled
        lost += received.lost_lines
    journal.close()
    heard = bool(journal.parts)
    if not trouble and not heard:
        trouble = f"{device.device}: " + (
            news or (f"{scrambled} lines were scrambled; is the speed right?" if scrambled else "nothing was heard")
        )
    elif not trouble and lost:
        trouble = f"{device.device}: {lost} lines were lost on the way"
    pulses = pulses_from_signed(np.concatenate(journal.parts) if heard else np.empty(0))
    if not pulses.durations_us.size:
        journal.path.unlink(missing_ok=True)
        return Recorded(pulses, target, trouble)
    try:
        write_pulses(target, pulses)
    except InputError as error:  # the recording cannot be had again
        return _elsewhere(pulses, journal, error)
    if journal.path != target:
        journal.path.unlink(missing_ok=True)
    return Recorded(pulses, target, trouble or journal.trouble)


def _elsewhere(pulses: Pulses, journal: _Journal, error: InputError) -> Recorded:
    """Where a recording goes that its target does not take."""
    if not journal.trouble and journal.path.exists():
        return Recorded(pulses, journal.path, str(error))
    return Recorded(pulses, rescue_durations("recording", signed_from_start(pulses)), str(error))


def rescue_durations(name: str, signed_us: Floats) -> Path:
    """Put durations that have no other place into a file of the user's data folder. Raises InputError."""
    path = rescued_folder() / f"{name}-{time.strftime('%Y%m%d-%H%M%S')}.txt"
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(path.parent, not_written(error)) from None
    write_pulses(path, pulses_from_signed(signed_us))
    return path


def keep_recording(
    casebook: Casebook, gadget_id: int, source: str, signed_us: Floats, sheets: Sequence[Sheet], started_at: float
) -> int:
    """Put a recording and what is read of it into a casebook. Gives the take's id."""
    with casebook.changing():
        take_id = casebook.add_take(gadget_id, source, "recorder", started_at=started_at)
        casebook.append_durations(take_id, signed_us)
        reader = TakeReader(sheets)
        for passage in (*reader.feed(signed_us), *reader.finish()):
            casebook.put_passage(take_id, as_kept(passage))
    return take_id
