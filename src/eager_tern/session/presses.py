"""What was caught of a gadget, in the order sent, and what follows from it."""

from __future__ import annotations

from bisect import bisect_left
from collections import Counter
from collections.abc import Iterable, Iterator
from enum import Enum

from eager_tern.casebook.tally import Tally
from eager_tern.casebook.values import Caught

Place = tuple[int, int]


class Came(Enum):
    """How presses came in: as changes of what was there, behind everything, or anywhere."""

    KNOWN = 0
    BEHIND = 1
    BETWEEN = 2


def place_of(press: Caught) -> Place:
    """Where a press stands among the others: its take, and when it begins in it."""
    return press.take_id, press.reading.place


class Presses:
    """Presses and strays, deleted ones too. What is told of all of them is kept up as they come."""

    def __init__(self) -> None:
        self._all: list[Caught] = []
        self._by_id: dict[int, Caught] = {}
        self._shown: list[Caught] | None = []
        self._protocols: Counter[str] = Counter()
        self._codes: Counter[object] = Counter()
        self._strays = 0

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
            self._shown = [press for press in self._all if _is_shown(press)]
        return self._shown

    @property
    def tally(self) -> Tally:
        """How often what was caught."""
        return Tally(self._protocols, self._codes, self._strays)

    def put(self, presses: Iterable[Caught]) -> Came:
        """Take presses in, each at its place: instead of what was known of it, or new."""
        came = Came.KNOWN
        for press in presses:
            known = self._by_id.get(press.id)
            behind = not self._all or place_of(press) > place_of(self._all[-1])
            if known is None and behind:
                self._all.append(press)
                if self._shown is not None and _is_shown(press):
                    self._shown.append(press)
                came = max(came, Came.BEHIND, key=lambda each: each.value)
            else:
                at = bisect_left(self._all, place_of(press), key=place_of)
                if known is None:
                    self._all.insert(at, press)
                    came = Came.BETWEEN
                else:
                    self._all[at] = press
                    self._count(known, -1)
                self._shown = None
            self._by_id[press.id] = press
            self._count(press, 1)
        return came

    def _count(self, press: Caught, by: int) -> None:
        if _is_shown(press):
            self._protocols[press.reading.protocol] += by
            self._codes[press.code] += by
        elif press.stray:
            self._strays += by


def _is_shown(press: Caught) -> bool:
    return not press.deleted and not press.stray
