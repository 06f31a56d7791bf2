"""The findings: cards beside the tape."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from eager_tern.desk.theme import SMALL_PX, colour, text_font
from eager_tern.desk.words import Words, tool_tip
from eager_tern.session.cards import STATUS_WORDS, Card, Strips, cards_for_press, cards_for_several, strip_bounds
from eager_tern.session.comparison import ComparisonModel
from eager_tern.session.comparison_cards import cards_for_comparison
from eager_tern.session.session import Session
from eager_tern.session.words import duration
from eager_tern.texts import plural, tr

STATUS_ROLES = {"proven": "proven", "uncertain": "uncertain", "failing": "attention", "note": "fog"}


class StripsPicture(QWidget):
    """Marks above, spaces below one logarithmic ruler."""

    def __init__(self, strips: Strips) -> None:
        super().__init__()
        self._strips = strips
        self.setFixedHeight(62)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        counted = {"mark": ("mark", "marks"), "space": ("space", "spaces")}
        words = ", ".join(
            tr("{marks} of {length}", marks=plural(cluster.count, *counted[kind]), length=duration(cluster.centre_us))
            for kind, cluster in strips.clusters
        )
        self.setAccessibleName(words)
        self.setToolTip(tool_tip(words))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        low, high = (np.log(bound) for bound in strip_bounds(self._strips))
        left, width = 40.0, self.width() - 46.0

        def x_of(us: float) -> float:
            return left + width * float((np.log(us) - low) / (high - low))

        middle = 31.0
        painter.setFont(text_font(SMALL_PX))
        for name, values, top, bottom, role in (
            (tr("marks"), self._strips.marks_us, middle - 14, middle - 1, "ink"),
            (tr("spaces"), self._strips.spaces_us, middle + 1, middle + 14, "proven"),
        ):
            painter.setPen(colour("quiet"))
            painter.drawText(QPointF(0, (top + bottom) / 2 + 4), name)
            painter.setPen(QPen(colour(role, 0.55), 1.2))
            for value in values:
                painter.drawLine(QPointF(x_of(value), top), QPointF(x_of(value), bottom))
        painter.setPen(QPen(colour("quiet"), 1))
        painter.drawLine(QPointF(left, middle), QPointF(left + width, middle))
        ends = {"mark": left - 40, "space": left - 40}
        for kind, cluster in self._strips.clusters:
            text = f"{cluster.centre_us:.0f}"
            size = painter.fontMetrics().horizontalAdvance(text)
            x = min(max(x_of(cluster.centre_us) - size / 2, 0), self.width() - size - 1)
            if x > ends[kind] + 4:
                painter.drawText(QRectF(x, 0 if kind == "mark" else 48, size + 2, 14), Qt.AlignmentFlag.AlignLeft, text)
                ends[kind] = x + size


class CardView(QFrame):
    """One card; its left edge says how it stands, and a word says it too."""

    go = pyqtSignal(str)
    label_asked = pyqtSignal(str)
    dismissed = pyqtSignal(str)
    accepted = pyqtSignal(str)

    def __init__(self, card: Card) -> None:
        super().__init__()
        self.setObjectName("card")
        self.card = card
        layout = QVBoxLayout(self)
        layout.setContentsMargins(15, 9, 10, 9)
        layout.setSpacing(4)
        title = Words(card.title)
        title.setWordWrap(True)
        title.setFont(text_font(13, bold=True))
        title.setStyleSheet("font-weight: bold")
        layout.addWidget(title)
        text = Words(card.text)
        text.setWordWrap(True)
        layout.addWidget(text)
        if card.picture is not None:
            layout.addWidget(StripsPicture(card.picture))
        word = STATUS_WORDS[card.status]
        aside = " · ".join(part for part in (word, card.aside) if part)
        if aside:
            label = Words(aside)
            label.setObjectName("aside")
            label.setWordWrap(True)
            layout.addWidget(label)
        self._why = Words(card.why)
        self._why.setWordWrap(True)
        self._why.setVisible(False)
        layout.addWidget(self._why)
        links = QHBoxLayout()
        links.setSpacing(16)
        if card.why:
            self.why_button = self._link(tr("Why?"), links)
            self.why_button.clicked.connect(self._toggle_why)
        if card.go:
            button = self._link(tr("Show on the {leaf}", leaf=tr(card.go).lower()), links)
            button.clicked.connect(lambda: self.go.emit(card.go))
        if card.label:
            button = self._link(tr("Label it “{label}”", label=card.label), links)
            button.clicked.connect(lambda: self.label_asked.emit(card.label))
        if card.accept:
            button = self._link(tr("Accept"), links)
            button.setToolTip(tr("Believe it all the same: it enters the sheet"))
            button.setAccessibleName(tr("Accept {title}", title=card.title))
            button.clicked.connect(lambda: self.accepted.emit(card.accept))
        if card.finding:
            button = self._link(tr("Dismiss"), links)
            button.setAccessibleName(tr("Dismiss {title}", title=card.title))
            button.clicked.connect(lambda: self.dismissed.emit(card.finding))
        if links.count():
            links.addStretch(1)
            layout.addLayout(links)
        self.setAccessibleName(card.title)

    def _link(self, text: str, links: QHBoxLayout) -> QPushButton:
        button = QPushButton(text)
        button.setObjectName("link")
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        links.addWidget(button)
        return button

    def _toggle_why(self) -> None:
        self._why.setVisible(not self._why.isVisible())
        self.why_button.setText(tr("Less") if self._why.isVisible() else tr("Why?"))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        super().paintEvent(event)
        painter = QPainter(self)
        edge = colour(STATUS_ROLES[self.card.status])
        if self.card.status == "uncertain":  # broken, so that colour is not all that tells
            for y in range(0, self.height(), 10):
                painter.fillRect(QRectF(0, y, 5, 6), edge)
        else:
            painter.fillRect(QRectF(0, 0, 5, self.height()), edge)


class Findings(QScrollArea):
    """Cards about what is selected."""

    go = pyqtSignal(str)

    def __init__(self, session: Session, comparison: ComparisonModel) -> None:
        super().__init__()
        self.setObjectName("margin")
        self._session = session
        self._comparison = comparison
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setAccessibleName(tr("Findings"))
        self.cards: list[Card] = []
        self._of_stack = False
        comparison.changed.connect(self.refresh)
        for signal in (session.selection_changed, session.presses_changed, session.opened):
            signal.connect(self.refresh)
        session.press_changed.when(self.refresh)
        self.refresh()

    def _label(self, text: str) -> None:
        for press_id in self._session.selected:
            self._session.label(press_id, text)

    def show_stack(self, on: bool) -> None:
        """Cards about all frames of the gadget, where something was found out, rather than about those selected."""
        if on != self._of_stack:
            self._of_stack = on
            self.refresh()

    def refresh(self) -> None:
        """Make the cards anew."""
        presses = self._session.selected_presses()
        found = self._comparison.comparison if self._of_stack else None
        if found is not None:
            cards = cards_for_comparison(
                found, [press.label for press in self._comparison.rows], self._comparison.verdicts
            )
            heading = tr("FINDINGS ABOUT {rows} FRAMES", rows=found.stack.rows)
        elif len(presses) == 1:
            press = presses[0]
            keys, take = self._session.key_table(), self._session.take(press)
            cards = cards_for_press(
                press, self._session.frame(press), self._session.tally(), keys, take, self._session.shown_presses()
            )
            heading = tr("FINDINGS ABOUT THIS FRAME")
        elif presses:
            cards = cards_for_several(presses)
            heading = tr("FINDINGS ABOUT {rows} FRAMES", rows=len(presses))
        else:
            cards, heading = [], tr("FINDINGS")
        if cards == self.cards and self.widget() is not None and cards:
            return
        self.cards = cards
        inner = QWidget()
        layout = QVBoxLayout(inner)
        layout.setContentsMargins(12, 12, 12, 12)
        layout.setSpacing(8)
        label = Words(heading)
        label.setObjectName("heading")
        layout.addWidget(label)
        for card in cards:
            view = CardView(card)
            view.go.connect(self.go)
            view.label_asked.connect(self._label)
            view.dismissed.connect(self._comparison.dismiss)
            view.accepted.connect(self._comparison.accept)
            layout.addWidget(view)
        if not cards:
            empty = Words(tr("What is found out about a frame stands here, with the evidence for it."))
            empty.setObjectName("aside")
            empty.setWordWrap(True)
            layout.addWidget(empty)
        layout.addStretch(1)
        self.setWidget(inner)
