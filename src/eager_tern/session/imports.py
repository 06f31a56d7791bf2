"""Recordings from files into the open gadget: one after the other, while everything else goes on."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from pathlib import Path

from msgspec.structs import replace

from eager_tern.formats.capture import AS_FOUND, ReadOptions
from eager_tern.intake.jobs import FileToRead
from eager_tern.intake.news import Progress
from eager_tern.session.events import Event
from eager_tern.session.session import Session
from eager_tern.texts import plural, tr

Asked = tuple[Path, ReadOptions]


class Imports:
    """What is asked for while something is read comes after it."""

    def __init__(self, session: Session) -> None:
        self.told: Event[[str]] = Event()  # how far it is; empty when it has ended
        self._session = session
        self._waiting: deque[list[FileToRead]] = deque()
        self._job: int | None = None
        session.progressed.connect(self._tell)
        session.job_ended.connect(self._ended)

    @property
    def busy(self) -> bool:
        return self._job is not None

    def read(self, files: Sequence[Asked]) -> None:
        """Read files one after the other into the gadget that is open."""
        self._ask([FileToRead(path, options) for path, options in files])

    def read_with_threshold(self, take_id: int, level: float) -> None:
        """Read a take's samples again with a threshold set by hand; the new take comes in the place of this one."""
        take = next((t for t in self._session.takes() if t.id == take_id), None)
        if take is not None:
            by_hand = replace(take.by_hand, level=level)
            options = replace(AS_FOUND, channel=take.channel)
            self._ask([FileToRead(Path(take.path), options, by_hand, replaces=take_id)])

    def stop(self) -> None:
        """Read no further; what was found so far stays."""
        self._waiting.clear()
        self._session.incoming.stop_reading_again()
        if self._job is not None:
            self._session.incoming.stop_job(self._job)

    def _ask(self, files: list[FileToRead]) -> None:
        if files:
            self._waiting.append(files)
            self._next()

    def _next(self) -> None:
        if self._job is None and self._waiting:
            self._job = self._session.incoming.read_files(self._waiting.popleft())

    def _tell(self, progress: Progress) -> None:
        again = self._session.incoming.reading_again and progress.job != self._job
        words = (
            tr("Reading {name} again …", name=progress.name) if again else tr("Reading {name} …", name=progress.name)
        )
        if progress.part:
            words += tr(
                " {part:.0%}, {presses} so far",
                part=progress.part,
                presses=plural(progress.presses, "press", "presses"),
            )
        self.told.emit(words)

    def _ended(self, job: int) -> None:
        if job == self._job:
            self._job = None
            self._next()
        if self._job is None and not self._session.incoming.reading_again:
            self.told.emit("")
