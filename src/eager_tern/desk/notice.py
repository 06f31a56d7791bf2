"""A line under the header that says what went wrong, to what, and what to do."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton

from eager_tern.desk.words import Words
from eager_tern.texts import tr


class Notice(QFrame):
    """Stays until it is dismissed or replaced."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("notice")
        self._text = Words()
        self._text.setWordWrap(True)
        self._action = QPushButton()
        self._action.setObjectName("link")
        self._act: Callable[[], None] | None = None
        self._action.clicked.connect(self._do)
        self._dismiss = QPushButton(tr("Dismiss"))
        self._dismiss.setObjectName("link")
        self._dismiss.clicked.connect(self.hide)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(14, 7, 16, 7)
        layout.setSpacing(16)
        layout.addWidget(self._text, 1)
        layout.addWidget(self._action)
        layout.addWidget(self._dismiss)
        self.hide()

    @property
    def text(self) -> str:
        return self._text.text()

    def say(self, text: str, action: str = "", act: Callable[[], None] | None = None) -> None:
        """Show a sentence, with something to do about it if there is."""
        self._text.setText(text)
        self.setAccessibleName(text)
        self._action.setText(action)
        self._action.setVisible(bool(action))
        self._act = act
        self.show()

    def _do(self) -> None:
        self.hide()
        if self._act is not None:
            self._act()
