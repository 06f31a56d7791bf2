"""The code under the bits: the whole frame as one number, either end first, copied in one click in any form."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from eager_tern.desk.links import link
from eager_tern.desk.qt import clipboard
from eager_tern.desk.words import Words, tool_tip
from eager_tern.session.codes import forms_of
from eager_tern.session.session import Session

LONGEST = 12  # letters of a number that stands there itself; a longer one is named


class CodeRow(QWidget):
    """A link a form; a click copies it and says so."""

    copied = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.links: list[QPushButton] = []
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(18, 0, 14, 2)
        self._row.setSpacing(14)
        heading = Words("COPY THE CODE")
        heading.setObjectName("heading")
        self.said = Words()
        self.said.setObjectName("aside")
        self.said.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self._row.addWidget(heading)
        self._row.addWidget(self.said, 1)

    def show_forms(self, forms: Sequence[tuple[str, str]]) -> None:
        """Each form by its name and its text."""
        for old in self.links:
            self._row.removeWidget(old)
            old.deleteLater()
        self.links = []
        self.said.setText("")
        for at, (name, text) in enumerate(forms, 1):
            is_number = text.removeprefix("0x").isalnum() and len(text) <= LONGEST
            copy = partial(self._copy, name, text)
            button = link(text if is_number else name, f"Copy the code as {name}", copy)
            button.setToolTip(tool_tip(f"{name}: {text if len(text) < 200 else text[:200] + ' …'}"))
            self._row.insertWidget(at, button)
            self.links.append(button)

    def show_selected(self) -> None:
        """The forms of the press that is selected."""
        presses = self._session.selected_presses()
        self.show_forms(forms_of(self._session, presses[0]) if len(presses) == 1 else [])

    def _copy(self, name: str, text: str) -> None:
        clipboard().setText(text)
        self.said.setText(f"{name} copied")
        self.copied.emit(text)
