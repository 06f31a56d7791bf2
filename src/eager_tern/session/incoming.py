"""What the capture service is asked to read, and what it tells of it."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence

from eager_tern.casebook.changes import Change, TakePlace
from eager_tern.intake.jobs import FileToRead
from eager_tern.intake.news import JobEnded, News, PressesRead, Progress, TakeBegun, TakeRead, Trouble
from eager_tern.session.open_casebook import FEW, OpenCasebook
from eager_tern.session.presses import Came

TOLD_EVERY_S = 1.0


class Incoming:
    """Takes in what has been read of files, of live sources and again. ``change`` does what can be taken back."""

    def __init__(self, casebook: OpenCasebook, change: Callable[[Change], None]) -> None:
        self._open = casebook
        self._change = change
        self._rereading: tuple[int, set[int]] | None = None  # the job, and the takes that it reads
        self._untold, self._told_at = False, 0.0
        # News of takes whose pulses are others now: old presses stay in sight, with their pulses, until all is read.
        self._held_back: dict[int, list[PressesRead]] = {}
        self._new_takes: set[int] = set()  # of files, of which no press was selected yet
        self._read_with: dict[int, tuple[int, set[int]]] = {}  # by import: which sheets, and its takes

    def forget(self) -> None:
        """Another casebook is opened: nothing more comes of this one."""
        self._rereading = None
        self._held_back.clear()

    def hold_back(self, take_id: int) -> None:
        """A take is read with other pulses: what is told of it comes into sight when all of it has been read."""
        self._held_back.setdefault(take_id, [])

    def read_again(self, take_ids: Iterable[int]) -> None:
        """Have takes read anew. What is being read again already is begun anew, with the takes that are left of it."""
        if self._open.service is None or self._open.gadget is None:
            return
        wanted = set(take_ids)
        if self._rereading is not None:
            self._open.service.stop(self._rereading[0])
            wanted |= self._rereading[1]
        if wanted:
            job = self._open.service.read_again(sorted(wanted), self._open.gadget.id, self._open.sheets)
            self._rereading = job, wanted

    def read_files(self, files: Sequence[FileToRead]) -> int | None:
        """Have files read into the open gadget. Gives the job's number."""
        if self._open.service is None or self._open.gadget is None or not files:
            return None
        job = self._open.service.read_files(files, self._open.gadget.id, self._open.sheets)
        self._read_with[job] = self._open.sheets_version, set()
        return job

    def stop_job(self, job: int) -> None:
        """Stop reading files, or reading again."""
        if self._open.service is not None:
            self._open.service.stop(job)

    def stop_reading_again(self) -> None:
        """Read no further; what is left is read when the casebook is next opened."""
        if self._rereading is not None:
            self.stop_job(self._rereading[0])

    @property
    def reading_again(self) -> bool:
        return self._rereading is not None

    def take_in(self, news: News) -> None:
        """What the capture service tells."""
        match news:
            case TakeBegun():
                self._open.look_at_takes()
                if not news.live:
                    self._new_takes.add(news.take_id)
                    for _, takes in self._read_with.values():
                        takes.add(news.take_id)
            case PressesRead():
                self._take_in_presses(news)
            case TakeRead():
                self._take_is_read(news)
            case Progress():
                self._open.progressed.emit(news)
            case JobEnded():
                self._job_has_ended(news.job)
            case Trouble(words):
                self._open.look_at_takes()
                self._open.troubled.emit(words)

    def _take_in_presses(self, news: PressesRead) -> None:
        book = self._open.casebook
        if book is None or self._open.gadget is None or news.gadget_id != self._open.gadget.id:
            return
        if news.take_id in self._held_back:
            self._held_back[news.take_id].append(news)
            return
        if news.live or not self._open.knows_take(news.take_id):
            self._open.forget_frames(news.take_id)
        fresh = self._open.attempt(lambda: book.presses_of(news.press_ids)) or []
        new = [press for press in fresh if press.id not in self._open.presses]
        came = self._open.put(fresh)
        if came is not Came.BETWEEN and len(fresh) <= FEW:
            for press in fresh:
                self._open.press_changed.emit(press.id)
        elif came is Came.BEHIND and len(new) == len(fresh):
            self._open.presses_added.emit(tuple(press.id for press in new))
        else:
            self._tell_of_many()
        told = [press for press in new if not press.stray and not press.deleted]
        if news.live:
            changed = [press for press in fresh if not press.stray and not press.deleted]
            if changed:
                self._open.select((changed[-1].id,))
            for press in told:
                self._open.caught.emit(press.id)
        elif told and news.take_id in self._new_takes:
            self._new_takes.discard(news.take_id)
            self._open.select((told[0].id,))
        self._open.select_what_is_left()

    def _tell_of_many(self) -> None:
        """Many presses are others now; while more of them come, that is told once a second."""
        now = time.monotonic()
        self._untold = self.reading_again and now - self._told_at < TOLD_EVERY_S
        if not self._untold:
            self._told_at = now
            self._open.presses_changed.emit()

    def _tell_the_rest(self) -> None:
        if self._untold:
            self._untold = False
            self._open.presses_changed.emit()

    def _take_is_read(self, news: TakeRead) -> None:
        self._open.look_at_takes()
        if news.take_id in self._held_back:
            self._take_in_overruled(news.take_id)
        if news.replaces is not None:
            now = self._open.selected_presses()
            self._change(TakePlace(news.replaces, news.take_id))
            self._select_near(news.take_id, now[0].reading.start_us if now else 0.0)
        if self._rereading is not None:
            self._rereading[1].discard(news.take_id)
        if any(press.take_id == news.take_id for press in self._open.selected_presses()):
            self._tell_the_rest()
            self._open.selection_changed.emit()

    def _take_in_overruled(self, take_id: int) -> None:
        """A take has been read with other pulses: what was found in it comes into sight at once."""
        now = self._open.selected_presses()
        of_it = bool(now) and now[0].take_id == take_id
        self._open.forget_frames()
        for held in self._held_back.pop(take_id):
            self._take_in_presses(held)
        if of_it and (not self._open.selected or self._open.selected_presses()[0].id != now[0].id):
            self._select_near(take_id, now[0].reading.start_us)
        self._open.selection_changed.emit()

    def _select_near(self, take_id: int, at: float) -> None:
        """Of a take that is read otherwise, the press nearest to a moment (µs from its start)."""
        of_take = [press for press in self._open.shown_presses() if press.take_id == take_id]
        near = sorted(of_take, key=lambda press: abs(press.reading.start_us - at))
        self._open.select(tuple(press.id for press in near[:1]))

    def _job_has_ended(self, job: int) -> None:
        if self._rereading is not None and self._rereading[0] == job:
            for take_id in list(self._held_back):  # it was stopped: what was found until then stands
                self._take_in_overruled(take_id)
            self._rereading = None
            self._tell_the_rest()
            if not self._open.selected:
                self._open.select(tuple(press.id for press in self._open.shown_presses()[-1:]))
        version, takes = self._read_with.pop(job, (self._open.sheets_version, set()))
        if version != self._open.sheets_version:
            self.read_again(takes)
        self._open.job_ended.emit(job)
