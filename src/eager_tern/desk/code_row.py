"""The code under the bits: the whole frame as one number, either end first, copied in one click in any form."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QPushButton, QWidget

from eager_tern.desk.links import link
from eager_tern.desk.qt import clipboard
from eager_tern.desk.words import Words, tool_tip
from eager_tern.session.codes import forms_of
from eager_tern.session.session import Session
from eager_tern.texts import tr

LEFT, SPACING = 18, 14
LONGEST = 12  # letters of a number that stands there itself; a longer one is named


class CodeRow(QWidget):
    """A link a form; a click copies it and says so."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.links: list[QPushButton] = []
        self._heading = Words(tr("COPY THE CODE"), self)
        self._heading.setObjectName("heading")
        self.said = Words("", self)
        self.said.setObjectName("aside")

    def show_forms(self, forms: Sequence[tuple[str, str]]) -> None:
        """Each form by its name and its text."""
        for old in self.links:
            old.hide()
            old.deleteLater()
        self.links = []
        self.said.setText("")
        for name, text in forms:
            is_number = text.removeprefix("0x").isalnum() and len(text) <= LONGEST
            copy = partial(self._copy, name, text)
            button = link(text if is_number else name, tr("Copy the code as {name}", name=name), copy)
            button.setToolTip(tool_tip(f"{name}: {text if len(text) < 200 else text[:200] + ' …'}"))
            button.setParent(self)
            button.show()
            self.links.append(button)
        self._flow()

    def show_selected(self) -> None:
        """The forms of the press that is selected."""
        presses = self._session.selected_presses()
        self.show_forms(forms_of(self._session, presses[0]) if len(presses) == 1 else [])

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        self._flow()

    def _flow(self) -> None:
        """One beside the other, and in a narrow window under it."""
        x, y, height = LEFT, 0, 0
        for widget in (self._heading, *self.links, self.said):
            widget.adjustSize()
            if x > LEFT and x + widget.width() > self.width() - LEFT:
                x, y, height = LEFT, y + height + 4, 0
            widget.move(x, y)
            x, height = x + widget.width() + SPACING, max(height, widget.height())
        self.setFixedHeight(y + height + 4)

    def _copy(self, name: str, text: str) -> None:
        clipboard().setText(text)
        self.said.setText(tr("{name} copied", name=name))
        self._flow()
