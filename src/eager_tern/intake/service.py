"""The capture service: what is heard goes to disk at once, is read elsewhere, and what was read is told as values.

It has a thread and a connection of its own, so that nothing the window does can hold it up. Files, live sources, what
an open ear has kept and takes that are read again all go through it.
"""

from __future__ import annotations

import logging
import time
from collections import deque
from collections.abc import Callable, Sequence
from itertools import count
from pathlib import Path
from queue import Empty, SimpleQueue
from threading import Thread

import numpy as np
from msgspec import Struct, field

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import PassageRead
from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, ReadOptions
from eager_tern.intake.keeping import keep_pulses
from eager_tern.intake.news import CasebookGone, JobEnded, News, PressesRead, Progress, TakeBegun, TakeRead, Trouble
from eager_tern.intake.readers import Reader, Readers
from eager_tern.intake.reading_process import Answer, BeginTake, Fed, Feed, FileEnd, ReadFile, TakeFound, Turned
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import LOOK_PULSES
from eager_tern.signal.assumed import SURE_GAP_US
from eager_tern.signal.bursts import GapSettings
from eager_tern.signal.by_hand import FOUND_OUT, ByHand
from eager_tern.signal.quality import advice_on, rests_in_marks
from eager_tern.signal.values import NO_PULSES, Floats, Pulses, merged_durations, signed_from_start

FLUSH_S = 0.1  # how often what is heard goes to disk: well within the second that a crash may cost
RETRY_S = 1.0  # how often a disk that refused is asked again
TOLD_TOGETHER = 200  # presses in one piece of news: a window takes them in within some ten milliseconds
MOST_WAITING = 2_000_000  # durations not read yet, 16 MB: beyond, they are read from the disk when the take has ended
LAST_WAIT_S = (
    1.0  # for what is being read when the service is closed; the rest is read when the casebook is next opened
)
TURNED = "The source's levels are inverted: marks and spaces are taken the other way round from here on."
log = logging.getLogger(__name__)


class FileToRead(Struct, frozen=True):
    """A file, and what somebody says of it. ``replaces`` is the take whose samples it holds, which it takes the place
    of.
    """

    path: Path
    options: ReadOptions = AS_FOUND
    by_hand: ByHand = FOUND_OUT
    replaces: int | None = None


class _Live(Struct):
    """A take that is being recorded, or was and is not read to its end."""

    take_id: int
    gadget_id: int
    sheets: Sequence[Sheet]
    reader: Reader
    unsaved: list[Floats] = field(default_factory=list)
    waiting: list[Floats] = field(default_factory=list)  # on disk, not yet given to the reader
    waiting_size: int = 0
    unkept: deque[PassageRead] = field(default_factory=deque)  # read, not yet on disk
    reading: bool = False
    ended: bool = False
    last_fed: bool = False
    behind: bool = False  # too much waits: the rest is read from the disk in the end
    began: bool = False  # whether its polarity is settled
    turned: bool = False


class _Job(Struct):
    """Work that can be stopped: files, or takes that are read again."""

    number: int
    gadget_id: int
    reader: Reader
    sheets: Sequence[Sheet]
    files: deque[FileToRead] = field(default_factory=deque)
    takes: deque[int] = field(default_factory=deque)
    total: int = 1
    name: str = ""
    file: FileToRead | None = None
    take_id: int | None = None
    pulses: Pulses = NO_PULSES
    rate_hz: float | None = None
    frames: int = 0
    presses: int = 0
    found: int = 0
    incomplete: bool = False  # something that was read of this take is not on disk


class CaptureService:
    """Works for one casebook, in a thread of its own, until it is closed. No method waits for anything but ``close``.

    ``tell`` is called in the service's thread.
    """

    def __init__(self, casebook: Casebook, tell: Callable[[News], None]) -> None:
        self._casebook = casebook
        self._tell = tell
        self._inbox: SimpleQueue[Callable[[], None]] = SimpleQueue()
        self._readers = Readers(self._inbox.put)
        self._live: _Live | None = None
        self._finishing: list[_Live] = []
        self._jobs: dict[int, _Job] = {}
        self._numbers = count(1)
        self._closing = False
        self._until = 0.0
        self._refused_at: float | None = None
        self._gone = False
        self._left: list[tuple[int, Floats]] = []
        self._thread = Thread(target=self._run, name="capture", daemon=True)
        self._thread.start()

    # What others ask for, from any thread

    def begin(self, gadget_id: int, source: str, sheets: Sequence[Sheet]) -> None:
        """Begin a take of a live source."""
        started_at = time.time()
        self._inbox.put(lambda: self._begin(gadget_id, source, sheets, started_at))

    def hear(self, signed_us: Floats) -> None:
        """Durations of the take that was begun: on disk within a second, then read."""
        self._inbox.put(lambda: self._hear(signed_us))

    def end(self) -> None:
        """The take has ended. It is read to its end while others may begin."""
        self._inbox.put(self._end)

    def read_files(self, files: Sequence[FileToRead], gadget_id: int, sheets: Sequence[Sheet]) -> int:
        """Read files one after the other into a gadget. Gives the job's number."""
        number = next(self._numbers)
        self._inbox.put(lambda: self._begin_job(number, gadget_id, sheets, files=files))
        return number

    def read_again(self, take_ids: Sequence[int], gadget_id: int, sheets: Sequence[Sheet]) -> int:
        """Read takes anew from their raw pulses; the one that is being recorded, too. Gives the job's number."""
        number = next(self._numbers)
        self._inbox.put(lambda: self._begin_job(number, gadget_id, sheets, takes=take_ids))
        return number

    def stop(self, job: int) -> None:
        """Stop a job; what it has found so far stays."""
        self._inbox.put(lambda: self._stop(job))

    def close(self) -> list[tuple[int, Floats]]:
        """End whatever goes on, with everything that was heard on disk, and let go of the casebook.

        Gives what no disk would take: takes, and durations that belong behind those that they have.
        """
        self._inbox.put(self._close)
        self._thread.join()
        return self._left

    # The thread

    def _run(self) -> None:
        try:
            self._book = self._casebook.join()
        except InputError as error:
            gone = not self._casebook.still_there  # deleted before this thread came to open it
            self._tell(CasebookGone(self._casebook.path) if gone else Trouble(str(error)))
            return
        flushed = looked = time.monotonic()
        try:
            while not (self._closing and self._at_rest()):
                try:
                    work = self._inbox.get(timeout=FLUSH_S / 2)
                except Empty:
                    work = None
                try:
                    if work is not None:
                        work()
                    now = time.monotonic()
                    if now - flushed >= FLUSH_S:
                        self._flush()
                        flushed = now
                    if now - looked >= RETRY_S:
                        self._look_after_the_file()
                        looked = now
                except InputError as error:
                    self._tell(Trouble(str(error)))
                except Exception:
                    log.exception("the capture service met a fault")
                    self._tell(Trouble("Something went wrong in reading; the raw pulses are kept. The log says more."))
        finally:
            self._let_go()

    def _at_rest(self) -> bool:
        """Whether there is nothing more to wait for before the end."""
        if time.monotonic() > self._until:
            return True
        return not self._finishing and self._inbox.empty()

    def _close(self) -> None:
        self._end()
        for job in list(self._jobs):
            self._stop(job)
        self._flush()
        self._closing, self._until = True, time.monotonic() + LAST_WAIT_S

    def _let_go(self) -> None:
        for live in [*self._finishing, *([self._live] if self._live is not None else [])]:
            if live.unsaved:
                self._left.append((live.take_id, np.concatenate(live.unsaved)))
            self._readers.end(live.reader)
        for job in self._jobs.values():
            self._readers.end(job.reader)
        self._readers.end_idle()
        self._book.close()

    def _look_after_the_file(self) -> None:
        if not self._casebook.still_there and not self._gone:
            self._gone = True
            self._tell(CasebookGone(self._book.path))
        if not self._jobs and self._live is None:
            self._book.tidy()

    # A live take

    def _begin(self, gadget_id: int, source: str, sheets: Sequence[Sheet], started_at: float) -> None:
        self._end()
        take_id = self._book.add_take(gadget_id, source, "recorder", started_at=started_at, read_whole=False)
        live = self._live = _Live(take_id, gadget_id, sheets, self._readers.take())
        live.reader.answered = lambda answer: self._answer_live(live, answer)
        live.reader.asked.put(BeginTake(sheets, GapSettings(), at_once=True))
        self._tell(TakeBegun(take_id, gadget_id, live=True))

    def _hear(self, signed_us: Floats) -> None:
        if self._live is not None and signed_us.size:
            self._live.unsaved.append(signed_us)

    def _end(self) -> None:
        if self._live is None:
            return
        live, self._live = self._live, None
        live.ended = True
        self._finishing.append(live)
        self._flush()

    def _flush(self) -> None:
        """What was heard to disk, then to its readers."""
        for live in [*self._finishing, *([self._live] if self._live is not None else [])]:
            self._save(live)
            self._keep_read(live)
            self._feed(live)
            self._finish_live(live)

    def _save(self, live: _Live) -> None:
        if not live.unsaved:
            return
        heard = np.concatenate(live.unsaved)
        live.unsaved = [heard]
        if not self._is_taken(lambda: self._book.append_durations(live.take_id, heard)):
            return
        live.unsaved.clear()
        if not live.began and not live.turned:
            self._settle_polarity(live, heard)
        live.waiting.append(-heard if live.turned else heard)
        live.waiting_size += heard.size
        if live.waiting_size > MOST_WAITING:
            live.behind = True
        if live.behind:
            live.waiting.clear()
            live.waiting_size = 0

    def _is_taken(self, write: Callable[[], object]) -> bool:
        """Whether the disk takes something. Where it does not, that is said once, and it is tried again later."""
        now = time.monotonic()
        if self._refused_at is not None and now - self._refused_at < RETRY_S and not self._closing:
            return False
        try:
            write()
        except InputError as error:
            if self._refused_at is None:
                self._tell(Trouble(f"{error}; what is recorded meanwhile is kept in memory and written when it can be"))
            self._refused_at = now
            return False
        if self._refused_at is not None:
            self._refused_at = None
            self._tell(Trouble(f"{self._book.path.name} can be written again; nothing was lost."))
        return True

    def _keep_read(self, live: _Live) -> None:
        """What was read to disk, and told."""

        def keep() -> None:
            self._keep_passage(live.take_id, live.gadget_id, live.unkept[0], live=True)

        while live.unkept and self._is_taken(keep):
            live.unkept.popleft()

    def _settle_polarity(self, live: _Live, heard: Floats) -> None:
        """A source may take its marks for spaces: its silences show it."""
        so_far = merged_durations(np.concatenate([*live.waiting, heard]))
        if rests_in_marks(so_far, SURE_GAP_US):
            if self._turn(live):
                live.waiting = [-part for part in live.waiting]
        elif (so_far <= -SURE_GAP_US).any() or so_far.size > LOOK_PULSES:
            live.began = True

    def _turn(self, live: _Live) -> bool:
        turned = self._is_taken(lambda: self._book.set_by_hand(live.take_id, ByHand(polarity="mark-low")))
        if turned:
            live.turned = True
            self._tell(Trouble(TURNED))
        return turned

    def _read_turned(self, live: _Live) -> None:
        """A line that never rests shows by its frames alone that it is inverted: it is read anew from its beginning."""
        if live.turned or live.behind or not self._turn(live):
            return
        live.unkept.clear()
        live.reader.asked.put(BeginTake(live.sheets, GapSettings(), at_once=True))
        live.waiting = [-self._book.take_durations(live.take_id)]
        live.waiting_size = live.waiting[0].size
        live.last_fed = False

    def _feed(self, live: _Live) -> None:
        """Give the reader what waits for it, if it has read what it had."""
        if live.reading or live.last_fed:
            return
        settled = live.began or live.turned or live.ended
        last = live.ended and not live.unsaved
        if not last and (not live.waiting or not settled or live.behind):
            return
        signed = np.concatenate(live.waiting) if live.waiting else np.empty(0)
        live.waiting.clear()
        live.waiting_size = 0
        live.reading, live.last_fed = True, last
        live.reader.asked.put(Feed(signed, ends=last))

    def _answer_live(self, live: _Live, answer: Answer | None) -> None:
        match answer:
            case PassageRead():
                live.unkept.append(answer)
                self._keep_read(live)
            case Turned():
                self._read_turned(live)
            case Fed():
                live.reading = False
                self._feed(live)
                self._finish_live(live)
            case None:
                self._readers.end(live.reader)
                if live is self._live:
                    live.behind = True
                    live.reading = False
                    live.reader = self._readers.take()
                    live.reader.answered = lambda answer: self._answer_live(live, answer)
                    self._tell(Trouble("The process that reads has ended; this take is read when it is over."))
                elif live in self._finishing:
                    self._finishing.remove(live)

    def _finish_live(self, live: _Live) -> None:
        """Let a take go that is over, read and kept."""
        if live not in self._finishing or not live.last_fed or live.reading or live.unkept:
            return
        self._finishing.remove(live)
        self._readers.give_back(live.reader)
        if live.behind:
            self._begin_job(next(self._numbers), live.gadget_id, live.sheets, takes=(live.take_id,))
            return
        self._book.set_read_whole(live.take_id, True)
        self._tell(TakeRead(live.take_id, live.gadget_id))

    def _keep_passage(self, take_id: int, gadget_id: int, passage: PassageRead, live: bool) -> int:
        """Keep what was read, and tell it a few hundred presses at a time. Gives how many presses are in it."""
        changed = self._book.put_passage(take_id, passage)
        for at in range(0, len(changed), TOLD_TOGETHER):
            self._tell(PressesRead(take_id, gadget_id, tuple(changed[at : at + TOLD_TOGETHER]), live))
        return len(passage.presses)

    # Files, and takes read again

    def _begin_job(
        self,
        number: int,
        gadget_id: int,
        sheets: Sequence[Sheet],
        files: Sequence[FileToRead] = (),
        takes: Sequence[int] = (),
    ) -> None:
        job = _Job(number, gadget_id, self._readers.take(), sheets, deque(files), deque(takes), len(files) + len(takes))
        job.reader.answered = lambda answer: self._answer_job(job, answer)
        self._jobs[number] = job
        self._next(job)

    def _next(self, job: _Job) -> None:
        """The next file or take of a job."""
        if job.files:
            job.file = job.files.popleft()
            job.name, job.take_id, job.presses = job.file.path.name, None, 0
            self._report(job, 0.0)
            job.reader.asked.put(ReadFile(job.file.path, job.sheets, job.file.options, job.file.by_hand))
        elif job.takes:
            take = self._book.take(job.takes.popleft())
            job.take_id, job.name = take.id, take.source
            self._report(job, 0.0)
            running = self._live
            if running is not None and running.take_id == take.id:
                self._read_running_again(running, job.sheets)
                self._next(job)
                return
            job.pulses = self._book.take_pulses(take.id)
            gaps = GapSettings(take.by_hand.gap_us)
            self._book.set_read_whole(take.id, False)
            job.reader.asked.put(BeginTake(job.sheets, gaps, take.cut, take.carrier_hz, take.measured.faint))
            job.reader.asked.put(Feed(signed_from_start(job.pulses), ends=True))
        else:
            del self._jobs[job.number]
            self._readers.give_back(job.reader)
            self._tell(JobEnded(job.number))

    def _read_running_again(self, live: _Live, sheets: Sequence[Sheet]) -> None:
        """The take that is being recorded, from its beginning, with other sheets."""
        self._readers.end(live.reader)
        live.sheets, live.reader = sheets, self._readers.take()
        live.reader.answered = lambda answer: self._answer_live(live, answer)
        live.reader.asked.put(BeginTake(sheets, GapSettings(), at_once=True))
        signed = self._book.take_durations(live.take_id)
        live.waiting = [-signed if live.turned else signed]
        live.waiting_size, live.reading = signed.size, False
        self._feed(live)

    def _answer_job(self, job: _Job, answer: Answer | None) -> None:
        match answer:
            case TakeFound(found):
                self._advise(job)
                job.pulses, job.rate_hz = found.take.pulses, found.capture.sample_rate_hz
                for warning in found.capture.warnings:
                    self._tell(Trouble(f"{job.name}: {warning}; what could be read of it is here"))
                job.take_id, job.frames, job.presses = keep_pulses(self._book, job.gadget_id, found), 0, 0
                if job.file is not None and job.file.replaces is not None:  # in sight when it has been read
                    self._book.set_hidden(job.take_id, True)
                self._tell(TakeBegun(job.take_id, job.gadget_id, live=False))
            case PassageRead() if job.take_id is not None:
                try:
                    job.presses += self._keep_passage(job.take_id, job.gadget_id, answer, live=False)
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
                    self._tell(Trouble(reason))
                self._advise(job)
                self._next(job)
            case None:
                self._tell(Trouble(f"{job.name}: reading it failed; it may be too large for this machine's memory"))
                self._readers.end(job.reader)
                job.reader = self._readers.take()
                job.reader.answered = lambda answer: self._answer_job(job, answer)
                job.take_id = None
                self._next(job)

    def _take_is_read(self, job: _Job) -> None:
        if job.take_id is not None:
            self._book.set_read_whole(job.take_id, not job.incomplete)  # what is not is read at the next opening
            job.incomplete = False
            replaces = job.file.replaces if job.file is not None else None
            self._tell(TakeRead(job.take_id, job.gadget_id, replaces))

    def _advise(self, job: _Job) -> None:
        """A take of a file has been read: say what is wrong with it."""
        if job.take_id is None or job.file is None:
            return
        advice = advice_on(job.pulses, job.rate_hz, job.frames)
        for words in advice:
            self._tell(Trouble(f"{job.name}: {words}"))
        if not job.frames and not advice:
            self._tell(Trouble(f"{job.name}: no frames were found in it; the recording is kept"))
        self._take_is_read(job)
        job.take_id = None

    def _report(self, job: _Job, part: float | None) -> None:
        self._tell(Progress(job.number, job.name, part, job.presses))

    def _stop(self, number: int) -> None:
        job = self._jobs.pop(number, None)
        if job is None:
            return
        self._readers.end(job.reader)
        if job.take_id is not None and job.file is not None:  # the user wants no more of it
            self._book.set_read_whole(job.take_id, not self._closing)
        self._tell(JobEnded(number, stopped=True))
