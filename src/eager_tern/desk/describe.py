"""Asking what bare samples are: nothing in such a file says it."""

from __future__ import annotations

import re
from pathlib import Path

from PyQt6.QtWidgets import QComboBox, QDialog, QDialogButtonBox, QFormLayout, QLineEdit, QWidget

from eager_tern.desk.qt import sure
from eager_tern.desk.words import Words
from eager_tern.formats.capture import Description
from eager_tern.texts import tr

KINDS = {
    "cu8": tr("pairs of unsigned bytes (cu8)"),
    "ci8": tr("pairs of signed bytes (ci8)"),
    "ci16_le": tr("pairs of 16-bit integers (ci16)"),
    "cf32_le": tr("pairs of 32-bit floats (cf32)"),
    "rf32_le": tr("32-bit floats, one a sample (rf32)"),
}
BY_SUFFIX = {".cu8": "cu8", ".cs8": "ci8", ".ci8": "ci8", ".cs16": "ci16_le", ".ci16": "ci16_le", ".cf32": "cf32_le"}
FACTORS = {"": 1.0, "k": 1e3, "m": 1e6}
IN_NAME = re.compile(r"(?<![\d.])(\d+(?:\.\d+)?)([kM])(?![A-Za-z]*\d)")
RATE = re.compile(r"\s*(\d+(?:[.,]\d+)?)\s*([kKmM]?)(?:S/s|Hz|s/s|hz)?\s*")
USUAL_RATE = "250 k"


def rate_of(text: str) -> float | None:
    """Samples a second, of a number with k or M behind it; None where it is none."""
    found = RATE.fullmatch(text)
    return float(found[1].replace(",", ".")) * FACTORS[found[2].lower()] if found else None


class Describe(QDialog):
    """Type and rate of a file's samples; what its name says of them stands there already."""

    def __init__(self, path: Path, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("What are these samples?"))
        words = Words(tr("Nothing in {name} says what its samples are. Whoever recorded it knows.", name=path.name))
        words.setWordWrap(True)
        self.kind = QComboBox()
        for datatype, name in KINDS.items():
            self.kind.addItem(name, datatype)
        self.kind.setCurrentIndex(list(KINDS).index(BY_SUFFIX.get(path.suffix.lower(), "cu8")))
        named = [f"{m[1]} {m[2]}" for m in IN_NAME.finditer(path.stem)]
        self.rate = QLineEdit(named[-1] if named else USUAL_RATE)
        self.rate.setAccessibleName(tr("Samples a second"))
        self.kind.setAccessibleName(tr("Type of the samples"))
        form = QFormLayout(self)
        form.setContentsMargins(18, 16, 18, 14)
        form.setVerticalSpacing(10)
        form.addRow(words)
        form.addRow(tr("Type"), self.kind)
        form.addRow(tr("Samples a second"), self.rate)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.read = sure(buttons.button(QDialogButtonBox.StandardButton.Ok))
        self.read.setText(tr("Read it"))
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        form.addRow(buttons)
        self.rate.textChanged.connect(lambda text: self.read.setEnabled(rate_of(text) is not None))
        self.setMinimumWidth(420)

    @property
    def description(self) -> Description:
        return Description(str(self.kind.currentData()), rate_of(self.rate.text()) or 0.0)
