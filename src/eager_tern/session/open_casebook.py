"""The open casebook and what is selected in it: the one thing every view looks at."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TypeVar

from eager_tern.casebook.changes import Change
from eager_tern.casebook.keys import Key, table_of_keys
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.tally import Tally
from eager_tern.casebook.values import Caught, Gadget, Take
from eager_tern.errors import InputError
from eager_tern.intake.news import Progress
from eager_tern.intake.service import CaptureService
from eager_tern.places import sheets_folder
from eager_tern.protocol.loading import library, parse_sheet, sheets_in, with_own
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.schema import Sheet
from eager_tern.session.events import Event
from eager_tern.session.frames import Frames
from eager_tern.session.presses import Came, Presses
from eager_tern.signal.values import Floats, Pulses

Result = TypeVar("Result")
FEW = 8  # presses that are told one by one


class OpenCasebook:
    """What is there and what is selected; its events tell what to look at again. It belongs to one thread."""

    def __init__(self) -> None:
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
        self.sheets_version = 0
        self._frames: Frames | None = None
        self._keys: list[Key] | None = None  # made when first asked for
        self._takes: dict[int, Take] = {}
        self._sheets: tuple[Sheet, ...] | None = None  # with those of the gadget and the user, once one is open

    # What is there

    def gadgets(self) -> list[Gadget]:
        return (self.attempt(self.casebook.gadgets) or []) if self.casebook is not None else []

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

    def knows_take(self, take_id: int) -> bool:
        return take_id in self._takes

    def key_table(self) -> list[Key]:
        """The gadget's table of keys."""
        book, gadget = self.casebook, self.gadget
        if book is None or gadget is None:
            return []
        if self._keys is None:
            self._keys = table_of_keys(self.presses, self.attempt(lambda: book.key_places(gadget.id)) or [])
        return self._keys

    def dismissed(self) -> frozenset[str]:
        """Findings about the open gadget's frames that the user does not believe."""
        book, gadget = self.casebook, self.gadget
        if book is None or gadget is None:
            return frozenset()
        return self.attempt(lambda: book.dismissed(gadget.id)) or frozenset()

    def selected_presses(self) -> list[Caught]:
        return [press for i in self.selected if (press := self.presses.get(i)) is not None]

    # The sheets

    @property
    def sheets(self) -> tuple[Sheet, ...]:
        """What frames are read by: the gadget's own sheets, the user's, and the library's."""
        return self._sheets if self._sheets is not None else library()

    def own_sheets(self) -> dict[str, str]:
        """The texts of the open gadget's sheets by their ids."""
        book, gadget = self.casebook, self.gadget
        return (self.attempt(lambda: book.sheets(gadget.id)) or {}) if book is not None and gadget is not None else {}

    def read_sheets(self) -> None:
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
        self.sheets_version += 1

    # Frames, read anew from their raw pulses

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

    def forget_frames(self, take_id: int | None = None) -> None:
        """A take has other pulses now; None: everything is read otherwise."""
        if self._frames is not None:
            self._frames.forget(take_id)

    # What is selected

    def select(self, press_ids: Sequence[int]) -> None:
        if tuple(press_ids) != self.selected:
            self.selected = tuple(press_ids)
            self.hovered_bit.emit(-1)
            self.selection_changed.emit()

    def select_what_is_left(self) -> None:
        left = tuple(press.id for press in self.selected_presses() if not press.deleted)
        if len(left) < len(self.selected):
            self.select(left)

    # What has changed

    def put(self, presses: Sequence[Caught]) -> Came:
        """Take presses in. The table of keys is another only where one of them has a label, or had."""
        before = [known for press in presses if (known := self.presses.get(press.id)) is not None]
        if any(press.label for press in (*before, *presses)):
            self._keys = None
        return self.presses.put(presses)

    def look_again(self, press_ids: Sequence[int], few: bool = False) -> None:
        """Presses have changed in the casebook."""
        book = self.casebook
        fresh = (self.attempt(lambda: book.presses_of(press_ids)) or []) if book is not None else []
        fresh = [press for press in fresh if self.gadget is not None and press.gadget_id == self.gadget.id]
        self.put(fresh)
        if few and len(fresh) <= FEW:
            for press in fresh:
                self.press_changed.emit(press.id)
        else:
            self.presses_changed.emit()

    def look_at_takes(self) -> None:
        book = self.casebook
        found = (self.attempt(book.takes) or []) if book is not None else []
        self._takes = {take.id: take for take in found}

    def attempt(self, work: Callable[[], Result]) -> Result | None:
        """Do something with the casebook; where it fails, say why."""
        try:
            return work()
        except InputError as error:
            self.troubled.emit(str(error))
            return None
