"""How a receiver is connected: three pins, and where each goes, drawn for each kind of source."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QTabBar, QVBoxLayout, QWidget

from eager_tern.desk.asking import ask_folder
from eager_tern.desk.links import link
from eager_tern.desk.theme import ASIDE_PX, colour, text_font
from eager_tern.desk.words import Words
from eager_tern.devices.firmware import hand_out
from eager_tern.errors import InputError
from eager_tern.texts import tr

PINS = (
    tr("data"),
    tr("ground"),
    tr("supply"),
)  # of most receivers, seen from the front; the data sheet has the last word
# By source: what stands at the other end of each pin, and what is to be known.
WIRINGS: dict[str, tuple[tuple[str, str, str], str]] = {
    tr("Recorder board"): (
        (tr("pin 2"), "GND", "5 V"),
        tr(
            "A hobby board with the recorder of firmware/tern_recorder on it: it stands in the list above as soon as "
            "it is connected by USB, and its level moves when a button is pressed."
        ),
    ),
    tr("Kernel's device"): (
        (tr("GPIO 18"), "GND", "3.3 V"),
        tr(
            "A single-board computer: “dtoverlay=gpio-ir,gpio_pin=18” in its boot configuration makes /dev/lirc0. "
            "Members of the group video may open it."
        ),
    ),
    tr("Sound card"): (
        (tr("10 kΩ, then the input’s tip"), tr("the input’s sleeve"), tr("4.5 V from a battery")),
        tr(
            "10 kΩ from the data pin to the input’s tip and 1 kΩ from tip to sleeve leave a tenth of the swing. Record "
            "at 48 kHz or more, with every enhancement switched off."
        ),
    ),
    tr("Logic analyser"): (
        (tr("a channel"), tr("its ground"), tr("3.3 or 5 V from elsewhere")),
        tr("Record at 100 kHz or more, and save level changes as VCD or CSV: the file can be dropped here."),
    ),
}
HEIGHT, BODY = 178, 62


class Wiring(QWidget):
    """A tab a kind of source, the drawing, and a few words."""

    said = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(tr("How a receiver is connected"))
        self.tabs = QTabBar()
        self.tabs.setDrawBase(False)
        self.tabs.setExpanding(False)
        for name in WIRINGS:
            self.tabs.addTab(name)
        self.drawing = _Drawing()
        self.words = Words()
        self.words.setObjectName("aside")
        self.words.setWordWrap(True)
        self.words.setMaximumWidth(620)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 6, 0, 0)
        layout.setSpacing(6)
        self.firmware = link(tr("save the recorder's firmware …"), tr("Save the recorder's firmware"), self._ask_folder)
        for widget in (self.tabs, self.drawing, self.words):
            layout.addWidget(widget)
        layout.addWidget(self.firmware, 0, Qt.AlignmentFlag.AlignLeft)
        layout.addStretch(1)
        self.tabs.currentChanged.connect(self._show)
        self._show(0)

    def _show(self, at: int) -> None:
        ends, words = list(WIRINGS.values())[at]
        self.drawing.show_ends(ends)
        self.words.setText(words)
        self.firmware.setVisible(at == 0)

    def _ask_folder(self) -> None:
        if folder := ask_folder(self, tr("Where shall the firmware go?")):
            self.save_firmware(folder)

    def save_firmware(self, folder: Path) -> None:
        """Hand the recorder's sketch out."""
        try:
            place = hand_out(folder)
        except InputError as error:
            self.said.emit(str(error))
        else:
            self.said.emit(
                tr("The sketch is {place}: upload it with your board's tool; the data pin goes to pin 2.", place=place)
            )


class _Drawing(QWidget):
    """A receiver from its front, a dome over three legs, and what each leg goes to."""

    def __init__(self) -> None:
        super().__init__()
        self._ends = ("", "", "")
        self.setFixedHeight(HEIGHT)

    def show_ends(self, ends: tuple[str, str, str]) -> None:
        self._ends = ends
        self.setAccessibleName("; ".join(f"{pin} to {end}" for pin, end in zip(PINS, ends, strict=True)))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        ink, left, top = colour("ink"), 20.0, 12.0
        painter.setPen(QPen(ink, 1.6))
        painter.setBrush(colour("card"))
        painter.drawRoundedRect(QRectF(left, top, BODY, BODY), 4, 4)
        painter.drawEllipse(QPointF(left + BODY / 2, top + BODY / 2), 20, 20)
        painter.setFont(text_font(ASIDE_PX))
        for number, (pin, end) in enumerate(zip(PINS, self._ends, strict=True)):
            x, y = left + 12 + number * 19, top + BODY + 22 + (2 - number) * 28
            role = ("attention", "ink", "proven")[number]
            painter.setPen(QPen(colour(role), 2, Qt.PenStyle.DashLine if number == 1 else Qt.PenStyle.SolidLine))
            painter.drawPolyline(QPointF(x, top + BODY), QPointF(x, y), QPointF(left + 150, y))
            painter.setPen(colour("ink"))
            painter.setFont(text_font(ASIDE_PX, bold=True))
            painter.drawText(QPointF(left + 158, y + 4), pin)
            painter.setFont(text_font(ASIDE_PX))
            painter.drawText(QPointF(left + 216, y + 4), tr("to {end}", end=end))
