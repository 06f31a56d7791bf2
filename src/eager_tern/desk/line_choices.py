"""What is said of the line by hand: its code, where the data begin, what a bit means."""

from __future__ import annotations

from msgspec.structs import replace
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLabel, QSpinBox, QWidget

from eager_tern.desk.choice import choice
from eager_tern.desk.words import Words
from eager_tern.linecode.values import Code
from eager_tern.protocol.describing import Assumed
from eager_tern.texts import tr

# Line codes with the bits that a symbol stands for; serial characters find out how many they have.
CODES: dict[tuple[Code, int | None], str] = {
    ("pulse-distance", 1): tr("pulse distance"),
    ("pulse-width", 1): tr("pulse width"),
    ("biphase", 1): tr("bi-phase"),
    ("pulse-distance", 2): tr("distance, two bits"),
    ("pulse-width", 2): tr("width, two bits"),
    ("async-serial", None): tr("serial"),
}
MOST_BEFORE = 40
USUAL_TOLERANCE = 0.2


class LineChoices(QWidget):
    """One row of choices; they show what was found until somebody says otherwise. ``tolerance`` stands elsewhere."""

    said = pyqtSignal(object)  # Assumed

    def __init__(self) -> None:
        super().__init__()
        self._assumed = Assumed()
        self.code = choice(tr("Line code"), list(CODES.values()))
        self.leader = QSpinBox()
        self.leader.setRange(0, MOST_BEFORE)
        self.leader.setSingleStep(2)
        self.leader.setSuffix(tr(" pulses"))
        self.leader.setAccessibleName(tr("Pulses before the data"))
        self.meaning = choice(tr("What a long one means"), ["1", "0"])
        self.order = choice(tr("Which bit comes first"), [tr("lowest"), tr("highest")])
        self.tolerance = QSpinBox()
        self.tolerance.setRange(1, 49)
        self.tolerance.setPrefix("± ")
        self.tolerance.setSuffix(" %")
        self.tolerance.setAccessibleName(tr("Tolerance of the clock"))
        self.tolerance.setToolTip(tr("How far a frame's clock may be off"))
        for box in (self.leader, self.tolerance):
            box.setKeyboardTracking(False)
            box.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.what = Words(tr("a long one is"))
        grid = QGridLayout(self)  # two rows: they fit the narrowest window
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(8)
        grid.setVerticalSpacing(6)
        grid.setColumnStretch(4, 1)
        choices: tuple[tuple[QLabel, QWidget], ...] = (
            (Words(tr("read as")), self.code),
            (Words(tr("data behind")), self.leader),
            (self.what, self.meaning),
            (Words(tr("first bit")), self.order),
        )
        for number, (words, widget) in enumerate(choices):
            grid.addWidget(words, number // 2, 2 * (number % 2))
            grid.addWidget(widget, number // 2, 2 * (number % 2) + 1)
        for combo in (self.code, self.meaning, self.order):
            combo.activated.connect(self._say)
        for box in (self.leader, self.tolerance):
            box.valueChanged.connect(self._say)

    def show_line(self, assumed: Assumed) -> None:
        """Show what is in force."""
        self._assumed = assumed
        _set(self.leader, assumed.leader or 0)
        self.show_tolerance(assumed.tolerance or USUAL_TOLERANCE)
        shown = assumed.code, None if assumed.code == "async-serial" else assumed.symbol_bits
        if assumed.code is not None and shown in CODES:
            self.code.setCurrentIndex(list(CODES).index(shown))
        self.meaning.setCurrentIndex(int(assumed.turned))
        self.order.setCurrentIndex(int(assumed.highest_first))
        self.what.setText(tr("mark first is") if assumed.code == "biphase" else tr("a long one is"))

    def show_tolerance(self, part: float) -> None:
        _set(self.tolerance, round(100 * part))

    def _say(self) -> None:
        code, symbol_bits = list(CODES)[self.code.currentIndex()]
        self.said.emit(
            replace(
                self._assumed,
                tolerance=self.tolerance.value() / 100,
                code=code,
                symbol_bits=symbol_bits,
                leader=self.leader.value(),
                turned=bool(self.meaning.currentIndex()),
                highest_first=bool(self.order.currentIndex()),
            )
        )


def _set(box: QSpinBox, value: int) -> None:
    """Show a value that nobody said."""
    box.blockSignals(True)
    box.setValue(value)
    box.blockSignals(False)
