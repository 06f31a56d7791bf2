"""Recordings from files into the open gadget, while the window stays in use."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from eager_tern.casebook.changes import Delete
from eager_tern.desk.document import Document
from eager_tern.desk.importer import How, Importer
from eager_tern.desk.words import plural
from eager_tern.intake.files import FileTake


class Imports(QObject):
    """One import at a time; what is found stands in the log as soon as it is found."""

    troubled = pyqtSignal(str)
    told = pyqtSignal(str)  # how far it is; empty when it has ended

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._importer: Importer | None = None
        self._gadget_id = 0
        self._begun: FileTake | None = None
        self._take_id: int | None = None
        self._presses = self._frames = 0

    @property
    def busy(self) -> bool:
        return self._importer is not None

    def read(self, files: list[tuple[Path, How]]) -> None:
        """Read files one after the other into the gadget that is open."""
        if self.busy or self._document.gadget is None or not files:
            return
        self._gadget_id = self._document.gadget.id
        self._importer = importer = Importer(files, self._document.sheets)
        importer.reading.connect(self._tell)
        importer.begun.connect(self._begin)
        importer.found.connect(self._find)
        importer.failed.connect(self.troubled)
        importer.finished.connect(self._finish)
        importer.start()

    def read_with_threshold(self, take_id: int, level: float) -> None:
        """Read a take's samples again with a threshold set by hand; the presses found so far give way."""
        take = next((t for t in self._document.takes() if t.id == take_id), None)
        if take is None or self.busy:
            return
        before = tuple(p.id for p in self._document.presses if p.take_id == take_id and not p.deleted)
        self.read([(Path(take.path), How(take.channel, replace(take.by_hand, level=level)))])
        assert self._importer is not None
        self._importer.begun.connect(lambda _: self._document.change(Delete(before)))

    def stop(self) -> None:
        """Read no further; what was found so far stays."""
        if self._importer is not None:
            self._importer.stop()

    def stop_and_wait(self) -> None:
        """The same, for whoever is about to close the casebook."""
        if self._importer is not None:
            for signal in (self._importer.begun, self._importer.found):
                signal.disconnect()
            self._importer.stop()
            self._importer.wait()

    def _tell(self, name: str, part: float) -> None:
        found = f", {plural(self._presses, 'press', 'presses')} so far" if part else ""
        self.told.emit(f"Reading {name} … {part:.0%}{found}" if part else f"Reading {name} …")

    def _begin(self, found: FileTake) -> None:
        self._advise()
        self._begun, self._presses, self._frames = found, 0, 0
        self._take_id = self._document.begin_take(found, self._gadget_id)

    def _find(self, found: FileTake) -> None:
        if self._take_id is None or self._begun is None:
            return
        whole = replace(found, take=replace(found.take, pulses=self._begun.take.pulses))
        ids = self._document.add_to_take(self._take_id, whole, self._gadget_id)
        if ids and not self._presses:
            self._document.select(tuple(ids[:1]))
        self._presses += len(ids)
        self._frames += len(found.take.frames)

    def _advise(self) -> None:
        """Say what is wrong with the take that has been read."""
        if self._begun is None or self._take_id is None:
            return
        name, advice = Path(self._begun.capture.path).name, self._begun.advice(self._frames)
        for words in advice:
            self.troubled.emit(f"{name}: {words}")
        if not self._frames and not advice:
            self.troubled.emit(f"{name}: no frames were found in it; the recording is kept")
        self._begun = None

    def _finish(self) -> None:
        self._importer = None
        self.told.emit("")
        self._advise()
