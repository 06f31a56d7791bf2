"""What to do where there is nothing yet: no casebook, or a gadget without a press."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtBoundSignal, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from eager_tern.desk.theme import text_font
from eager_tern.desk.words import Words
from eager_tern.session.session import Session
from eager_tern.session.sources import source_choices

NO_CASEBOOK = (
    "Where to begin",
    "A casebook is one file that holds everything about your gadgets: recordings, presses, keys. "
    "Begin a new one, open one you have, or look at the example first.",
)
NO_PRESS = (
    "Get the first press in",
    "Choose a source above, press Listen, and press a key on the handset: it arrives in the log. "
    "Or drop a recording here: timing text, CSV, VCD, audio or IQ.",
)
NO_PORT = "No serial port was found on this machine. The simulated handsets need none."


class Start(QWidget):
    """A few words and the next steps."""

    new_asked = pyqtSignal()
    open_asked = pyqtSignal()
    demo_asked = pyqtSignal()
    tour_asked = pyqtSignal()
    import_asked = pyqtSignal()
    listen_asked = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self._title = Words()
        self._title.setObjectName("title")
        self._title.setFont(text_font(20, bold=True))
        self._text = Words()
        self._text.setWordWrap(True)
        self._text.setMaximumWidth(460)
        self.demo = _button("Open the example", self.demo_asked)
        self.tour = _button("Show me how", self.tour_asked)
        self.new = _button("New casebook …", self.new_asked)
        self.open = _button("Open …", self.open_asked)
        self.listen = _button("Listen", self.listen_asked)
        self.bring = _button("Import a recording …", self.import_asked)
        buttons = QHBoxLayout()
        buttons.setSpacing(10)
        for button in (self.listen, self.bring, self.tour, self.demo, self.new, self.open):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(60, 90, 60, 60)
        layout.setSpacing(16)
        layout.addWidget(self._title)
        layout.addWidget(self._text)
        layout.addLayout(buttons)
        layout.addStretch(1)
        session.opened.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        has_casebook = self._session.casebook is not None
        title, text = NO_PRESS if has_casebook else NO_CASEBOOK
        if has_casebook:
            real = [choice.name for choice in source_choices("") if choice.device]
            text += "\n\n" + (f"Found on this machine: {', '.join(real)}." if real else NO_PORT)
        self._title.setText(title)
        self._text.setText(text)
        for button in (self.listen, self.bring):
            button.setVisible(has_casebook)
        for button in (self.tour, self.demo, self.new, self.open):
            button.setVisible(not has_casebook)


def _button(text: str, signal: pyqtBoundSignal) -> QPushButton:
    button = QPushButton(text)
    button.setCursor(Qt.CursorShape.PointingHandCursor)
    button.clicked.connect(lambda: signal.emit())
    return button
