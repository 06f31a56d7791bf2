"""Changes a user makes and can take back. Applying one gives the change that undoes it."""

from __future__ import annotations

from typing import ClassVar

from msgspec import Struct, field

from eager_tern.casebook.shots import Shots
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import KeyPlace
from eager_tern.signal.by_hand import ByHand


class Label(Struct, frozen=True):
    """Say something else about presses. ``labels`` pairs press ids with texts; ``press_ids`` are those it touches."""

    labels: tuple[tuple[int, str], ...]
    words: str = "label"

    @property
    def press_ids(self) -> tuple[int, ...]:
        return tuple(press_id for press_id, _ in self.labels)

    def apply(self, casebook: Casebook) -> Label:
        before = tuple((p.id, p.label) for p in casebook.presses_of([i for i, _ in self.labels]))
        with casebook.changing():
            for press_id, label in self.labels:
                casebook.set_label(press_id, label)
        return Label(before)


class Delete(Struct, frozen=True):
    """Hide presses, or show them again."""

    press_ids: tuple[int, ...]
    deleted: bool = True
    words: str = "delete"

    def apply(self, casebook: Casebook) -> Delete:
        casebook.set_deleted(self.press_ids, self.deleted)
        return Delete(self.press_ids, not self.deleted)


class PlaceKey(Struct, frozen=True):
    """Put a key on the plate, or take it off where ``place`` is None."""

    gadget_id: int
    name: str
    place: KeyPlace | None
    words: str = "move key"
    press_ids: ClassVar[tuple[int, ...]] = ()

    def apply(self, casebook: Casebook) -> PlaceKey:
        before = next((p for p in casebook.key_places(self.gadget_id) if p.name == self.name), None)
        if self.place is None:
            casebook.remove_key(self.gadget_id, self.name)
        else:
            casebook.place_key(self.gadget_id, self.place)
        return PlaceKey(self.gadget_id, self.name, before)


class Rename(Struct, frozen=True):
    gadget_id: int
    name: str
    words: str = "rename gadget"
    press_ids: ClassVar[tuple[int, ...]] = ()

    def apply(self, casebook: Casebook) -> Rename:
        before = next(g.name for g in casebook.gadgets() if g.id == self.gadget_id)
        casebook.rename_gadget(self.gadget_id, self.name)
        return Rename(self.gadget_id, before)


class PlanShots(Struct, frozen=True):
    """Put another shot list in place of the gadget's; the presses in ``labels`` are labelled along with it."""

    gadget_id: int
    shots: Shots
    labels: tuple[tuple[int, str], ...] = ()
    words: str = "shot list"

    @property
    def press_ids(self) -> tuple[int, ...]:
        return tuple(press_id for press_id, _ in self.labels)

    def apply(self, casebook: Casebook) -> PlanShots:
        before = casebook.shots(self.gadget_id)
        with casebook.changing():
            casebook.put_shots(self.gadget_id, self.shots)
            labels = Label(self.labels).apply(casebook).labels
        return PlanShots(self.gadget_id, before, labels, self.words)


class Overrule(Struct, frozen=True):
    """Have a take read in another way than was found. Its presses are to be read again after it."""

    take_id: int
    by_hand: ByHand
    words: str = "overruling"
    press_ids: ClassVar[tuple[int, ...]] = ()

    def apply(self, casebook: Casebook) -> Overrule:
        before = casebook.take(self.take_id).by_hand
        casebook.set_by_hand(self.take_id, self.by_hand)
        return Overrule(self.take_id, before)


class KeepSheet(Struct, frozen=True):
    """Keep a sheet's text with a gadget, or take it out (None). What was caught is to be read again after it."""

    gadget_id: int
    sheet_id: str
    text: str | None
    words: str = "sheet"
    press_ids: ClassVar[tuple[int, ...]] = ()

    def apply(self, casebook: Casebook) -> KeepSheet:
        before = casebook.sheets(self.gadget_id).get(self.sheet_id)
        if self.text is None:
            casebook.remove_sheet(self.gadget_id, self.sheet_id)
        else:
            casebook.put_sheet(self.gadget_id, self.sheet_id, self.text)
        return KeepSheet(self.gadget_id, self.sheet_id, before)


class WriteRoutine(Struct, frozen=True):
    """What is said to a gadget, as a text."""

    gadget_id: int
    text: str
    words: str = "routine"
    press_ids: ClassVar[tuple[int, ...]] = ()

    def apply(self, casebook: Casebook) -> WriteRoutine:
        before = casebook.routine(self.gadget_id)
        casebook.put_routine(self.gadget_id, self.text)
        return WriteRoutine(self.gadget_id, before)


class Dismiss(Struct, frozen=True):
    """Believe all findings about a gadget's frames but these."""

    gadget_id: int
    findings: frozenset[str]
    words: str = "dismissing"
    press_ids: ClassVar[tuple[int, ...]] = ()

    def apply(self, casebook: Casebook) -> Dismiss:
        before = casebook.dismissed(self.gadget_id)
        casebook.set_dismissed(self.gadget_id, self.findings)
        return Dismiss(self.gadget_id, before)


class TakePlace(Struct, frozen=True):
    """Show a take in place of another of the same recording, or the other way round. Labels go over to the presses at
    the same time that have none.
    """

    old: int
    new: int
    words: str = "threshold"
    press_ids: ClassVar[tuple[int, ...]] = ()

    def apply(self, casebook: Casebook) -> TakePlace:
        with casebook.changing():
            labelled = [p for p in casebook.presses(take_id=self.old) if p.label and not p.stray]
            for press in casebook.presses(take_id=self.new):
                over = [p for p in labelled if p.reading.overlaps(press.reading)]
                if over and not press.label and not press.stray:
                    casebook.set_label(press.id, over[0].label)
            casebook.set_hidden(self.old, True)
            casebook.set_hidden(self.new, False)
        return TakePlace(self.new, self.old, self.words)


Change = Label | Delete | PlaceKey | Rename | PlanShots | Overrule | KeepSheet | WriteRoutine | Dismiss | TakePlace


class History(Struct):
    """What was changed since the casebook was opened, and what was taken back of it."""

    done: list[Change] = field(default_factory=list)
    undone: list[Change] = field(default_factory=list)

    def do(self, casebook: Casebook, change: Change) -> Change:
        self.done.append(change.apply(casebook))
        self.undone.clear()
        return change

    def undo(self, casebook: Casebook) -> Change | None:
        """What was taken back is the change that did it; None where there is nothing to."""
        return _move(casebook, self.done, self.undone)

    def redo(self, casebook: Casebook) -> Change | None:
        return _move(casebook, self.undone, self.done)


def _move(casebook: Casebook, source: list[Change], target: list[Change]) -> Change | None:
    if not source:
        return None
    target.append(source[-1].apply(casebook))
    return source.pop()
