"""Files to be read, and takes that are read again: work that can be stopped, each by a process of its own."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct, field

from eager_tern.casebook.values import PassageRead
from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, ReadOptions
from eager_tern.intake.keeping import keep_pulses
from eager_tern.intake.news import JobEnded, Progress, TakeBegun, TakeRead, Trouble
from eager_tern.intake.readers import Reader, Readers
from eager_tern.intake.reading_process import Answer, BeginTake, Fed, Feed, FileEnd, ReadFile, TakeFound
from eager_tern.intake.to_disk import ToDisk
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.bursts import GapSettings
from eager_tern.signal.by_hand import FOUND_OUT, ByHand
from eager_tern.signal.quality import advice_on
from eager_tern.signal.values import NO_PULSES, Pulses, signed_from_start


class FileToRead(Struct, frozen=True):
    """A file, and what somebody says of it. ``replaces`` is the take whose samples it holds, which it takes the place
    of.
    """

    path: Path
    options: ReadOptions = AS_FOUND
    by_hand: ByHand = FOUND_OUT
    replaces: int | None = None


class _Job(Struct):
    """Work that can be stopped: files, or takes that are read again."""

    number: int
    gadget_id: int
    reader: Reader
    sheets: Sequence[Sheet]
    files: deque[FileToRead] = field(default_factory=deque)
    takes: deque[int] = field(default_factory=deque)
    name: str = ""
    file: FileToRead | None = None
    take_id: int | None = None
    pulses: Pulses = NO_PULSES
    rate_hz: float | None = None
    frames: int = 0
    presses: int = 0
    incomplete: bool = False  # something that was read of this take is not on disk


class Jobs:
    """The jobs at work, by their numbers. ``read_running`` reads a take that is still being recorded, with other
    sheets; False if it is none.
    """

    def __init__(self, disk: ToDisk, readers: Readers, read_running: Callable[[int, Sequence[Sheet]], bool]) -> None:
        self._disk = disk
        self._readers = readers
        self._read_running = read_running
        self._jobs: dict[int, _Job] = {}

    @property
    def are_done(self) -> bool:
        return not self._jobs

    def begin(
        self,
        number: int,
        gadget_id: int,
        sheets: Sequence[Sheet],
        files: Sequence[FileToRead] = (),
        takes: Sequence[int] = (),
    ) -> None:
        """Read files, or takes anew, one after the other into a gadget."""
        job = _Job(number, gadget_id, self._readers.take(), sheets, deque(files), deque(takes))
        job.reader.answered = lambda answer: self._answer(job, answer)
        self._jobs[number] = job
        self._next(job)

    def stop(self, number: int) -> None:
        """Stop a job; what it has found so far stays."""
        job = self._jobs.pop(number, None)
        if job is None:
            return
        self._readers.end(job.reader)
        if job.take_id is not None and job.file is not None:  # the user wants no more of it
            self._disk.book.set_read_whole(job.take_id, not self._disk.closing)
        self._disk.tell(JobEnded(number, stopped=True))

    def stop_all(self) -> None:
        """Stop whatever is at work."""
        for number in list(self._jobs):
            self.stop(number)

    def let_go(self) -> None:
        """Stop reading, without a word."""
        for job in self._jobs.values():
            self._readers.end(job.reader)

    def _next(self, job: _Job) -> None:
        """The next file or take of a job."""
        if job.files:
            job.file = job.files.popleft()
            job.name, job.take_id, job.presses = job.file.path.name, None, 0
            self._report(job, 0.0)
            job.reader.asked.put(ReadFile(job.file.path, job.sheets, job.file.options, job.file.by_hand))
        elif job.takes:
            take = self._disk.book.take(job.takes.popleft())
            job.take_id, job.name = take.id, take.source
            self._report(job, 0.0)
            if self._read_running(take.id, job.sheets):
                self._next(job)
                return
            job.pulses = self._disk.book.take_pulses(take.id)
            gaps = GapSettings(take.by_hand.gap_us)
            self._disk.book.set_read_whole(take.id, False)
            job.reader.asked.put(BeginTake(job.sheets, gaps, take.cut, take.carrier_hz, take.measured.faint))
            job.reader.asked.put(Feed(signed_from_start(job.pulses), ends=True))
        else:
            del self._jobs[job.number]
            self._readers.give_back(job.reader)
            self._disk.tell(JobEnded(job.number))

    def _answer(self, job: _Job, answer: Answer | None) -> None:
        match answer:
            case TakeFound(found):
                self._advise(job)
                job.pulses, job.rate_hz = found.take.pulses, found.capture.sample_rate_hz
                for warning in found.capture.warnings:
                    self._disk.tell(Trouble(f"{job.name}: {warning}; what could be read of it is here"))
                job.take_id, job.frames, job.presses = keep_pulses(self._disk.book, job.gadget_id, found), 0, 0
                if job.file is not None and job.file.replaces is not None:  # in sight when it has been read
                    self._disk.book.set_hidden(job.take_id, True)
                self._disk.tell(TakeBegun(job.take_id, job.gadget_id, live=False))
            case PassageRead() if job.take_id is not None:
                try:
                    job.presses += self._disk.keep_passage(job.take_id, job.gadget_id, answer, live=False)
                except InputError:
                    job.incomplete = True
                    raise
                job.frames += sum(len(press.frames) for press in answer.presses)
                self._report(job, min(answer.to_us / max(job.pulses.end_us, 1.0), 1.0))
            case Fed():
                self._take_is_read(job)
                self._next(job)
            case FileEnd(reason):
                if reason:
                    self._disk.tell(Trouble(reason))
                self._advise(job)
                self._next(job)
            case None:
                self._disk.tell(
                    Trouble(f"{job.name}: reading it failed; it may be too large for this machine's memory")
                )
                self._readers.end(job.reader)
                job.reader = self._readers.take()
                job.reader.answered = lambda answer: self._answer(job, answer)
                job.take_id = None
                self._next(job)

    def _take_is_read(self, job: _Job) -> None:
        if job.take_id is not None:
            self._disk.book.set_read_whole(job.take_id, not job.incomplete)  # what is not is read at the next opening
            job.incomplete = False
            replaces = job.file.replaces if job.file is not None else None
            self._disk.tell(TakeRead(job.take_id, job.gadget_id, replaces))

    def _advise(self, job: _Job) -> None:
        """A take of a file has been read: say what is wrong with it."""
        if job.take_id is None or job.file is None:
            return
        advice = advice_on(job.pulses, job.rate_hz, job.frames)
        for words in advice:
            self._disk.tell(Trouble(f"{job.name}: {words}"))
        if not job.frames and not advice:
            self._disk.tell(Trouble(f"{job.name}: no frames were found in it; the recording is kept"))
        self._take_is_read(job)
        job.take_id = None

    def _report(self, job: _Job, part: float | None) -> None:
        self._disk.tell(Progress(job.number, job.name, part, job.presses))
