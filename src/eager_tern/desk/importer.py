"""Reading files in a thread of its own."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QThread, pyqtSignal

from eager_tern.errors import InputError
from eager_tern.intake.files import FileTake, read_file
from eager_tern.protocol.schema import Sheet


class Importer(QThread):
    """Reads one file after the other; what is found arrives by signal."""

    found = pyqtSignal(object)  # FileTake
    failed = pyqtSignal(str)
    reading = pyqtSignal(str)

    def __init__(self, paths: list[Path], sheets: Sequence[Sheet]) -> None:
        super().__init__()
        self._paths = paths
        self._sheets = sheets
        self._stopping = False

    def run(self) -> None:
        for path in self._paths:
            if self._stopping:
                return
            self.reading.emit(path.name)
            try:
                takes: list[FileTake] = read_file(path, self._sheets)
            except InputError as error:
                self.failed.emit(str(error))
                continue
            for take in takes:
                if self._stopping:
                    return
                for warning in take.capture.warnings:
                    self.failed.emit(f"{path.name}: {warning}; what could be read of it is here")
                self.found.emit(take)

    def stop(self) -> None:
        """What is being read now is dropped."""
        self._stopping = True
