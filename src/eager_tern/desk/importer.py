"""Reading files in a process of its own: the window stays quick, and stopping stops at once."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from multiprocessing.connection import Connection
from pathlib import Path

from PyQt6.QtCore import QThread, pyqtSignal

from eager_tern.desk.child import child_process
from eager_tern.errors import InputError
from eager_tern.formats.capture import Capture
from eager_tern.formats.iq import Description
from eager_tern.intake.files import FileTake, read_file_stepwise
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import joined
from eager_tern.signal.by_hand import FOUND_OUT, ByHand
from eager_tern.signal.values import NO_PULSES

EVERY_S = 0.4  # how often what was found is told
LOOK_S = 0.05  # how often it is asked whether to stop


@dataclass(frozen=True)
class How:
    """What the user says of a file beforehand."""

    channel: int | None = None
    by_hand: ByHand = FOUND_OUT
    samples: Description | None = None


AS_FOUND = How()


def read_into(answer: Connection, path: Path, sheets: Sequence[Sheet], how: How) -> None:
    """The process's work. It sends takes as they begin, what is read of them, and why there is no more.

    A take's pulses go over once; what is read goes over every now and then.
    """
    reason, capture = "", None
    waiting: list[FileTake] = []
    sent_at = time.monotonic()

    def send_waiting() -> None:
        if waiting:
            parts = [found.take for found in waiting]
            answer.send(("found", replace(waiting[0], capture=light, take=joined(NO_PULSES, parts), faint=())))
            waiting.clear()

    try:
        for found in read_file_stepwise(path, sheets, channel=how.channel, by_hand=how.by_hand, samples=how.samples):
            if found.capture is not capture:
                send_waiting()
                capture = found.capture
                light = Capture(capture.path, capture.format, capture.channel, notes=capture.notes)
                answer.send(("begun", replace(found, capture=replace(capture, bursts=()))))
            else:
                waiting.append(found)
            if time.monotonic() - sent_at > EVERY_S:
                send_waiting()
                sent_at = time.monotonic()
        send_waiting()
    except InputError as error:
        reason = str(error)
    answer.send(("end", reason))


class Importer(QThread):
    """Reads one file after the other; what is found arrives by signal, as it is found."""

    begun = pyqtSignal(object)  # FileTake: a take, its pulses, and nothing read of it
    found = pyqtSignal(object)  # FileTake: what was read of that take since the last
    failed = pyqtSignal(str)
    reading = pyqtSignal(str, float)  # the file, and the part of the take that is read

    def __init__(self, files: list[tuple[Path, How]], sheets: Sequence[Sheet]) -> None:
        super().__init__()
        self._files = files
        self._sheets = sheets
        self._stopping = False

    def run(self) -> None:
        for path, how in self._files:
            if not self._stopping:
                self.reading.emit(path.name, 0.0)
                self._read(path, how)

    def _read(self, path: Path, how: How) -> None:
        end_us = 0.0
        try:
            with child_process(read_into, path, self._sheets, how) as answers:
                while True:
                    while not answers.poll(LOOK_S):
                        if self._stopping:
                            return
                    kind, what = answers.recv()
                    if kind == "begun":
                        end_us = what.take.pulses.end_us
                        for warning in what.capture.warnings:
                            self.failed.emit(f"{path.name}: {warning}; what could be read of it is here")
                        self.begun.emit(what)
                    elif kind == "found":
                        self.found.emit(what)
                        if what.take.presses:
                            self.reading.emit(path.name, what.take.presses[-1].start_us / end_us)
                    else:
                        if what:
                            self.failed.emit(what)
                        return
        except EOFError:
            self.failed.emit(f"{path}: reading it failed; it may be too large for this machine's memory")

    def stop(self) -> None:
        """What was found so far stays; the rest is dropped."""
        self._stopping = True
