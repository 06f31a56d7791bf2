"""A number in the frames over time, beside what was typed of it: a temperature is known by its curve."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from eager_tern.compare.comparison import Comparison
from eager_tern.compare.curves import fitted, follow
from eager_tern.compare.field import Table
from eager_tern.compare.number import Encoding, decoded
from eager_tern.compare.stack import Stack, numbers, raw_numbers
from eager_tern.desk.links import link
from eager_tern.desk.theme import colour
from eager_tern.desk.words import Words
from eager_tern.protocol.positions import Positions, parse_positions, positions_text
from eager_tern.signal.values import Floats
from eager_tern.texts import plural, tr

NOTHING = tr("nothing typed")


class OverTime(QWidget):
    """Some bits as a number, drawn over time; the typed values of a label as dots on the same scale."""

    def __init__(self) -> None:
        super().__init__()
        self._stack = Stack(np.zeros((0, 0), np.uint8))
        self._times: Floats = np.empty(0)
        self._found: Comparison | None = None
        self.label = QComboBox()
        self.label.setAccessibleName(tr("Beside the typed values of"))
        self.bits = QLineEdit()
        self.bits.setAccessibleName(tr("Bits of the number, the highest first"))
        self.bits.setPlaceholderText(tr("bits, as in 19-27"))
        self.bits.setMaximumWidth(170)
        self.signed = QCheckBox(tr("signed"))
        self._with_sign: Encoding = "signed"
        self.follow = link(
            tr("find what follows it"), tr("Find the bits that follow the typed values in time"), self.find_followers
        )
        self.told = Words()
        self.told.setWordWrap(True)
        self.plot = pg.PlotWidget(axisItems={"bottom": pg.DateAxisItem()})
        self.plot.setMenuEnabled(False)
        self.plot.setAccessibleName(tr("The number over time"))
        row = QHBoxLayout()
        row.setSpacing(6)
        for widget in (Words(tr("beside")), self.label, self.follow, Words(tr("bits")), self.bits, self.signed):
            row.addWidget(widget)
        row.addStretch(1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(18, 6, 14, 0)
        layout.setSpacing(6)
        layout.addLayout(row)
        layout.addWidget(self.plot, 1)
        layout.addWidget(self.told)
        self.label.activated.connect(self._choose)
        self.bits.editingFinished.connect(self.draw)
        self.signed.toggled.connect(self.draw)

    def show_stack(self, stack: Stack, times_s: Floats, found: Comparison | None) -> None:
        """Another stack, or what has been found about it."""
        self._stack, self._times, self._found = stack, times_s, found
        names = [name for name, values in stack.labels.items() if numbers(values) is not None]
        chosen = self.label.currentText()
        self.label.clear()
        self.label.addItems([*names, NOTHING])
        self.label.setCurrentText(chosen if chosen in names else self.label.itemText(0))
        if self.bits.text():
            self.draw()
        else:
            self._choose()

    def _choose(self) -> None:
        """The bits of the label's field where one was found, else those that follow its curve."""
        fields = self._found.fields if self._found is not None else ()
        field = next((f for f in fields if f.name == self.label.currentText()), None)
        if field is None or isinstance(field.map, Table):
            self.find_followers()
            return
        self._show(field.positions, field.map.encoding)

    def find_followers(self) -> None:
        """Look for the bits that follow the typed values."""
        name = self.label.currentText()
        curve = follow(self._stack, name, self._times) if name in self._stack.labels else None
        if curve is not None:
            self._show(curve.positions, curve.encoding)
        else:
            self.draw()

    def _show(self, positions: tuple[int, ...], encoding: Encoding) -> None:
        self._with_sign = "magnitude" if encoding == "magnitude" else "signed"
        self.signed.blockSignals(True)
        self.signed.setChecked(encoding == self._with_sign)
        self.signed.blockSignals(False)
        self.bits.setText(positions_text(positions))
        self.draw()

    def draw(self) -> None:
        """Draw what is set."""
        self.plot.clear()
        self.plot.setBackground(colour("card"))
        for name in ("left", "bottom"):
            axis = self.plot.getAxis(name)
            axis.setTextPen(colour("quiet"))
            axis.setPen(colour("rule"))
        typed = numbers(self._stack.labels.get(self.label.currentText(), ()))
        known = np.flatnonzero(~np.isnan(typed)) if typed is not None else np.empty(0, np.intp)
        if known.size and typed is not None:
            dots = pg.mkPen(colour("attention"), width=2)
            self.plot.plot(
                self._times[known], typed[known], pen=None, symbol="d", symbolSize=11, symbolPen=dots, symbolBrush=None
            )
        try:
            positions = parse_positions(self.bits.text()) if self.bits.text().strip() else None
        except ValueError as error:
            self.told.setText(str(error))
            return
        if positions is None or positions.index.max() >= self._stack.columns:
            self.told.setText(self._nothing())
            return
        self._draw_number(positions, typed if known.size > 1 else None)

    def _nothing(self) -> str:
        if self.bits.text().strip():
            return tr("A frame has {columns} bits, counted from 0.", columns=self._stack.columns)
        return tr(
            "No bits follow the typed values closely. Type the bits of a number to see its curve, "
            "or label some more frames with what a display shows."
        )

    def _draw_number(self, positions: Positions, typed: Floats | None) -> None:
        raw = decoded(
            raw_numbers(self._stack.bits ^ _turned(positions, self._stack.columns), positions.index),
            self._with_sign if self.signed.isChecked() else "binary", positions.width,
        )  # fmt: skip
        scale, offset, same = fitted(raw, typed) if typed is not None else (1.0, 0.0, 0.0)
        line = pg.mkPen(colour("proven"), width=1.5)
        values = raw * scale + offset if typed is not None else raw
        self.plot.plot(
            self._times, values, pen=line, symbol="o", symbolSize=4, symbolPen=None, symbolBrush=colour("proven")
        )
        text = tr(
            "The line is the number in bits {positions} of {frames}",
            positions=positions,
            frames=plural(self._stack.rows, "frame", "frames"),
        )
        if typed is not None:
            sign = "+" if offset >= 0 else "−"
            text += tr(
                ", times {scale:.4g} {sign} {offset:.4g}; the diamonds are what was typed, ",
                scale=scale,
                sign=sign,
                offset=abs(offset),
            )
            text += tr(
                "{times}. They share {same:.2%} of their changes (r²)",
                times=plural(int((~np.isnan(typed)).sum()), "time", "times"),
                same=same,
            )
        self.told.setText(f"{text}.")


def _turned(positions: Positions, columns: int) -> np.ndarray:
    """1 in the columns whose bits are sent inverted."""
    turned = np.zeros(columns, np.uint8)
    turned[positions.index] = positions.inverted
    return turned
