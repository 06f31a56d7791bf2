"""Typing a label over a row of the log. It stays, with what was typed, whatever arrives meanwhile."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QEvent, QObject, Qt, pyqtSignal
from PyQt6.QtGui import QFocusEvent, QKeyEvent
from PyQt6.QtWidgets import QApplication, QCompleter, QLineEdit, QWidget

from eager_tern.texts import tr


class LabelEditor(QLineEdit):
    """``press_id`` is the press whose label is typed."""

    ended = pyqtSignal(int, object)  # the press, and its label; None: leave it as it was

    def __init__(self, parent: QWidget, press_id: int, label: str, names: Sequence[str]) -> None:
        super().__init__(label, parent)
        self.press_id = press_id
        self._over = False
        self.setObjectName("label-editor")
        self.setPlaceholderText(tr("the key's name"))
        self.setAccessibleName(tr("Label of this press"))
        self.setFixedHeight(25)
        completer = QCompleter(names, self)
        completer.setCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        completer.activated.connect(self._return)
        self.setCompleter(completer)
        popup = completer.popup()
        if popup is not None:
            popup.installEventFilter(self)
        self.selectAll()

    def _return(self) -> None:
        """As if Return had been pressed, once the completer has put its name in."""
        key = QKeyEvent(QEvent.Type.KeyPress, Qt.Key.Key_Return, Qt.KeyboardModifier.NoModifier)
        QApplication.postEvent(self, key)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """Return ends the label even while names are offered: the list would only close on it."""
        completer = self.completer()
        popup = completer.popup() if completer is not None else None
        if (
            popup is not None
            and watched is popup
            and isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and not popup.currentIndex().isValid()
        ):
            popup.hide()
            self._return()
            return True
        return super().eventFilter(watched, event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.end(keep=True)
        elif event.key() == Qt.Key.Key_Escape:
            self.end(keep=False)
        elif event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown):
            event.accept()  # the log's rows stay where they are while something is typed
        else:
            super().keyPressEvent(event)

    def focusOutEvent(self, event: QFocusEvent | None) -> None:
        super().focusOutEvent(event)
        if event is not None and event.reason() not in (
            Qt.FocusReason.PopupFocusReason,
            Qt.FocusReason.ActiveWindowFocusReason,
        ):
            self.end(keep=True)

    def end(self, keep: bool) -> None:
        """Be done; only the first call counts."""
        if not self._over:
            self._over = True
            self.ended.emit(self.press_id, self.text() if keep else None)
