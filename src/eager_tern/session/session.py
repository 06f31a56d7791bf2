"""What somebody does with a casebook: open it, change it, take a change back."""

from __future__ import annotations

import gc
import logging
from collections.abc import Callable, Iterator
from pathlib import Path

from eager_tern.casebook.changes import Change, History, KeepSheet, Label, Overrule, PlanShots, Rename, TakePlace
from eager_tern.casebook.store import Casebook
from eager_tern.errors import InputError
from eager_tern.intake.news import CasebookGone, News
from eager_tern.intake.service import CaptureService
from eager_tern.places import casebooks_folder
from eager_tern.protocol.describing import Assumed, assumed_in, describe, says_the_same
from eager_tern.protocol.loading import load_sheet
from eager_tern.session.frames import Frames, get_ready
from eager_tern.session.inbox import Inbox, Slices
from eager_tern.session.incoming import Incoming
from eager_tern.session.open_casebook import OpenCasebook
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
from eager_tern.session.presses import Presses
from eager_tern.signal.by_hand import ByHand
from eager_tern.texts import tr

UNNAMED = "Unnamed gadget"
SAID_BY_HAND = "by-hand"  # the id of the sheet that says what somebody knows better
log = logging.getLogger(__name__)


class Session(OpenCasebook):
    """What can be done with the open casebook. Views read it and listen to its events; commands change it.

    What the capture service tells comes through the inbox.
    """

    def __init__(self, inbox: Inbox | None = None) -> None:
        super().__init__()
        self.inbox = inbox or Inbox()
        self.incoming = Incoming(self, self.change)
        self.history = History()
        self._unnamed_in = casebooks_folder()  # where casebooks stand that have the day for a name
        self._loading: Slices | None = None
        self._openings = 0

    def get_ready(self) -> None:
        """Work out, in a thread, what whoever looks at a frame first would have to wait for."""
        self.inbox.in_thread(get_ready, lambda _: None)

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
        gadgets = self.attempt(casebook.gadgets) or []
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
        self.incoming.forget()
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
        if book is not None and (gadget_id := self.attempt(lambda: book.add_gadget(name))):
            self.choose_gadget(gadget_id)

    def take_in_parcel(self, path: Path) -> bool:
        """A gadget of another casebook: its name, plate and sheets. Its recordings are read like any others."""
        book = self.casebook
        gadget_id = self.attempt(lambda: with_parcel(book, path)) if book is not None else None
        if gadget_id:
            self.choose_gadget(gadget_id)
        return bool(gadget_id)

    def rename_gadget(self, name: str) -> None:
        if self.gadget is not None:
            self.change(Rename(self.gadget.id, name))

    def _load(self, then: Callable[[], None] = lambda: None) -> None:
        """Read all presses of the gadget, a few at a time, so that others get their turn; then it is open."""
        if self._loading is not None:
            self._loading.call_off()
        self._empty()
        self.forget_frames()
        self.look_at_takes()
        self.read_sheets()
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
        self.incoming.read_again(take.id for take in self._takes.values() if not take.read_whole)

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

    # What the user does

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
        done = self.attempt(lambda: work(book)) if book is not None else None
        if book is None or done is None:
            return
        if self.gadget is not None:
            gadget_id = self.gadget.id
            self.gadget = next((g for g in self.gadgets() if g.id == gadget_id), self.gadget)
        if isinstance(done, KeepSheet):
            self._sheets_changed()
        if isinstance(done, TakePlace):
            self.look_at_takes()
            self.look_again([p.id for p in self.presses if p.take_id in (done.old, done.new)])
        elif done.press_ids:
            self.look_again(done.press_ids, few=isinstance(done, Label | PlanShots))
        else:
            self._keys = None
            self.presses_changed.emit()
        if isinstance(done, Overrule):
            self.look_at_takes()
            self.incoming.hold_back(done.take_id)
            self.incoming.read_again([done.take_id])
        self.changed.emit(done)
        self.history_changed.emit()
        self.select_what_is_left()

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
        self.read_sheets()
        self.forget_frames()
        gadget_id = self.gadget.id if self.gadget is not None else 0
        self.incoming.read_again(
            [take.id for take in self._takes.values() if take.gadget_id == gadget_id and not take.hidden]
        )

    def _take_in(self, news: News) -> None:
        """What the capture service tells."""
        if self.casebook is None:
            return
        if isinstance(news, CasebookGone):
            self._save_elsewhere(news.path)
        else:
            self.incoming.take_in(news)

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
