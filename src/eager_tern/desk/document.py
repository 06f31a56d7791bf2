"""The open casebook and what is selected in it: the one thing every view looks at."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import lru_cache
from pathlib import Path

from PyQt6.QtCore import QCoreApplication, QEventLoop, QObject, pyqtSignal

from eager_tern.casebook.changes import Change, History, KeepSheet, Label, Overrule, PlanShots
from eager_tern.casebook.keys import Key, table_of_keys
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.tally import Tally, tally
from eager_tern.casebook.values import Caught, Gadget, Take, bit_text
from eager_tern.errors import InputError
from eager_tern.intake.again import read_again, read_take_again
from eager_tern.intake.files import FileTake, keep_pulses, keep_read
from eager_tern.intake.live import Heard, Listening
from eager_tern.places import sheets_folder
from eager_tern.protocol.describing import Assumed, assumed_in, describe, says_the_same
from eager_tern.protocol.loading import library, load_sheet, parse_sheet, sheets_in, with_own
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import read_alone
from eager_tern.signal.by_hand import ByHand
from eager_tern.signal.values import Floats, Pulses

FRAMES_KEPT = 256
SAID_BY_HAND = "by-hand"  # the sheet that says what somebody knows better
FEW = 8  # presses that are told one by one


class Document(QObject):
    """Views read it and are told by its signals what to look at again; commands change it."""

    opened = pyqtSignal()  # another casebook, or another gadget of it
    presses_changed = pyqtSignal()
    press_changed = pyqtSignal(int)  # one press is new, has got more repeats or another label
    selection_changed = pyqtSignal()
    history_changed = pyqtSignal()
    changed = pyqtSignal(object)  # a Change was made or taken back
    caught = pyqtSignal(int)  # a press has come from a live source
    hovered_bit = pyqtSignal(int)  # -1: none
    troubled = pyqtSignal(str)  # something the user should know
    pulses_heard = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.casebook: Casebook | None = None
        self.gadget: Gadget | None = None
        self.presses: list[Caught] = []
        self.selected: tuple[int, ...] = ()
        self.history = History()
        self.sheets: tuple[Sheet, ...] = library()
        self._listening: Listening | None = None
        self._by_id: dict[int, Caught] = {}
        self._keys: list[Key] | None = None  # made when first asked for
        self._shown: list[Caught] | None = None
        self._tally: Tally | None = None
        self._takes: dict[int, Take] = {}
        self._pulses: dict[int, Pulses] = {}
        self._edges: dict[int, tuple[Pulses, Floats]] = {}
        self._read = lru_cache(FRAMES_KEPT)(self._read_frame)

    # Casebooks and gadgets

    def open(self, path: Path) -> bool:
        """Open a casebook in place of this one; where that fails, say why and keep this one."""
        if self.casebook is not None and path.absolute() == self.casebook.path.absolute():
            return True
        try:
            casebook = Casebook.open(path)
        except InputError as error:
            self.troubled.emit(str(error))
            return False
        self._replace(casebook)
        return True

    def create(self, path: Path, gadget: str) -> bool:
        try:
            casebook = Casebook.create(path)
            casebook.add_gadget(gadget)
        except InputError as error:
            self.troubled.emit(str(error))
            return False
        self._replace(casebook)
        return True

    def save_as(self, path: Path) -> bool:
        if self.casebook is None or path.absolute() == self.casebook.path.absolute():
            return False
        gadget_id = self.gadget.id if self.gadget else None
        self.stop_listening()
        try:
            self._replace(self.casebook.save_as(path), gadget_id, close=False)
        except InputError as error:
            self.troubled.emit(str(error))
            return False
        return True

    def _replace(self, casebook: Casebook, gadget_id: int | None = None, close: bool = True) -> None:
        self.stop_listening()
        if close:
            self.close()
        self.casebook, self.history = casebook, History()
        gadgets = casebook.gadgets()
        self.gadget = next((g for g in gadgets if g.id == gadget_id), gadgets[0] if gadgets else None)
        self._load()
        self.history_changed.emit()

    def close(self) -> None:
        """Let go of the casebook."""
        self.stop_listening()
        if self.casebook is not None:
            self.casebook.close()
        self.casebook, self.gadget = None, None

    def choose_gadget(self, gadget_id: int) -> None:
        self.stop_listening()
        if self.casebook is not None:
            self.gadget = next(g for g in self.casebook.gadgets() if g.id == gadget_id)
            self._load()

    def add_gadget(self, name: str) -> None:
        if self.casebook is not None and self._try(lambda book: book.add_gadget(name)):
            self.choose_gadget(self.casebook.gadgets()[-1].id)

    def _load(self) -> None:
        self.selected = ()
        self._pulses.clear()
        self._read.cache_clear()
        self._read_presses()
        self.key_table()  # every view asks for it next
        breathe()
        self.opened.emit()
        breathe()
        self.select(tuple(press.id for press in self.shown_presses()[-1:]))

    def _read_presses(self) -> None:
        """All presses of the gadget, a few at a time, so that the window goes on drawing itself."""
        self.presses, self._by_id = [], {}
        self._forget()
        if self.casebook is None or self.gadget is None:
            return
        self._look_at_takes()
        self._read_sheets()
        for batch in self.casebook.press_batches(self.gadget.id):
            self._add(batch)
            for press in batch:
                press.code  # noqa: B018  worked out now, a few at a time, and remembered
            breathe()

    def _read_sheets(self) -> None:
        """The gadget's own sheets, then those of the user's folder, then the library's."""
        assert self.casebook is not None
        assert self.gadget is not None
        own = []
        for sheet_id, text in self.casebook.sheets(self.gadget.id).items():
            try:
                own.append(parse_sheet(text, f"sheet {sheet_id} in {self.casebook.path.name}"))
            except InputError as error:
                self.troubled.emit(str(error))
        everywhere, wrong = sheets_in(sheets_folder())
        for error in wrong:
            self.troubled.emit(str(error))
        self.sheets = with_own(own, everywhere)

    def add_sheet(self, path: Path) -> None:
        """Take a sheet into the gadget's part of the casebook, and read everything caught with it again."""
        try:
            sheet = load_sheet(path)
        except InputError as error:
            self.troubled.emit(str(error))
            return
        if self.gadget is not None:
            self.change(KeepSheet(self.gadget.id, sheet.id, path.read_text("utf-8")))

    def own_sheets(self) -> dict[str, str]:
        """The texts of the open gadget's sheets by their ids."""
        return self.casebook.sheets(self.gadget.id) if self.casebook is not None and self.gadget is not None else {}

    def dismissed(self) -> frozenset[str]:
        """Findings about the open gadget's frames that the user does not believe."""
        if self.casebook is None or self.gadget is None:
            return frozenset()
        return self.casebook.dismissed(self.gadget.id)

    def _sheets_changed(self) -> None:
        """Read everything caught of the gadget with its sheets as they are now; what is selected stays so."""
        selected, gadget_id = self.selected, self.gadget.id if self.gadget is not None else 0
        self._read_sheets()
        self._try(lambda book: read_again(book, gadget_id, self.sheets, breathe))
        self._pulses.clear()
        self._read.cache_clear()
        self._read_presses()
        self.presses_changed.emit()
        self.selected = ()
        still = tuple(i for i in selected if (press := self._by_id.get(i)) is not None and not press.deleted)
        self.select(still or tuple(press.id for press in self.shown_presses()[-1:]))

    # What is there

    def shown_presses(self) -> list[Caught]:
        """The presses of the log, without strays and deleted ones."""
        if self._shown is None:
            self._shown = [press for press in self.presses if not press.deleted and not press.stray]
        return self._shown

    def tally(self) -> Tally:
        """How often what was caught of the gadget."""
        if self._tally is None:
            self._tally = tally(self.presses)
        return self._tally

    def press(self, press_id: int) -> Caught | None:
        return self._by_id.get(press_id)

    def takes(self) -> list[Take]:
        return list(self._takes.values())

    def take(self, press: Caught) -> Take | None:
        return self._takes.get(press.take_id)

    def key_table(self) -> list[Key]:
        """The gadget's table of keys."""
        if self.casebook is None or self.gadget is None:
            return []
        if self._keys is None:
            self._keys = table_of_keys(self.presses, self.casebook.key_places(self.gadget.id))
        return self._keys

    def take_pulses(self, take_id: int) -> Pulses:
        """All pulses of a take."""
        assert self.casebook is not None
        if take_id not in self._pulses:
            self._pulses[take_id] = self.casebook.take_pulses(take_id)
        return self._pulses[take_id]

    def take_edges(self, take_id: int) -> Floats:
        """The times of all edges of a take, the same array until the take changes."""
        pulses = self.take_pulses(take_id)
        known = self._edges.get(take_id)
        if known is None or known[0] is not pulses:
            known = self._edges[take_id] = (pulses, pulses.edge_times_us)
        return known[1]

    def frame_pulses(self, press: Caught, number: int = 0) -> Pulses:
        """The pulses of one of a press's frames."""
        first, last = press.reading.frames[number]
        return self.take_pulses(press.take_id).part(first, last, self.take_edges(press.take_id))

    def frame(self, press: Caught) -> Frame:
        """A press's first frame, read anew from its raw pulses; a damaged one as its repeats say."""
        frame = self._read(press.take_id, *press.reading.frames[0])
        best = frame.best
        if not press.reading.mended or (best is not None and bit_text(best.bits) == press.reading.bits):
            return frame if not press.reading.mended else replace(frame, mended=frame.mended or press.reading.mended)
        for span in press.reading.frames[1:]:
            repeat = self._read(press.take_id, *span)
            if repeat.best is not None and bit_text(repeat.best.bits) == press.reading.bits:
                whole = replace(repeat.as_read, start_us=frame.pulses.start_us)
                return replace(frame, readings=repeat.readings, mended=press.reading.mended, read_as=whole)
        return replace(frame, mended=press.reading.mended)

    def frames(self, press: Caught) -> list[Frame]:
        """All frames of a press, read anew."""
        return [self.frame(press), *(self._read(press.take_id, *span) for span in press.reading.frames[1:])]

    def _read_frame(self, take_id: int, first: int, last: int) -> Frame:
        pulses = self.take_pulses(take_id).part(first, last)
        return read_alone(pulses, first, last, self.sheets)

    def selected_presses(self) -> list[Caught]:
        return [press for i in self.selected if (press := self._by_id.get(i)) is not None]

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
        press = self._by_id.get(press_id)
        if press is not None and press.label != text.strip():
            self.change(Label(((press_id, text.strip()),)))

    def undo(self) -> None:
        self._apply(self.history.undo)

    def redo(self) -> None:
        self._apply(self.history.redo)

    def _apply(self, work: Callable[[Casebook], Change | None]) -> None:
        """Do or undo a change and look at what it touched again."""
        done: list[Change | None] = []
        if not self._try(lambda book: done.append(work(book))) or done[0] is None:
            return
        if self.casebook is not None and self.gadget is not None:
            self.gadget = next((g for g in self.casebook.gadgets() if g.id == self.gadget.id), None)
            fresh = {press_id: self.casebook.press(press_id) for press_id in done[0].press_ids}
            counted = self._tally if all(_counts_as(self._by_id.get(i), press) for i, press in fresh.items()) else None
            for at, press in enumerate(self.presses) if fresh else ():
                if press.id in fresh:
                    self.presses[at] = fresh[press.id]
            self._by_id |= fresh
            self._forget()
            self._tally = counted
        if isinstance(done[0], Label | PlanShots) and len(done[0].press_ids) <= FEW:
            for press_id in done[0].press_ids:
                self.press_changed.emit(press_id)
        else:
            self.presses_changed.emit()
        if isinstance(done[0], Overrule):
            self._overruled(done[0].take_id)
        if isinstance(done[0], KeepSheet):
            self._sheets_changed()
        self.changed.emit(done[0])
        self.history_changed.emit()
        left = tuple(press.id for press in self.selected_presses() if not press.deleted)
        if len(left) < len(self.selected):
            self.select(left)

    def _try(self, work: object) -> bool:
        """Do something with the casebook; where it fails, say why."""
        try:
            return work(self.casebook) is not False if self.casebook is not None else False  # type: ignore[operator]
        except InputError as error:
            self.troubled.emit(str(error))
            return False

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
        text = describe(frames, "By hand", assumed, overrules=True)
        if text is None:
            self.troubled.emit("The selected frames cannot be read in that way; what was in force stays.")
        elif self.own_sheets().get(SAID_BY_HAND) != text:
            self.change(KeepSheet(self.gadget.id, SAID_BY_HAND, text))

    def _overruled(self, take_id: int) -> None:
        assert self.casebook is not None
        now = self.selected_presses()
        at = now[0].reading.start_us if now else 0.0
        self._try(lambda book: read_take_again(book, book.take(take_id), self.sheets, breathe))
        self._pulses.pop(take_id, None)
        self._read.cache_clear()
        self._read_presses()
        of_take = [press for press in self.shown_presses() if press.take_id == take_id]
        self.presses_changed.emit()
        near = sorted(of_take, key=lambda press: abs(press.reading.start_us - at))
        self.select(tuple(press.id for press in near[:1]) or self.selected)
        self.selection_changed.emit()

    # What comes in

    def keep_take(self, found: FileTake, gadget_id: int) -> None:
        """Put a file's take into a gadget's part of the casebook and select its first press."""
        take_id = self.begin_take(found, gadget_id)
        if take_id is not None:
            self.select(tuple(self.add_to_take(take_id, found, gadget_id)[:1]))

    def begin_take(self, found: FileTake, gadget_id: int) -> int | None:
        """Keep a take's raw durations. Gives its id, if that worked."""
        ids: list[int] = []
        if not self._try(lambda book: ids.append(keep_pulses(book, gadget_id, found))):
            return None
        self._look_at_takes()
        return ids[0]

    def add_to_take(self, take_id: int, found: FileTake, gadget_id: int) -> list[int]:
        """Keep what was read of a take. Gives the ids of the presses."""
        ids: list[int] = []
        if not self._try(lambda book: ids.extend(keep_read(book, take_id, found))):
            return []
        if self.casebook is not None and self.gadget is not None and gadget_id == self.gadget.id:
            self._add([p for p in self.casebook.presses(take_id=take_id) if p.id not in self._by_id])
            self.presses_changed.emit()
        return ids

    def _look_at_takes(self) -> None:
        self._takes = {take.id: take for take in self.casebook.takes()} if self.casebook is not None else {}

    @property
    def listening(self) -> bool:
        return self._listening is not None

    def start_listening(self, source: str) -> bool:
        if self.casebook is None or self.gadget is None:
            return False
        try:
            self._listening = Listening(self.casebook, self.gadget.id, source, "recorder", self.sheets, time.time())
        except InputError as error:
            self.troubled.emit(str(error))
            return False
        self._look_at_takes()
        return True

    def hear(self, signed_us: Floats) -> None:
        """Durations from a live source: on disk first, then read."""
        if self._listening is None:
            return
        self.pulses_heard.emit(int(signed_us.size))
        try:
            heard = self._listening.hear(signed_us)
        except InputError as error:
            self.troubled.emit(f"{error}; what is recorded meanwhile is kept in memory")
            return
        if heard.news:
            self.troubled.emit(heard.news)
            self._look_at_takes()
        if not heard.press_ids and not heard.stray_ids:
            return
        self._take_in(self._listening.take_id, heard)
        if heard.press_ids:
            self.select((heard.press_ids[-1],))

    def _take_in(self, take_id: int, heard: Heard) -> None:
        """Presses that are new or have grown."""
        assert self.casebook is not None
        self._pulses.pop(take_id, None)
        if heard.revised:
            self._look_again_at(take_id)
        for press_id in (*heard.stray_ids, *heard.press_ids):
            press = self.casebook.press(press_id)
            if press_id in self._by_id:
                at = next(i for i in range(len(self.presses) - 1, -1, -1) if self.presses[i].id == press_id)
                self.presses[at] = press
                self._by_id[press_id] = press
                self._forget()
                self.press_changed.emit(press_id)
            else:
                self._add([press])
                self.press_changed.emit(press_id)
                self.caught.emit(press_id)

    def _look_again_at(self, take_id: int) -> None:
        """What was caught in a take may have become something else."""
        assert self.casebook is not None
        fresh = {press.id: press for press in self.casebook.presses(take_id=take_id)}
        self.presses = [fresh.get(press.id, press) for press in self.presses]
        self._by_id |= {i: press for i, press in fresh.items() if i in self._by_id}
        self._forget()
        self.presses_changed.emit()
        self.select(tuple(i for i in self.selected if not self._by_id[i].deleted))

    def _forget(self) -> None:
        """Drop what was made from the presses."""
        self._keys = self._shown = self._tally = None

    def _add(self, presses: list[Caught]) -> None:
        self.presses += presses
        self._by_id |= {press.id: press for press in presses}
        self._forget()

    def stop_listening(self) -> None:
        """Read what is still waiting, as if silence followed."""
        if self._listening is not None:
            listening, self._listening = self._listening, None
            self._try(lambda book: self._take_in(listening.take_id, listening.finish()))


def breathe() -> None:
    """Let the window draw itself in the midst of much work; what the user does meanwhile waits."""
    QCoreApplication.processEvents(QEventLoop.ProcessEventsFlag.ExcludeUserInputEvents)


def _counts_as(before: Caught | None, now: Caught) -> bool:
    """Whether a press that was changed is counted as before."""
    return before is not None and (before.code, before.stray, before.deleted) == (now.code, now.stray, now.deleted)
