"""The face of a simulated gadget: what it shows, and what it made of what it heard last."""

from __future__ import annotations

from collections.abc import Callable
from math import cos, radians, sin

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from eager_tern.demo.obeying import Gadget
from eager_tern.desk.theme import ASIDE_PX, SMALL_PX, colour, digit_font, text_font
from eager_tern.desk.words import shortened
from eager_tern.texts import tr

HEIGHT, PICTURE = 92, 58
LEFT = 14


class Face(QWidget):
    """Drawn beside the simulated handset. A gadget that does not care shows so, and says why."""

    def __init__(self) -> None:
        super().__init__()
        self._gadget: Gadget | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setFixedHeight(HEIGHT)
        self.hide()

    def show_gadget(self, gadget: Gadget | None) -> None:
        self._gadget = gadget
        self.setVisible(gadget is not None)
        if gadget is not None:
            shown = ", ".join(f"{name} {value}" for name, value in gadget.state.items() if value != "")
            self.setAccessibleName(tr("{name}, simulated", name=gadget.name))
            self.setAccessibleDescription(tr("It shows {shown}. {words}", shown=shown, words=self._words(gadget)))
            self.setToolTip(self._words(gadget))
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(240, HEIGHT)

    @staticmethod
    def _words(gadget: Gadget) -> str:
        if gadget.last.obeyed is None:
            return (
                tr("Not obeyed: {why}", why=gadget.last.why)
                if "nothing yet" not in gadget.last.why
                else tr("It has heard nothing yet")
            )
        told = gadget.last.obeyed
        return tr("Obeyed: {key}", key=told["key"]) if "key" in told else tr("Obeyed")

    def paintEvent(self, event: QPaintEvent | None) -> None:
        gadget = self._gadget
        if gadget is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(LEFT, 4, self.width() - 2 * LEFT, PICTURE)
        painter.setPen(QPen(colour("rule"), 1.2))
        painter.setBrush(colour("card"))
        painter.drawRoundedRect(box, 8, 8)
        FACES[gadget.name](painter, box.adjusted(10, 6, -10, -6), gadget)
        obeyed = gadget.last.obeyed is not None
        untold = "nothing yet" in gadget.last.why
        painter.setFont(text_font(SMALL_PX + 1))
        painter.setPen(colour("quiet" if untold else "proven" if obeyed else "uncertain"))
        words = ("" if untold else "✓ " if obeyed else "✗ ") + self._words(gadget)
        area = QRectF(LEFT, PICTURE + 8, self.width() - 2 * LEFT, 24)
        words = shortened(painter.fontMetrics(), words, area.width())
        painter.drawText(area, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, words)


def _big(painter: QPainter, box: QRectF, text: str, role: str = "ink") -> None:
    painter.setFont(digit_font(22))
    painter.setPen(colour(role))
    painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, text)


def _beside(painter: QPainter, box: QRectF, lines: list[str]) -> None:
    painter.setFont(text_font(ASIDE_PX))
    painter.setPen(colour("ink"))
    painter.drawText(box, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, "\n".join(lines))


def _cabinet(painter: QPainter, box: QRectF, gadget: Gadget) -> None:
    """A dial from 16 to 30 degrees; a fog ring when it is off."""
    state = gadget.state
    on = state["power"] == "on"
    centre, radius = QPointF(box.left() + 23, box.center().y()), 21.0
    painter.setPen(QPen(colour("ink" if on else "fog"), 1.4))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    painter.drawEllipse(centre, radius, radius)
    angle = radians(225 - (float(state["temperature"]) - 16) / 15.5 * 270)
    tip = QPointF(centre.x() + cos(angle) * radius * 0.85, centre.y() - sin(angle) * radius * 0.85)
    painter.setPen(QPen(colour("attention" if on else "fog"), 2.4))
    painter.drawLine(centre, tip)
    _big(painter, box.adjusted(56, 0, 0, 0), f"{float(state['temperature']):g}°", "ink" if on else "fog")
    lines = [
        tr("{mode}, {humidity} %", mode=state["mode"], humidity=state["humidity"]),
        tr("blower {blower}", blower=state["blower"]) if on else tr("off"),
    ]
    _beside(painter, box, lines)


def _projector(painter: QPainter, box: QRectF, gadget: Gadget) -> None:
    lit = gadget.state["lamp"] == "on"
    slide = QRectF(box.left(), box.top() + 2, 62, box.height() - 4)
    painter.setPen(QPen(colour("ink"), 1.2))
    painter.setBrush(colour("paper" if lit else "margin"))
    painter.drawRect(slide)
    _big(painter, slide.adjusted(14, 0, 0, 0), str(gadget.state["slide"]))
    _beside(painter, box, [tr("slide"), tr("lamp {lamp}", lamp=gadget.state["lamp"])])


def _guide(painter: QPainter, box: QRectF, gadget: Gadget) -> None:
    _big(painter, box, f"{gadget.state['stop']}")
    left = box.left() + 48
    for step in range(10):
        height = 5 + step * 3.2
        filled = step < int(gadget.state["loudness"])
        painter.fillRect(
            QRectF(left + step * 8, box.bottom() - height - 2, 5, height), colour("ink" if filled else "rule")
        )
    _beside(painter, box, [tr("stop"), tr("loudness")])


def _lamp(painter: QPainter, box: QRectF, gadget: Gadget) -> None:
    glow = int(gadget.state["glow"])
    centre = QPointF(box.left() + 23, box.center().y())
    painter.setPen(QPen(colour("ink"), 1.2))
    painter.setBrush(colour("uncertain", glow / 10) if glow else Qt.BrushStyle.NoBrush)
    painter.drawEllipse(centre, 15, 15)
    painter.setPen(QPen(colour("uncertain"), 1.6))
    for ray in range(12 if glow else 0):
        angle = radians(ray * 30)
        start, end = 18.0, 18.0 + 0.6 * glow
        painter.drawLine(
            QPointF(centre.x() + cos(angle) * start, centre.y() + sin(angle) * start),
            QPointF(centre.x() + cos(angle) * end, centre.y() + sin(angle) * end),
        )
    _beside(painter, box, [tr("glow {glow} of 10", glow=glow), tr("in nest box 4")])


def _shutters(painter: QPainter, box: QRectF, gadget: Gadget) -> None:
    width = box.width() / 4
    for number, (name, move) in enumerate(gadget.state.items()):
        pane = QRectF(box.left() + number * width + 4, box.top(), width - 10, 30)
        painter.setPen(QPen(colour("ink"), 1.2))
        painter.setBrush(colour("paper"))
        painter.drawRect(pane)
        part = {"up": 0.15, "stop": 0.55, "down": 1.0}[str(move)]
        painter.fillRect(QRectF(pane.left(), pane.top(), pane.width(), pane.height() * part), colour("fog"))
        painter.setFont(text_font(SMALL_PX))
        painter.setPen(colour("attention" if name == "skylight" and move == "up" else "ink"))
        area = QRectF(pane.left() - 6, pane.bottom() + 1, pane.width() + 12, 16)
        painter.drawText(area, Qt.AlignmentFlag.AlignCenter, str(name))


def _tide(painter: QPainter, box: QRectF, gadget: Gadget) -> None:
    _big(painter, box, f"{float(gadget.state['level']):g} cm")
    _beside(
        painter,
        box,
        [
            tr("water {water:g} °C", water=float(gadget.state["water"])),
            tr("battery {battery:.2f} V", battery=float(gadget.state["battery"])),
        ],
    )


def _turnstile(painter: QPainter, box: QRectF, gadget: Gadget) -> None:
    _big(painter, box, str(gadget.state["visitors"]))
    _beside(painter, box, [tr("visitors"), tr("the last went {way}", way=gadget.state["way"])])


FACES: dict[str, Callable[[QPainter, QRectF, Gadget], None]] = {
    "Climate cabinet": _cabinet,
    "Slide projector": _projector,
    "Audio guide": _guide,
    "Nest-box lamp": _lamp,
    "Window shutters": _shutters,
    "Tide gauge": _tide,
    "Turnstile": _turnstile,
}
