"""How the open source does: who it is, what is wrong with it, and what to try."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from eager_tern.desk.words import Words
from eager_tern.session.live import Live
from eager_tern.session.publishing import Publishing
from eager_tern.texts import tr

EVERY_MS = 500


class SourcePanel(QWidget):
    """Shown while a source is open, or something is published."""

    missed_asked = pyqtSignal()

    def __init__(self, live: Live, publishing: Publishing) -> None:
        super().__init__()
        self.setObjectName("margin")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._live = live
        self._publishing = publishing
        self.setAccessibleName(tr("Source"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(12, 10, 12, 10)
        layout.setSpacing(4)
        heading = Words(tr("SOURCE"))
        heading.setObjectName("heading")
        self.state = Words()
        self.state.setObjectName("aside")
        self.broker = Words()
        self.broker.setObjectName("aside")
        self.trouble = Words()
        self.trouble.setObjectName("trouble")
        self.remedy = Words()
        self.have = QPushButton(tr("Have what was just missed"))
        self.have.setObjectName("link")
        self.have.setCursor(Qt.CursorShape.PointingHandCursor)
        self.have.clicked.connect(lambda: self.missed_asked.emit())
        for widget in (heading, self.state, self.broker, self.trouble, self.remedy):
            widget.setWordWrap(True)
            layout.addWidget(widget)
        layout.addWidget(self.have, 0, Qt.AlignmentFlag.AlignLeft)
        self._timer = QTimer(self)
        self._timer.setInterval(EVERY_MS)
        self._timer.timeout.connect(self.refresh)
        live.changed.connect(self.refresh)
        publishing.changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        condition = self._live.condition()
        self.setVisible(condition is not None or self._publishing.on)
        self.broker.setText(self._publishing.words)
        self.broker.setVisible(self._publishing.on)
        self.state.setVisible(condition is not None)
        if condition is None:
            self._timer.stop()
            for label in (self.trouble, self.remedy, self.have):
                label.hide()
            return
        self._timer.start()
        state, troubles = condition
        self.state.setText(state if self._live.on else tr("An ear is open, nothing is recorded. {state}", state=state))
        for label, text in (
            (self.trouble, troubles[0].what if troubles else ""),
            (self.remedy, tr("Try: {remedy}", remedy=troubles[0].remedy) if troubles else ""),
        ):
            label.setText(text)
            label.setVisible(bool(text))
        self.have.setVisible(self._live.can_have_missed)
