"""The log as a list: presses in order, strays between them folded into one line."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from msgspec import Struct
from PyQt6.QtCore import QAbstractListModel, QModelIndex, Qt

from eager_tern.casebook.stacks import short_label, usual_labels
from eager_tern.casebook.values import Caught
from eager_tern.compare.stack import Label
from eager_tern.protocol.codes import codes_of
from eager_tern.session.inbox import Slices
from eager_tern.session.session import Session
from eager_tern.session.words import clock_time, hold, short_code
from eager_tern.texts import plural, tr

AT_ONCE = 500  # presses that are looked at before others may get their turn
ENOUGH_LABELS = 500  # tell what is usual
PRESS_ROLE = int(Qt.ItemDataRole.UserRole)
SHORT_ROLE = PRESS_ROLE + 1


class StrayFold(Struct, frozen=True):
    """Strays between two presses."""

    strays: tuple[Caught, ...]
    unfolded: bool = False

    @property
    def text(self) -> str:
        first, last = (clock_time(s.caught_at) for s in (self.strays[0], self.strays[-1]))
        return f"{plural(len(self.strays), 'stray', 'strays')}, {first}" + (f"–{last[3:]}" if last != first else "")


Row = Caught | StrayFold


def _same_row(row: Row, other: Row) -> bool:
    """Whether two rows are the same one, whatever is said about it."""
    if isinstance(row, Caught) or isinstance(other, Caught):
        return isinstance(row, Caught) and isinstance(other, Caught) and row.id == other.id
    return row.strays[0].id == other.strays[0].id and len(row.strays) == len(other.strays)


class LogModel(QAbstractListModel):
    """Rows of the log that pass the filter."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._rows: list[Row] = []
        self._all_strays: list[int] = []  # their rows, when the model was reset last
        self._row_of: dict[int, int] | None = {}  # by a press's id, until rows come or go
        self._filter = ""
        self._texts: dict[int, tuple[Caught, str]] = {}  # what the filter looks at
        self._usual: dict[str, Label] | None = None
        self._reloading: Slices | None = None
        self._unfolded: set[int] = set()  # by the id of a fold's first stray
        session.emptied.connect(self._clear)
        session.opened.connect(self.reload)
        session.presses_changed.connect(self.reload)
        session.presses_added.connect(self._take_in_behind)
        session.press_changed.connect(self._take_in)

    def set_filter(self, text: str) -> None:
        self._filter = text.strip().lower()
        self.reload()

    def toggle_fold(self, fold: StrayFold) -> None:
        self._unfolded ^= {fold.strays[0].id}
        self.reload()

    def reload(self) -> None:
        """Look at all presses again, a slice at a time where there are many."""
        self._usual = None
        if self._reloading is not None:
            self._reloading.call_off()
        self._reloading = self._session.inbox.in_slices(self._look_at_all())

    def _clear(self) -> None:
        if self._reloading is not None:
            self._reloading.call_off()
        self.beginResetModel()
        self._rows, self._row_of, self._all_strays = [], None, []
        self.endResetModel()

    def _look_at_all(self) -> Iterator[None]:
        rows: list[Row] = []
        for number, press in enumerate(tuple(self._session.presses), 1):
            self._append(rows, press)
            if number % AT_ONCE == 0:
                yield
        if len(rows) == len(self._rows) and all(map(_same_row, rows, self._rows)):
            self._rows = rows
            if rows:
                self.dataChanged.emit(self.index(0), self.index(len(rows) - 1))
            return
        numbers: dict[int, int] = {}
        strays: list[int] = []
        for first in range(0, len(rows), AT_ONCE):
            for number, row in enumerate(rows[first : first + AT_ONCE], first):
                if isinstance(row, Caught):
                    numbers[row.id] = number
                if isinstance(row, StrayFold) or row.stray:
                    strays.append(number)
            yield
        self.beginResetModel()
        self._rows, self._row_of, self._all_strays = rows, numbers, strays
        self.endResetModel()

    def _append(self, rows: list[Row], press: Caught) -> None:
        if press.deleted:
            return
        if not press.stray:
            if not self._filter or self._matches(press):
                rows.append(press)
            return
        if self._filter:
            return
        # Unfolded strays stand behind their fold.
        at = len(rows) - 1
        while at >= 0 and isinstance(row := rows[at], Caught) and row.stray:
            at -= 1
        if at >= 0 and isinstance(fold := rows[at], StrayFold):
            rows[at] = StrayFold((*fold.strays, press), fold.unfolded)
        else:
            rows.append(StrayFold((press,), press.id in self._unfolded))
            at = len(rows) - 1
        fold = rows[at]
        if isinstance(fold, StrayFold) and fold.unfolded:
            rows.append(press)

    def _matches(self, press: Caught) -> bool:
        words = self._filter.split()
        known = self._texts.get(press.id)
        if known is None or known[0] is not press:
            text = f"{press.label} {press.reading.protocol} {short_code(press)}".lower()
            known = self._texts[press.id] = (press, text)
        return all(word in known[1] for word in words)

    def _begins_anew(self) -> bool:
        """Whether all presses are being looked at: what comes meanwhile would be lost, so that begins anew."""
        under_way = self._reloading is not None and not self._reloading.done
        if under_way:
            self.reload()
        return under_way

    def _take_in(self, press_id: int) -> None:
        if self._begins_anew():
            return
        press = self._session.press(press_id)
        row = self.row_of(press_id)
        if press is None or (row is None and (press.deleted or press.id != self._session.presses[-1].id)):
            self.reload()
        elif row is not None and not press.deleted and press.stray == self._caught_at(row).stray:
            self._rows[row] = press
            self.dataChanged.emit(self.index(row), self.index(row))
        elif row is not None or press.stray:
            self.reload()
        elif not self._filter or self._matches(press):
            before = len(self._rows)
            self.beginInsertRows(QModelIndex(), before, before)
            self._append(self._rows, press)
            self._number_rows(before)
            self.endInsertRows()

    def _take_in_behind(self, press_ids: tuple[int, ...]) -> None:
        """Presses that stand behind all others."""
        if self._begins_anew():
            return
        before = len(self._rows)
        rows = self._rows[-1:]  # a fold that ends the log may take strays in
        for press_id in press_ids:
            press = self._session.press(press_id)
            if press is not None:
                self._append(rows, press)
        if before:
            self._rows[-1] = rows.pop(0)
            self.dataChanged.emit(self.index(before - 1), self.index(before - 1))
        if rows:
            self.beginInsertRows(QModelIndex(), before, before + len(rows) - 1)
            self._rows += rows
            self._number_rows(before)
            self.endInsertRows()

    def _number_rows(self, first: int) -> None:
        """The rows from this one on are new."""
        if self._row_of is not None:
            new = enumerate(self._rows[first:], first)
            self._row_of |= {row.id: n for n, row in new if isinstance(row, Caught)}

    def _caught_at(self, row: int) -> Caught:
        found = self._rows[row]
        assert isinstance(found, Caught)
        return found

    def short_label(self, press: Caught) -> str:
        """A press's label as there is room for it: what is not as in most presses."""
        if "," not in press.label:
            return press.label
        if self._usual is None:
            labels = [each.label for each in self._session.shown_presses() if each.label]
            self._usual = usual_labels(labels[:: max(1, len(labels) // ENOUGH_LABELS)])
        return short_label(press.label, self._usual)

    # Qt's side

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self._rows)

    def stray_rows(self, first: int = 0, last: int | None = None) -> list[int]:
        """Rows of strays and of their folds, from one row to another; without a last row, all that a reset brought."""
        if last is None:
            return self._all_strays
        some = self._rows[first : last + 1]
        return [n for n, row in enumerate(some, first) if isinstance(row, StrayFold) or row.stray]

    def row_of(self, press_id: int) -> int | None:
        """The row of a press."""
        if self._row_of is None:
            self._row_of = {row.id: n for n, row in enumerate(self._rows) if isinstance(row, Caught)}
        return self._row_of.get(press_id)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row = self._rows[index.row()]
        if role == PRESS_ROLE:
            return row
        if role == SHORT_ROLE:
            return self.short_label(row) if isinstance(row, Caught) else ""
        if isinstance(row, StrayFold):
            return row.text if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole) else None
        if role == Qt.ItemDataRole.ToolTipRole:
            codes = codes_of(np.array(list(row.reading.bits), np.uint8))
            return (
                tr("{as_sent} as sent\n{turned} first bit lowest", as_sent=codes.as_sent, turned=codes.turned)
                if codes is not None
                else None
            )
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            parts = [row.label or tr("unlabelled"), short_code(row) if not row.stray else tr("stray"), hold(row)]
            return ", ".join(part for part in [*parts, clock_time(row.caught_at)] if part)
        return None

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        return Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
