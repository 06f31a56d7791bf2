"""The open casebook and what is selected in it: the one thing every view looks at."""

from __future__ import annotations

import gc
import logging
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from typing import TypeVar

from eager_tern.casebook.changes import Change, History, KeepSheet, Label, Overrule, PlanShots, Rename, TakePlace
from eager_tern.casebook.keys import Key, table_of_keys
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.tally import Tally
from eager_tern.casebook.values import Caught, Gadget, Take
from eager_tern.errors import InputError
from eager_tern.intake.news import CasebookGone, JobEnded, News, PressesRead, Progress, TakeBegun, TakeRead, Trouble
from eager_tern.intake.service import CaptureService, FileToRead
from eager_tern.places import casebooks_folder, sheets_folder
from eager_tern.protocol.describing import Assumed, assumed_in, describe, says_the_same
from eager_tern.protocol.loading import library, load_sheet, parse_sheet, sheets_in, with_own
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.schema import Sheet
from eager_tern.session.events import Event
from eager_tern.session.frames import Frames, get_ready
from eager_tern.session.inbox import Inbox, Slices
from eager_tern.session.opening import (
    Unwritten,
    begun,
    begun_today,
    copied,
    opened,
    place_for_lost,
    rescued,
    with_parcel,
)
from eager_tern.session.presses import Came, Presses
from eager_tern.signal.by_hand import ByHand
from eager_tern.signal.values import Floats, Pulses
from eager_tern.texts import tr

Result = TypeVar("Result")
UNNAMED = "Unnamed gadget"
SAID_BY_HAND = "by-hand"  # the id of the sheet that says what somebody knows better
FEW = 8  # presses that are told one by one
TOLD_EVERY_S = 1.0
log = logging.getLogger(__name__)


class Session:
    """Views read it and are told by its events what to look at again; commands change it.

    It belongs to one thread; what the capture service tells comes through the inbox.
    """

    def __init__(self, inbox: Inbox | None = None) -> None:
        self.inbox = inbox or Inbox()
        self.emptied: Event[[]] = Event()  # what was there is gone, and nothing is in its place yet
        self.opened: Event[[]] = Event()  # another casebook, or another gadget of it
        self.presses_changed: Event[[]] = Event()  # many presses
        self.presses_added: Event[[tuple[int, ...]]] = Event()  # several, behind all that were there
        self.press_changed: Event[[int]] = Event()  # one press is new, has more repeats or another label
        self.selection_changed: Event[[]] = Event()
        self.history_changed: Event[[]] = Event()
        self.changed: Event[[Change]] = Event()  # a change was made or taken back
        self.caught: Event[[int]] = Event()  # a press has come from a live source
        self.hovered_bit: Event[[int]] = Event()  # -1: none
        self.troubled: Event[[str]] = Event()  # something the user should know
        self.progressed: Event[[Progress]] = Event()
        self.job_ended: Event[[int]] = Event()
        self.casebook: Casebook | None = None
        self.gadget: Gadget | None = None
        self.service: CaptureService | None = None
        self.presses = Presses()
        self.selected: tuple[int, ...] = ()
        self.history = History()
        self._frames: Frames | None = None
        self._unnamed_in = casebooks_folder()  # where casebooks stand that have the day for a name
        self._keys: list[Key] | None = None  # made when first asked for
        self._takes: dict[int, Take] = {}
        self._loading: Slices | None = None
        self._openings = 0
        self._rereading: tuple[int, set[int]] | None = None  # the job, and the takes that it reads
        self._sheets: tuple[Sheet, ...] | None = None  # with those of the gadget and the user, once one is open
        self._sheets_version = 0
        self._untold, self._told_at = False, 0.0
        # News of takes whose pulses are others now: old presses stay in sight, with their pulses, until all is read.
        self._held_back: dict[int, list[PressesRead]] = {}
        self._new_takes: set[int] = set()  # of files, of which no press was selected yet
        self._read_with: dict[int, tuple[int, set[int]]] = {}  # by import: which sheets, and its takes

    def get_ready(self) -> None:
        """Work out, in a thread, what whoever looks at a frame first would have to wait for."""
        self.inbox.in_thread(get_ready, lambda _: None)

    @property
    def sheets(self) -> tuple[Sheet, ...]:
        """What frames are read by: the gadget's own sheets, the user's, and the library's."""
        return self._sheets if self._sheets is not None else library()

    # Casebooks and gadgets

    def open(self, path: Path) -> None:
        """Open a casebook in place of this one. Where that fails it is said why, and this one stays."""
        if self.casebook is not None and path.absolute() == self.casebook.path.absolute():
            return
        self._open(lambda: opened(path))

    def create(self, path: Path, gadget: str) -> None:
        """A new casebook in place of this one; what stands at the path stays, and it is said."""
        self._open(lambda: (begun(path, gadget), ""))

    def create_unnamed(self, folder: Path) -> None:
        """A new casebook among the user's data, named by the day, so that what comes is kept from the first pulse."""
        self._unnamed_in = folder
        self._open(lambda: (begun_today(folder), ""))

    @property
    def is_unnamed(self) -> bool:
        """Whether the open casebook still has the day for a name."""
        return self.casebook is not None and self.casebook.path.parent == self._unnamed_in

    def save_as(self, path: Path) -> None:
        """A copy of the casebook under another name, which takes this one's place. What goes on stops."""
        book = self.casebook
        if book is None or path.absolute() == book.path.absolute():
            return
        service, self.service = self.service, None

        def copy() -> tuple[Casebook, str]:
            left = service.close() if service is not None else []
            try:
                return copied(book, path, left), ""
            except InputError:
                self._rescue(left)
                self.inbox.post(self._serve)
                raise

        self._open(copy, self.gadget.id if self.gadget else None)

    def _open(self, work: Callable[[], tuple[Casebook, str]], gadget_id: int | None = None) -> None:
        """Get a casebook in a thread of its own, then put it in this one's place."""
        self._openings += 1
        turn = self._openings

        def then(result: tuple[Casebook, str] | Exception) -> None:
            if isinstance(result, InputError):
                self.troubled.emit(str(result))
            elif isinstance(result, Exception):
                raise result
            elif turn != self._openings:
                result[0].close()
            else:
                self._replace(result[0], gadget_id)
                if result[1]:
                    self.troubled.emit(result[1])

        self.inbox.in_thread(work, then)

    def _replace(self, casebook: Casebook, gadget_id: int | None) -> None:
        self._let_go()
        self.casebook, self.history = casebook, History()
        self._frames = Frames(casebook, lambda: self.sheets)
        self._serve()
        gadgets = self._try(casebook.gadgets) or []
        self.gadget = next((g for g in gadgets if g.id == gadget_id), gadgets[0] if gadgets else None)
        self._load(self._read_unfinished)
        self.history_changed.emit()

    def _serve(self) -> None:
        if self.casebook is not None and self.service is None:
            self.service = CaptureService(self.casebook, lambda news: self.inbox.post(lambda: self._take_in(news)))

    def _let_go(self) -> None:
        """Give the open casebook back, in a thread of its own: what was heard is written first."""
        casebook, service = self.casebook, self.service
        self.casebook = self.gadget = self.service = self._frames = None
        self._rereading = None
        self._held_back.clear()
        if casebook is not None:
            self.inbox.in_thread(lambda: self._close_book(casebook, service), lambda _: None)

    def _close_book(self, casebook: Casebook, service: CaptureService | None) -> None:
        self._rescue(service.close() if service is not None else [])
        casebook.close()

    def _rescue(self, unwritten: Unwritten) -> None:
        for words in rescued(unwritten):
            log.warning(words)
            self.inbox.post(lambda words=words: self.troubled.emit(words))  # type: ignore[misc]

    def close(self) -> None:
        """Let go of the casebook. Returns when everything that was heard is on disk."""
        casebook, service = self.casebook, self.service
        if self._loading is not None:
            self._loading.call_off()
        self._empty()
        self.casebook = self.gadget = self.service = self._frames = None
        self._sheets = None
        if casebook is not None:
            self.opened.emit()
            self._close_book(casebook, service)

    def choose_gadget(self, gadget_id: int, then: Callable[[], None] = lambda: None) -> None:
        """Open another gadget; ``then`` is done when its presses are there."""
        if self.casebook is not None:
            self.gadget = next((g for g in self.gadgets() if g.id == gadget_id), self.gadget)
            self._load(then)

    def add_gadget(self, name: str) -> None:
        book = self.casebook
        if book is not None and (gadget_id := self._try(lambda: book.add_gadget(name))):
            self.choose_gadget(gadget_id)

    def take_in_parcel(self, path: Path) -> bool:
        """A gadget of another casebook: its name, plate and sheets. Its recordings are read like any others."""
        book = self.casebook
        gadget_id = self._try(lambda: with_parcel(book, path)) if book is not None else None
        if gadget_id:
            self.choose_gadget(gadget_id)
        return bool(gadget_id)

    def rename_gadget(self, name: str) -> None:
        if self.gadget is not None:
            self.change(Rename(self.gadget.id, name))

    def gadgets(self) -> list[Gadget]:
        return (self._try(self.casebook.gadgets) or []) if self.casebook is not None else []

    def _load(self, then: Callable[[], None] = lambda: None) -> None:
        """Read all presses of the gadget, a few at a time, so that others get their turn; then it is open."""
        if self._loading is not None:
            self._loading.call_off()
        self._empty()
        if self._frames is not None:
            self._frames.forget()
        self._look_at_takes()
        self._read_sheets()
        self._loading = self.inbox.in_slices(self._load_presses(then))

    def _empty(self) -> None:
        self.selected = ()
        self.presses, self._keys = Presses(), None
        self.emptied.emit()

    def _load_presses(self, then: Callable[[], None]) -> Iterator[None]:
        presses = Presses()
        if self.casebook is not None and self.gadget is not None:
            gc.disable()  # looking through all presses again and again finds nothing, and takes longer each time
            try:
                for batch in self.casebook.press_batches(self.gadget.id):
                    presses.put(batch)
                    yield
            except InputError as error:
                self.troubled.emit(str(error))
            finally:
                gc.enable()
                gc.freeze()
        yield
        self.presses, self._keys = presses, None
        self.key_table()  # every view asks for it next
        yield
        last = self.shown_presses()[-1:]
        for press in last:
            if self._frames is not None:
                yield from self._frames.prepare(press.take_id)
        self.selected = tuple(press.id for press in last)
        yield from self.opened.emit_one_by_one()
        yield from self.selection_changed.emit_one_by_one()
        if self.casebook is not None and self.casebook.lost:
            self.troubled.emit(f"{self.casebook.path.name}: {'; '.join(self.casebook.lost)}.")
        then()

    def _read_unfinished(self) -> None:
        """What was recorded and could not be read to its end, when the application ended or crashed."""
        self._read_again(take.id for take in self._takes.values() if not take.read_whole)

    def _read_sheets(self) -> None:
        """The gadget's own sheets, then those of the user's folder, then the library's."""
        own = []
        for sheet_id, text in self.own_sheets().items():
            try:
                own.append(parse_sheet(text, f"sheet {sheet_id} in {self.casebook.path.name if self.casebook else ''}"))
            except InputError as error:
                self.troubled.emit(str(error))
        everywhere, wrong = sheets_in(sheets_folder())
        for problem in wrong:
            self.troubled.emit(str(problem))
        self._sheets = with_own(own, everywhere)
        self._sheets_version += 1

    def add_sheet(self, path: Path) -> None:
        """Take a sheet into the gadget's part of the casebook, and read everything caught with it again."""
        try:
            sheet = load_sheet(path)
            text = path.read_text("utf-8")
        except (InputError, OSError) as error:
            self.troubled.emit(str(error))
            return
        if self.gadget is not None:
            self.change(KeepSheet(self.gadget.id, sheet.id, text))

    def own_sheets(self) -> dict[str, str]:
        """The texts of the open gadget's sheets by their ids."""
        book, gadget = self.casebook, self.gadget
        return (self._try(lambda: book.sheets(gadget.id)) or {}) if book is not None and gadget is not None else {}

    def dismissed(self) -> frozenset[str]:
        """Findings about the open gadget's frames that the user does not believe."""
        book, gadget = self.casebook, self.gadget
        if book is None or gadget is None:
            return frozenset()
        return self._try(lambda: book.dismissed(gadget.id)) or frozenset()

    # What is there

    def shown_presses(self) -> list[Caught]:
        """The presses of the log, without strays and deleted ones."""
        return self.presses.shown

    def tally(self) -> Tally:
        """How often what was caught of the gadget."""
        return self.presses.tally

    def press(self, press_id: int) -> Caught | None:
        return self.presses.get(press_id)

    def takes(self) -> list[Take]:
        return list(self._takes.values())

    def take(self, press: Caught) -> Take | None:
        return self._takes.get(press.take_id)

    def key_table(self) -> list[Key]:
        """The gadget's table of keys."""
        book, gadget = self.casebook, self.gadget
        if book is None or gadget is None:
            return []
        if self._keys is None:
            self._keys = table_of_keys(self.presses, self._try(lambda: book.key_places(gadget.id)) or [])
        return self._keys

    def take_pulses(self, take_id: int) -> Pulses:
        """All pulses of a take."""
        assert self._frames is not None
        return self._frames.take_pulses(take_id)

    def take_edges(self, take_id: int) -> Floats:
        """The times of all edges of a take, the same array until the take changes."""
        assert self._frames is not None
        return self._frames.take_edges(take_id)

    def take_marked(self, take_id: int) -> Floats:
        """The time spent in marks before each edge of a take."""
        assert self._frames is not None
        return self._frames.take_marked(take_id)

    def frame_pulses(self, press: Caught, number: int = 0) -> Pulses:
        """The pulses of one of a press's frames."""
        assert self._frames is not None
        return self._frames.pulses_of(press, number)

    def frame(self, press: Caught) -> Frame:
        """A press's first frame, read anew from its raw pulses; a damaged one as its repeats say."""
        assert self._frames is not None
        return self._frames.first_of(press)

    def frames(self, press: Caught) -> list[Frame]:
        """All frames of a press, read anew."""
        assert self._frames is not None
        return self._frames.all_of(press)

    def selected_presses(self) -> list[Caught]:
        return [press for i in self.selected if (press := self.presses.get(i)) is not None]

    # What the user does

    def select(self, press_ids: Sequence[int]) -> None:
        if tuple(press_ids) != self.selected:
            self.selected = tuple(press_ids)
            self.hovered_bit.emit(-1)
            self.selection_changed.emit()

    def change(self, change: Change) -> None:
        """Do something that can be taken back."""
        self._apply(lambda book: self.history.do(book, change))

    def label(self, press_id: int, text: str) -> None:
        press = self.presses.get(press_id)
        if press is not None and press.label != text.strip():
            self.change(Label(((press_id, text.strip()),)))

    def undo(self) -> None:
        self._apply(self.history.undo)

    def redo(self) -> None:
        self._apply(self.history.redo)

    def _apply(self, work: Callable[[Casebook], Change | None]) -> None:
        """Do or undo a change and look at what it touched again."""
        book = self.casebook
        done = self._try(lambda: work(book)) if book is not None else None
        if book is None or done is None:
            return
        if self.gadget is not None:
            gadget_id = self.gadget.id
            self.gadget = next((g for g in self.gadgets() if g.id == gadget_id), self.gadget)
        if isinstance(done, KeepSheet):
            self._sheets_changed()
        if isinstance(done, TakePlace):
            self._look_at_takes()
            self._look_again([p.id for p in self.presses if p.take_id in (done.old, done.new)])
        elif done.press_ids:
            self._look_again(done.press_ids, few=isinstance(done, Label | PlanShots))
        else:
            self._keys = None
            self.presses_changed.emit()
        if isinstance(done, Overrule):
            self._look_at_takes()
            self._held_back.setdefault(done.take_id, [])
            self._read_again([done.take_id])
        self.changed.emit(done)
        self.history_changed.emit()
        self._select_what_is_left()

    def _look_again(self, press_ids: Sequence[int], few: bool = False) -> None:
        """Presses have changed in the casebook."""
        book = self.casebook
        fresh = (self._try(lambda: book.presses_of(press_ids)) or []) if book is not None else []
        fresh = [press for press in fresh if self.gadget is not None and press.gadget_id == self.gadget.id]
        self._put(fresh)
        if few and len(fresh) <= FEW:
            for press in fresh:
                self.press_changed.emit(press.id)
        else:
            self.presses_changed.emit()

    def _select_what_is_left(self) -> None:
        left = tuple(press.id for press in self.selected_presses() if not press.deleted)
        if len(left) < len(self.selected):
            self.select(left)

    def _try(self, work: Callable[[], Result]) -> Result | None:
        """Do something with the casebook; where it fails, say why."""
        try:
            return work()
        except InputError as error:
            self.troubled.emit(str(error))
            return None

    # Overruling

    def overrule(self, take_id: int, by_hand: ByHand) -> None:
        """Have a take read in another way, and everything that follows from it."""
        take = self._takes.get(take_id)
        if take is not None and take.by_hand != by_hand:
            self.change(Overrule(take_id, by_hand))

    def say_line(self, assumed: Assumed | None) -> None:
        """Have frames like the selected ones read as somebody says; None: as was found."""
        if self.gadget is None:
            return
        if assumed is None:
            if SAID_BY_HAND in self.own_sheets():
                self.change(KeepSheet(self.gadget.id, SAID_BY_HAND, None))
            return
        frames = [frame for press in self.selected_presses() for frame in self.frames(press)]
        in_force = next((assumed_in(frame.best) for frame in frames if frame.best is not None), None)
        if in_force is not None and says_the_same(frames, in_force, assumed):
            return
        draft = describe(frames, "By hand", assumed, overrules=True)
        if draft is None:
            self.troubled.emit(tr("The selected frames cannot be read in that way; what was in force stays."))
        elif self.own_sheets().get(SAID_BY_HAND) != draft.text:
            self.change(KeepSheet(self.gadget.id, SAID_BY_HAND, draft.text))

    def _sheets_changed(self) -> None:
        """Everything caught of the gadget is read with its sheets as they are now."""
        self._read_sheets()
        if self._frames is not None:
            self._frames.forget()
        gadget_id = self.gadget.id if self.gadget is not None else 0
        self._read_again([take.id for take in self._takes.values() if take.gadget_id == gadget_id and not take.hidden])

    def _read_again(self, take_ids: Iterable[int]) -> None:
        """Have takes read anew. What is being read again already is begun anew, with the takes that are left of it."""
        if self.service is None or self.gadget is None:
            return
        wanted = set(take_ids)
        if self._rereading is not None:
            self.service.stop(self._rereading[0])
            wanted |= self._rereading[1]
        if wanted:
            job = self.service.read_again(sorted(wanted), self.gadget.id, self.sheets)
            self._rereading = job, wanted

    # What comes in

    def read_files(self, files: Sequence[FileToRead]) -> int | None:
        """Have files read into the open gadget. Gives the job's number."""
        if self.service is None or self.gadget is None or not files:
            return None
        job = self.service.read_files(files, self.gadget.id, self.sheets)
        self._read_with[job] = self._sheets_version, set()
        return job

    def stop_job(self, job: int) -> None:
        """Stop reading files, or reading again."""
        if self.service is not None:
            self.service.stop(job)

    def stop_reading_again(self) -> None:
        """Read no further; what is left is read when the casebook is next opened."""
        if self._rereading is not None:
            self.stop_job(self._rereading[0])

    @property
    def reading_again(self) -> bool:
        return self._rereading is not None

    def _look_at_takes(self) -> None:
        book = self.casebook
        found = (self._try(book.takes) or []) if book is not None else []
        self._takes = {take.id: take for take in found}

    def _take_in(self, news: News) -> None:
        """What the capture service tells."""
        if self.casebook is None:
            return
        match news:
            case TakeBegun():
                self._look_at_takes()
                if not news.live:
                    self._new_takes.add(news.take_id)
                    for _, takes in self._read_with.values():
                        takes.add(news.take_id)
            case PressesRead():
                self._take_in_presses(news)
            case TakeRead():
                self._take_is_read(news)
            case Progress():
                self.progressed.emit(news)
            case JobEnded():
                self._job_has_ended(news.job)
            case Trouble(words):
                self._look_at_takes()
                self.troubled.emit(words)
            case CasebookGone(path):
                self._save_elsewhere(path)

    def _take_in_presses(self, news: PressesRead) -> None:
        book = self.casebook
        if book is None or self.gadget is None or news.gadget_id != self.gadget.id:
            return
        if news.take_id in self._held_back:
            self._held_back[news.take_id].append(news)
            return
        if self._frames is not None and (news.live or news.take_id not in self._takes):
            self._frames.forget(news.take_id)
        fresh = self._try(lambda: book.presses_of(news.press_ids)) or []
        new = [press for press in fresh if press.id not in self.presses]
        came = self._put(fresh)
        if came is not Came.BETWEEN and len(fresh) <= FEW:
            for press in fresh:
                self.press_changed.emit(press.id)
        elif came is Came.BEHIND and len(new) == len(fresh):
            self.presses_added.emit(tuple(press.id for press in new))
        else:
            self._tell_of_many()
        told = [press for press in new if not press.stray and not press.deleted]
        if news.live:
            changed = [press for press in fresh if not press.stray and not press.deleted]
            if changed:
                self.select((changed[-1].id,))
            for press in told:
                self.caught.emit(press.id)
        elif told and news.take_id in self._new_takes:
            self._new_takes.discard(news.take_id)
            self.select((told[0].id,))
        self._select_what_is_left()

    def _put(self, presses: Sequence[Caught]) -> Came:
        """Take presses in. The table of keys is another only where one of them has a label, or had."""
        before = [known for press in presses if (known := self.presses.get(press.id)) is not None]
        if any(press.label for press in (*before, *presses)):
            self._keys = None
        return self.presses.put(presses)

    def _tell_of_many(self) -> None:
        """Many presses are others now; while more of them come, that is told once a second."""
        now = time.monotonic()
        self._untold = self.reading_again and now - self._told_at < TOLD_EVERY_S
        if not self._untold:
            self._told_at = now
            self.presses_changed.emit()

    def _tell_the_rest(self) -> None:
        if self._untold:
            self._untold = False
            self.presses_changed.emit()

    def _take_is_read(self, news: TakeRead) -> None:
        self._look_at_takes()
        if news.take_id in self._held_back:
            self._take_in_overruled(news.take_id)
        if news.replaces is not None:
            now = self.selected_presses()
            self.change(TakePlace(news.replaces, news.take_id))
            self._select_near(news.take_id, now[0].reading.start_us if now else 0.0)
        if self._rereading is not None:
            self._rereading[1].discard(news.take_id)
        if any(press.take_id == news.take_id for press in self.selected_presses()):
            self._tell_the_rest()
            self.selection_changed.emit()

    def _take_in_overruled(self, take_id: int) -> None:
        """A take has been read with other pulses: what was found in it comes into sight at once."""
        now = self.selected_presses()
        of_it = bool(now) and now[0].take_id == take_id
        if self._frames is not None:
            self._frames.forget()
        for held in self._held_back.pop(take_id):
            self._take_in_presses(held)
        if of_it and (not self.selected or self.selected_presses()[0].id != now[0].id):
            self._select_near(take_id, now[0].reading.start_us)
        self.selection_changed.emit()

    def _select_near(self, take_id: int, at: float) -> None:
        """Of a take that is read otherwise, the press nearest to a moment (µs from its start)."""
        of_take = [press for press in self.shown_presses() if press.take_id == take_id]
        near = sorted(of_take, key=lambda press: abs(press.reading.start_us - at))
        self.select(tuple(press.id for press in near[:1]))

    def _job_has_ended(self, job: int) -> None:
        if self._rereading is not None and self._rereading[0] == job:
            for take_id in list(self._held_back):  # it was stopped: what was found until then stands
                self._take_in_overruled(take_id)
            self._rereading = None
            self._tell_the_rest()
            if not self.selected:
                self.select(tuple(press.id for press in self.shown_presses()[-1:]))
        version, takes = self._read_with.pop(job, (self._sheets_version, set()))
        if version != self._sheets_version:
            self._read_again(takes)
        self.job_ended.emit(job)

    def _save_elsewhere(self, path: Path) -> None:
        """The casebook's file is gone, but not what is in it."""
        try:
            place = place_for_lost(path)
        except InputError as error:
            self.troubled.emit(tr("{path} has been deleted, and {error}", path=path, error=error))
            return
        self.save_as(place)
        self.troubled.emit(
            tr(
                "{name} was deleted or replaced by another program. What is in it is kept in {place}.",
                name=path.name,
                place=place,
            )
        )
