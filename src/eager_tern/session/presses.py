"""What was caught of a gadget, in the order sent, and what follows from it."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator

from eager_tern.casebook.tally import Tally, tally
from eager_tern.casebook.values import Caught

Place = tuple[int, int]


def place_of(press: Caught) -> Place:
    """Where a press stands among the others: its take, and its first mark in it."""
    return press.take_id, press.reading.frames[0][0]


class Presses:
    """Presses and strays, deleted ones too. What is made of them is made when it is first asked for."""

    def __init__(self) -> None:
        self._all: list[Caught] = []
        self._by_id: dict[int, Caught] = {}
        self._shown: list[Caught] | None = None
        self._tally: Tally | None = None

    def __iter__(self) -> Iterator[Caught]:
        return iter(self._all)

    def __len__(self) -> int:
        return len(self._all)

    def __contains__(self, press_id: int) -> bool:
        return press_id in self._by_id

    def __getitem__(self, at: int) -> Caught:
        return self._all[at]

    def get(self, press_id: int) -> Caught | None:
        return self._by_id.get(press_id)

    @property
    def shown(self) -> list[Caught]:
        """Those of the log: without strays and deleted ones."""
        if self._shown is None:
            self._shown = [press for press in self._all if not press.deleted and not press.stray]
        return self._shown

    @property
    def tally(self) -> Tally:
        """How often what was caught."""
        if self._tally is None:
            self._tally = tally(self._all)
        return self._tally

    def extend(self, presses: Iterable[Caught]) -> None:
        """Add presses that stand behind all others."""
        presses = list(presses)
        self._all += presses
        self._by_id |= {press.id: press for press in presses}
        self._forget()

    def put(self, presses: Iterable[Caught]) -> bool:
        """Take presses in, each at its place: in place of what was known of it, or new. Whether all of the new ones
        stand behind everything that was there.
        """
        behind = True
        counts_change = False
        for press in presses:
            known = self._by_id.get(press.id)
            at = bisect_left(self._all, place_of(press), key=place_of)
            if known is not None:
                counts_change |= not _counts_as(known, press)
                self._all[at] = press
            else:
                counts_change = True
                behind &= at == len(self._all)
                self._all.insert(at, press)
            self._by_id[press.id] = press
        kept = self._tally if not counts_change else None
        self._forget()
        self._tally = kept
        return behind

    def _forget(self) -> None:
        self._shown = self._tally = None


def _counts_as(before: Caught, now: Caught) -> bool:
    """Whether a press that was changed is counted as before."""
    return (before.code, before.stray, before.deleted) == (now.code, now.stray, now.deleted)
