"""The log as a list: presses in order, strays between them folded into one line."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QAbstractListModel, QModelIndex, Qt

from eager_tern.casebook.values import Caught
from eager_tern.desk.document import Document
from eager_tern.desk.words import clock_time, hold, plural, short_code

PRESS_ROLE = int(Qt.ItemDataRole.UserRole)


@dataclass(frozen=True)
class StrayFold:
    """Strays between two presses."""

    strays: tuple[Caught, ...]
    unfolded: bool = False

    @property
    def text(self) -> str:
        first, last = (clock_time(s.caught_at) for s in (self.strays[0], self.strays[-1]))
        return f"{plural(len(self.strays), 'stray')}, {first}" + (f"–{last[3:]}" if last != first else "")


Row = Caught | StrayFold


def _identity(row: Row) -> tuple[int, int]:
    """What makes a row the same one, whatever is said about it."""
    return (row.id, 0) if isinstance(row, Caught) else (-row.strays[0].id, len(row.strays))


class LogModel(QAbstractListModel):
    """Rows of the log that pass the filter."""

    def __init__(self, document: Document) -> None:
        super().__init__()
        self._document = document
        self._rows: list[Row] = []
        self._filter = ""
        self._texts: dict[int, tuple[Caught, str]] = {}  # what the filter looks at
        self._unfolded: set[int] = set()  # by the id of a fold's first stray
        document.opened.connect(self.reload)
        document.presses_changed.connect(self.reload)
        document.press_changed.connect(self._take_in)

    def set_filter(self, text: str) -> None:
        self._filter = text.strip().lower()
        self.reload()

    def toggle_fold(self, fold: StrayFold) -> None:
        self._unfolded ^= {fold.strays[0].id}
        self.reload()

    def reload(self) -> None:
        """Look at all presses again. Where the rows stay the same ones, an editor among them stays open."""
        before, self._rows = self._rows, []
        for press in self._document.presses:
            self._append(press)
        rows, self._rows = self._rows, before
        if [_identity(row) for row in rows] == [_identity(row) for row in before]:
            self._rows = rows
            if rows:
                self.dataChanged.emit(self.index(0), self.index(len(rows) - 1))
            return
        self.beginResetModel()
        self._rows = rows
        self.endResetModel()

    def _append(self, press: Caught) -> bool:
        """Whether the row is a new one."""
        if press.deleted:
            return False
        if not press.stray:
            if self._matches(press):
                self._rows.append(press)
                return True
            return False
        if self._filter:
            return False
        # Unfolded strays stand behind their fold.
        at = len(self._rows) - 1
        while at >= 0 and isinstance(row := self._rows[at], Caught) and row.stray:
            at -= 1
        if at >= 0 and isinstance(fold := self._rows[at], StrayFold):
            self._rows[at] = StrayFold((*fold.strays, press), fold.unfolded)
        else:
            self._rows.append(StrayFold((press,), press.id in self._unfolded))
            at = len(self._rows) - 1
        if self._rows[at].unfolded:  # type: ignore[union-attr]
            self._rows.append(press)
        return True

    def _matches(self, press: Caught) -> bool:
        if not self._filter:
            return True
        words = self._filter.split()
        if all(word in press.label.lower() for word in words):
            return True
        known = self._texts.get(press.id)
        if known is None or known[0] is not press:
            text = f"{press.label} {press.reading.protocol} {short_code(press)}".lower()
            known = self._texts[press.id] = (press, text)
        return all(word in known[1] for word in words)

    def _take_in(self, press_id: int) -> None:
        press = self._document.press(press_id)
        assert press is not None
        row = self.row_of(press_id)
        if row is not None:
            self._rows[row] = press
            self.dataChanged.emit(self.index(row), self.index(row))
            return
        before = len(self._rows)
        if press.stray:
            self._append(press)
            self.layoutChanged.emit()
        elif self._matches(press):
            self.beginInsertRows(QModelIndex(), before, before)
            self._append(press)
            self.endInsertRows()

    # Qt's side

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self._rows)

    def stray_rows(self) -> list[int]:
        """Rows of strays and of their folds."""
        return [n for n, row in enumerate(self._rows) if isinstance(row, StrayFold) or row.stray]

    def row_of(self, press_id: int) -> int | None:
        """The row of a press, sought from the newest on."""
        rows = range(len(self._rows) - 1, -1, -1)
        return next((n for n in rows if isinstance(row := self._rows[n], Caught) and row.id == press_id), None)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row = self._rows[index.row()]
        if role == PRESS_ROLE:
            return row
        if isinstance(row, StrayFold):
            return row.text if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole) else None
        if role == Qt.ItemDataRole.EditRole:
            return row.label
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole):
            parts = [row.label or "unlabelled", short_code(row) if not row.stray else "stray", hold(row)]
            return ", ".join(part for part in [*parts, clock_time(row.caught_at)] if part)
        return None

    def setData(self, index: QModelIndex, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        row = self._rows[index.row()]
        if role != Qt.ItemDataRole.EditRole or isinstance(row, StrayFold):
            return False
        self._document.label(row.id, str(value))
        return True

    def flags(self, index: QModelIndex) -> Qt.ItemFlag:
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        row = self._rows[index.row()]
        if isinstance(row, Caught) and not row.stray:
            flags |= Qt.ItemFlag.ItemIsEditable
        return flags
