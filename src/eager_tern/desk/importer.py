"""Reading files in a process of its own: the window stays quick, and stopping stops at once."""

from __future__ import annotations

import multiprocessing
from collections.abc import Sequence
from multiprocessing.connection import Connection
from pathlib import Path

from PyQt6.QtCore import QThread, pyqtSignal

from eager_tern.errors import InputError
from eager_tern.intake.files import read_file
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.by_hand import FOUND_OUT, ByHand

LOOK_S = 0.05  # how often it is asked whether to stop


def read_into(answer: Connection, path: Path, sheets: Sequence[Sheet], channel: int | None, by_hand: ByHand) -> None:
    """The process's work: the takes of a file, or the sentence that says why there are none."""
    try:
        answer.send((read_file(path, sheets, channel=channel, by_hand=by_hand), ""))
    except InputError as error:
        answer.send(([], str(error)))


class Importer(QThread):
    """Reads one file after the other; what is found arrives by signal."""

    found = pyqtSignal(object)  # FileTake
    failed = pyqtSignal(str)
    reading = pyqtSignal(str)

    def __init__(
        self,
        paths: list[Path],
        sheets: Sequence[Sheet],
        channel: int | None = None,
        by_hand: ByHand = FOUND_OUT,
    ) -> None:
        super().__init__()
        self._how = channel, by_hand
        self._paths = paths
        self._sheets = sheets
        self._stopping = False

    def run(self) -> None:
        for path in self._paths:
            if not self._stopping:
                self.reading.emit(path.name)
                self._read(path)

    def _read(self, path: Path) -> None:
        spawn = multiprocessing.get_context("spawn")
        answers, answer = spawn.Pipe(duplex=False)
        process = spawn.Process(target=read_into, args=(answer, path, self._sheets, *self._how), daemon=True)
        process.start()
        answer.close()
        try:
            while not answers.poll(LOOK_S):
                if self._stopping:
                    return
            takes, reason = answers.recv()
        except EOFError:
            takes, reason = [], f"{path}: reading it failed; it may be too large for this machine's memory"
        finally:
            process.terminate()
            process.join()
            answers.close()
        if reason:
            self.failed.emit(reason)
        for take in takes:
            for warning in take.capture.warnings:
                self.failed.emit(f"{path.name}: {warning}; what could be read of it is here")
            self.found.emit(take)

    def stop(self) -> None:
        """What is being read now is dropped."""
        self._stopping = True
