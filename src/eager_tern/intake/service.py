"""The capture service: what is heard goes to disk at once, is read elsewhere, and what was read is told as values.

It has a thread and a connection of its own, so that nothing the window does can hold it up. Files, live sources, what
an open ear has kept and takes that are read again all go through it.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Sequence
from itertools import count
from queue import Empty, SimpleQueue
from threading import Thread

from eager_tern.casebook.store import Casebook
from eager_tern.errors import InputError
from eager_tern.intake.jobs import FileToRead, Jobs
from eager_tern.intake.live_takes import LiveTake, LiveTakes
from eager_tern.intake.news import CasebookGone, News, Trouble
from eager_tern.intake.readers import Readers
from eager_tern.intake.to_disk import ToDisk
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Floats

FLUSH_S = 0.1  # how often what is heard goes to disk: well within the second that a crash may cost
LOOK_S = 1.0  # how often it is seen whether the file is still there
# For what is being read when the service is closed; the rest is read when the casebook is next opened.
LAST_WAIT_S = 1.0
log = logging.getLogger(__name__)


class CaptureService:
    """Works for one casebook, in a thread of its own, until it is closed. No method waits for anything but ``close``.

    ``tell`` is called in the service's thread.
    """

    def __init__(self, casebook: Casebook, tell: Callable[[News], None]) -> None:
        self._casebook = casebook
        self._tell = tell
        self._inbox: SimpleQueue[Callable[[], None]] = SimpleQueue()
        self._readers = Readers(self._inbox.put)
        self._disk: ToDisk
        self._live: LiveTakes
        self._jobs: Jobs
        self._numbers = count(1)
        self._until = 0.0
        self._gone = False
        self._left: list[tuple[int, Floats]] = []
        self._thread = Thread(target=self._run, name="capture", daemon=True)
        self._thread.start()

    # What others ask for, from any thread

    def begin(self, gadget_id: int, source: str, sheets: Sequence[Sheet]) -> None:
        """Begin a take of a live source."""
        started_at = time.time()
        self._inbox.put(lambda: self._live.begin(gadget_id, source, sheets, started_at))

    def hear(self, signed_us: Floats) -> None:
        """Durations of the take that was begun: on disk within a second, then read."""
        self._inbox.put(lambda: self._live.hear(signed_us))

    def end(self) -> None:
        """The take has ended. It is read to its end while others may begin."""
        self._inbox.put(lambda: self._live.end())

    def read_files(self, files: Sequence[FileToRead], gadget_id: int, sheets: Sequence[Sheet]) -> int:
        """Read files one after the other into a gadget. Gives the job's number."""
        number = next(self._numbers)
        self._inbox.put(lambda: self._jobs.begin(number, gadget_id, sheets, files=files))
        return number

    def read_again(self, take_ids: Sequence[int], gadget_id: int, sheets: Sequence[Sheet]) -> int:
        """Read takes anew from their raw pulses; the one that is being recorded, too. Gives the job's number."""
        number = next(self._numbers)
        self._inbox.put(lambda: self._jobs.begin(number, gadget_id, sheets, takes=take_ids))
        return number

    def stop(self, job: int) -> None:
        """Stop a job; what it has found so far stays."""
        self._inbox.put(lambda: self._jobs.stop(job))

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
            self._disk = ToDisk(self._casebook.join(), self._tell)
        except InputError as error:
            gone = not self._casebook.still_there  # deleted before this thread came to open it
            self._tell(CasebookGone(self._casebook.path) if gone else Trouble(str(error)))
            return
        self._live = LiveTakes(self._disk, self._readers, self._read_later)
        self._jobs = Jobs(self._disk, self._readers, self._live.read_again)
        flushed = looked = time.monotonic()
        try:
            while not (self._disk.closing and self._at_rest()):
                try:
                    work = self._inbox.get(timeout=FLUSH_S / 2)
                except Empty:
                    work = None
                try:
                    if work is not None:
                        work()
                    now = time.monotonic()
                    if now - flushed >= FLUSH_S:
                        self._live.flush()
                        flushed = now
                    if now - looked >= LOOK_S:
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
        return self._live.are_read and self._inbox.empty()

    def _read_later(self, live: LiveTake) -> None:
        self._jobs.begin(next(self._numbers), live.gadget_id, live.sheets, takes=(live.take_id,))

    def _close(self) -> None:
        self._disk.closing, self._until = True, time.monotonic() + LAST_WAIT_S
        self._live.end()
        self._jobs.stop_all()
        self._live.flush()

    def _let_go(self) -> None:
        self._left = self._live.let_go()
        self._jobs.let_go()
        self._readers.end_idle()
        self._disk.book.close()

    def _look_after_the_file(self) -> None:
        if not self._casebook.still_there and not self._gone:
            self._gone = True
            self._tell(CasebookGone(self._casebook.path))
        if self._jobs.are_done and self._live.running is None:
            self._disk.book.tidy()
