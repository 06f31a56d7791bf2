"""The Signal leaf: the tape, and the bits under it."""

from __future__ import annotations

from itertools import islice

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from eager_tern.casebook.values import Caught
from eager_tern.desk.as_recorded import AsRecorded
from eager_tern.desk.bits import BASES, Bits
from eager_tern.desk.calipers import Calipers
from eager_tern.desk.code_row import CodeRow
from eager_tern.desk.hear_it import HearIt
from eager_tern.desk.links import link
from eager_tern.desk.overlay import Overlay
from eager_tern.desk.overview import Overview
from eager_tern.desk.qt import clipboard
from eager_tern.desk.strip import StripTape
from eager_tern.desk.tape import WrappedTape
from eager_tern.desk.theme import ASIDE_PX, colour, text_font
from eager_tern.desk.words import Words
from eager_tern.devices.loudspeaker import Manner
from eager_tern.linecode.values import bit_text
from eager_tern.protocol.presses import Frame
from eager_tern.sending.wording import echo_in_words
from eager_tern.session.sending import as_meant, echo_in
from eager_tern.session.session import Session
from eager_tern.session.words import clock_time
from eager_tern.texts import tr

SAME_KEY_SHOWN = 5
MARGIN = 18
ONES = {
    "pulse-distance": tr("long space"),
    "pulse-width": tr("long mark"),
    "biphase": tr("mark, then space"),
    "async-serial": "space",
    "unknown": tr("mark"),
}


class SignalLeaf(QScrollArea):
    """Shows what is selected: one frame, or several over one another."""

    said = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setWidgetResizable(True)
        self.calipers = Calipers()
        self.tape = WrappedTape(session, self.calipers)
        self.strip = StripTape(session, self.calipers)
        self.overview = Overview(session)
        self.recorded = AsRecorded(session)
        self.bits = Bits(session)
        self.overlay = Overlay(session, tr("TAPES over one another"), with_bits=True)
        self.align = link(
            tr("lay them by best fit"), tr("Lay the tapes by their first edge or by best fit"), self._next_alignment
        )
        self.same_key = Overlay(session, tr("THE SAME CODE, held against it"), with_bits=False)
        self.wrap = link(
            tr("unwrap the take"), tr("Wrap or unwrap the tape"), lambda: self.set_wrapped(self._unwrapped)
        )
        self.hear_it = HearIt()
        self.hear = link(tr("hear it"), tr("Hear the frame as a tone, slowed"), lambda: self._hear("tone"))
        self.clicks = link(
            tr("as clicks"), tr("Hear the frame's edges as clicks, slowed"), lambda: self._hear("clicks")
        )
        self.hear_it.moved.connect(self.tape.show_cursor)
        self.hear_it.failed.connect(self.said)
        self.base = link("", tr("Show values in hex, decimal or binary"), self._next_base)
        self.order = link("", tr("Turn the order of the bits in each value round"), self._turn)
        self.code = CodeRow(session)
        self._facts = Words()
        self._facts.setObjectName("aside")
        self._facts.setWordWrap(True)
        self._unwrapped = False
        self._frame: Frame | None = None
        self._press: Caught | None = None
        inner = QWidget()
        layout = QVBoxLayout(inner)
        layout.setContentsMargins(0, 8, 0, 8)
        layout.setSpacing(6)
        self._measure = Words()
        self._measure.setWordWrap(True)
        self.calipers.changed.connect(self._show_measure)
        self.bits.copied.connect(self._facts.setText)
        layout.addWidget(self.overview)
        layout.addLayout(_row(self._measure, self.hear, self.clicks, self.wrap))
        upper: tuple[QWidget, ...] = (self.recorded.line, self.tape, self.strip, self.recorded)
        for widget in upper:
            layout.addWidget(widget)
        layout.addLayout(_row(self._facts, self.base, self.order))
        for widget in (self.bits, self.code, self.same_key):
            layout.addWidget(widget)
        layout.addLayout(_row(Words(), self.align))
        layout.addWidget(self.overlay)
        self.against = Words()
        self.against.setWordWrap(True)
        self.against.setContentsMargins(MARGIN, 0, MARGIN, 0)
        layout.addWidget(self.against)
        layout.addStretch(1)
        self.setWidget(inner)
        for signal in (session.selection_changed, session.opened, session.presses_changed):
            signal.connect(self.refresh)
        session.press_changed.connect(self._maybe)
        self.refresh()

    def _maybe(self, press_id: int) -> None:
        if press_id in self._session.selected:
            self.refresh()

    def refresh(self) -> None:
        """Show what is selected now."""
        presses = self._session.selected_presses()
        press = presses[0] if len(presses) == 1 else None
        if press is None or self._press is None or press.id != self._press.id:
            self.calipers.clear()
        self._press = press
        self.hear_it.stop()
        self._frame = self._session.frame(press) if press is not None else None
        self.tape.show_frame(self._frame)
        self.overview.show_take(presses[0] if presses else None)
        self.recorded.show_press(press)
        best = self._frame.best if self._frame is not None else None
        self.bits.show_reading(best)
        self.overlay.show_presses(presses if len(presses) > 1 else [])
        self._hold_against(presses)
        self.code.show_selected()
        self.same_key.show_presses(self._same_code(press))
        if press is not None and best is not None and best.bits.size:
            turned = best.code == "biphase" and best.sheet is not None and best.sheet.alphabet[1][0] < 0
            one = tr("space, then mark") if turned else ONES.get(best.code)
            code = f" · 1 = {one}" if one else ""
            self._facts.setText(tr("{size} BITS, as sent{code}", size=best.bits.size, code=code))
        self._show_base()
        self._show_measure()
        self.set_wrapped(not self._unwrapped)

    def _hold_against(self, presses: list[Caught]) -> None:
        """Of two presses, how true the second is to the first: a copy's handset to the real one."""
        both = len(presses) == 2 and all(press.reading.frames for press in presses)
        self.against.setVisible(both)
        if both:
            one, other = presses
            echo = echo_in(self._session, as_meant(self._session, one), other)
            names = [press.label or clock_time(press.caught_at) for press in (one, other)]
            words = echo_in_words(echo) if echo is not None else tr("They are not alike.")
            self.against.setText(
                tr(
                    "{one}, held against {other}: {words}",
                    one=names[1],
                    other=names[0],
                    words=words[0].lower() + words[1:],
                )
            )

    def _same_code(self, press: Caught | None) -> list[Caught]:
        if press is None or press.code is None:
            return []
        same = (p for p in self._session.shown_presses() if p.code == press.code and p.id != press.id)
        first = list(islice(same, SAME_KEY_SHOWN))
        return [press, *first] if first else []

    def set_wrapped(self, wrapped: bool) -> None:
        """The frame wrapped into lines, or the whole take on one line."""
        self._unwrapped = not wrapped
        one, several = self._press is not None, self.overlay.sizeHint().height() > 0
        has_bits = self._frame is not None and self._frame.best is not None and self._frame.best.bits.size > 0
        if self._unwrapped and self._press is not None and self._frame is not None:
            press = self._press
            edges = self._session.take_edges(press.take_id)
            presses = [p for p in self._session.presses if p.take_id == press.take_id and not p.deleted]
            start = press.reading.start_us
            self.strip.show_take(edges, presses, (start, start + press.reading.held_us), self._frame)
        self.wrap.setText(tr("wrap the frame") if self._unwrapped else tr("unwrap the take"))
        for widget, visible in (
            (self.tape, one and wrapped),
            (self.strip, one and not wrapped),
            (self.wrap, one),
            (self.hear, one and wrapped),
            (self.clicks, one and wrapped),
            (self.recorded, one),
            (self.bits, has_bits),
            (self.base, has_bits),
            (self.order, has_bits),
            (self.code, has_bits and one),
            (self._facts, has_bits),
            (self.same_key, one and self.same_key.sizeHint().height() > 0),
            (self.overlay, several),
            (self.align, several),
        ):
            widget.setVisible(visible)

    def _show_measure(self) -> None:
        best = self._frame.best if self._frame is not None else None
        take = self._session.take(self._press) if self._press is not None else None
        text = self.calipers.text(
            best.clock.unit_us if best is not None else None, take.sample_rate_hz if take is not None else None
        )
        jaw = self.calipers.one_us is not None
        self._measure.setText(
            text or (tr("now click another edge") if jaw else tr("click an edge, then another, to measure"))
        )
        self._measure.setFont(text_font(12 if text else ASIDE_PX))
        self._measure.setStyleSheet(f"color: {colour('attention' if text else 'quiet').name()}; font-size: 12px")
        self._measure.setVisible(self._press is not None)

    def _hear(self, manner: Manner) -> None:
        if self.hear_it.on:
            self.hear_it.stop()
        elif self._frame is not None:
            self.hear_it.start(self._frame.as_read, manner)

    def _next_alignment(self) -> None:
        self.overlay.align(not self.overlay.best_fit)
        self.align.setText(tr("lay them by the first edge") if self.overlay.best_fit else tr("lay them by best fit"))

    def _next_base(self) -> None:
        self.bits.show_base(BASES[(BASES.index(self.bits.base) + 1) % len(BASES)])
        self._show_base()

    def _turn(self) -> None:
        self.bits.turn(not self.bits.turned)
        self._show_base()

    def _show_base(self) -> None:
        following = BASES[(BASES.index(self.bits.base) + 1) % len(BASES)]
        self.base.setText(tr("show values in {following}", following=tr(following)))
        self.order.setText(tr("turn the bits back") if self.bits.turned else tr("turn the bits round"))

    def copy_bits(self) -> None:
        """The frame's bits to the clipboard."""
        if self._frame is not None and self._frame.best is not None:
            clipboard().setText(bit_text(self._frame.best.bits))


def _row(first: QWidget, *links: QPushButton) -> QHBoxLayout:
    row = QHBoxLayout()
    row.setContentsMargins(18, 0, 14, 0)
    row.setSpacing(18)
    first.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)  # gives way in a narrow window
    row.addWidget(first, 1)
    for button in links:
        row.addWidget(button)
    return row
