"""Takes of a live source: what is heard goes to disk at once, then to the process that reads it."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence

import numpy as np
from msgspec import Struct, field

from eager_tern.casebook.values import PassageRead
from eager_tern.intake.news import TakeBegun, TakeRead, Trouble
from eager_tern.intake.readers import Reader, Readers
from eager_tern.intake.reading_process import Answer, BeginTake, Fed, Feed, Turned
from eager_tern.intake.to_disk import ToDisk
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import LOOK_PULSES
from eager_tern.signal.assumed import SURE_GAP_US
from eager_tern.signal.bursts import GapSettings
from eager_tern.signal.by_hand import ByHand
from eager_tern.signal.quality import rests_in_marks
from eager_tern.signal.values import Floats, merged_durations

MOST_WAITING = 2_000_000  # durations not read yet, 16 MB: beyond, they are read from the disk when the take has ended
TURNED = "The source's levels are inverted: marks and spaces are taken the other way round from here on."


class LiveTake(Struct):
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


class LiveTakes:
    """The take that is ``running``, and those that have ended and are not read to their end.

    ``read_later`` is asked to read one from the disk that came in faster than it could be read.
    """

    def __init__(self, disk: ToDisk, readers: Readers, read_later: Callable[[LiveTake], None]) -> None:
        self._disk = disk
        self._readers = readers
        self._read_later = read_later
        self.running: LiveTake | None = None
        self._finishing: list[LiveTake] = []

    @property
    def are_read(self) -> bool:
        """Whether all that have ended are read."""
        return not self._finishing

    @property
    def _all(self) -> list[LiveTake]:
        return [*self._finishing, *([self.running] if self.running is not None else [])]

    def begin(self, gadget_id: int, source: str, sheets: Sequence[Sheet], started_at: float) -> None:
        """Begin a take of a live source; one that is running ends."""
        self.end()
        take_id = self._disk.book.add_take(gadget_id, source, "recorder", started_at=started_at, read_whole=False)
        live = self.running = LiveTake(take_id, gadget_id, sheets, self._readers.take())
        live.reader.answered = lambda answer: self._answer(live, answer)
        self._begin_reading(live)
        self._disk.tell(TakeBegun(take_id, gadget_id, live=True))

    def hear(self, signed_us: Floats) -> None:
        """Durations of the running take."""
        if self.running is not None and signed_us.size:
            self.running.unsaved.append(signed_us)

    def end(self) -> None:
        """The running take has ended; it is read to its end while others may begin."""
        if self.running is None:
            return
        live, self.running = self.running, None
        live.ended = True
        self._finishing.append(live)
        self.flush()

    def flush(self) -> None:
        """What was heard to disk, then to its readers."""
        for live in self._all:
            self._save(live)
            self._keep_read(live)
            self._feed(live)
            self._finish(live)

    def read_again(self, take_id: int, sheets: Sequence[Sheet]) -> bool:
        """Read the running take from its beginning with other sheets; False if it is not that one."""
        live = self.running
        if live is None or live.take_id != take_id:
            return False
        self._readers.end(live.reader)
        live.sheets = sheets
        self._take_reader(live)
        self._begin_reading(live)
        signed = self._disk.book.take_durations(take_id)
        live.waiting = [-signed if live.turned else signed]
        live.waiting_size, live.reading = signed.size, False
        self._feed(live)
        return True

    def let_go(self) -> list[tuple[int, Floats]]:
        """Stop reading. Gives what no disk would take: takes, and durations that belong behind those that they have."""
        left = [(live.take_id, np.concatenate(live.unsaved)) for live in self._all if live.unsaved]
        for live in self._all:
            self._readers.end(live.reader)
        return left

    def _take_reader(self, live: LiveTake) -> None:
        live.reader = self._readers.take()
        live.reader.answered = lambda answer: self._answer(live, answer)

    def _begin_reading(self, live: LiveTake) -> None:
        live.reader.asked.put(BeginTake(live.sheets, GapSettings(), at_once=True))

    def _save(self, live: LiveTake) -> None:
        if not live.unsaved:
            return
        heard = np.concatenate(live.unsaved)
        live.unsaved = [heard]
        if not self._disk.takes(lambda: self._disk.book.append_durations(live.take_id, heard)):
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

    def _keep_read(self, live: LiveTake) -> None:
        """What was read to disk, and told."""

        def keep() -> None:
            self._disk.keep_passage(live.take_id, live.gadget_id, live.unkept[0], live=True)

        while live.unkept and self._disk.takes(keep):
            live.unkept.popleft()

    def _settle_polarity(self, live: LiveTake, heard: Floats) -> None:
        """A source may take its marks for spaces: its silences show it."""
        so_far = merged_durations(np.concatenate([*live.waiting, heard]))
        if rests_in_marks(so_far, SURE_GAP_US):
            if self._turn(live):
                live.waiting = [-part for part in live.waiting]
        elif (so_far <= -SURE_GAP_US).any() or so_far.size > LOOK_PULSES:
            live.began = True

    def _turn(self, live: LiveTake) -> bool:
        turned = self._disk.takes(lambda: self._disk.book.set_by_hand(live.take_id, ByHand(polarity="mark-low")))
        if turned:
            live.turned = True
            self._disk.tell(Trouble(TURNED))
        return turned

    def _read_turned(self, live: LiveTake) -> None:
        """A line that never rests shows by its frames alone that it is inverted: it is read anew from its beginning."""
        if live.turned or live.behind or not self._turn(live):
            return
        live.unkept.clear()
        self._begin_reading(live)
        live.waiting = [-self._disk.book.take_durations(live.take_id)]
        live.waiting_size = live.waiting[0].size
        live.last_fed = False

    def _feed(self, live: LiveTake) -> None:
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

    def _answer(self, live: LiveTake, answer: Answer | None) -> None:
        match answer:
            case PassageRead():
                live.unkept.append(answer)
                self._keep_read(live)
            case Turned():
                self._read_turned(live)
            case Fed():
                live.reading = False
                self._feed(live)
                self._finish(live)
            case None:
                self._readers.end(live.reader)
                if live is self.running:
                    live.behind = True
                    live.reading = False
                    self._take_reader(live)
                    self._disk.tell(Trouble("The process that reads has ended; this take is read when it is over."))
                elif live in self._finishing:
                    self._finishing.remove(live)

    def _finish(self, live: LiveTake) -> None:
        """Let a take go that is over, read and kept."""
        if live not in self._finishing or not live.last_fed or live.reading or live.unkept:
            return
        self._finishing.remove(live)
        self._readers.give_back(live.reader)
        if live.behind:
            self._read_later(live)
            return
        self._disk.book.set_read_whole(live.take_id, True)
        self._disk.tell(TakeRead(live.take_id, live.gadget_id))
