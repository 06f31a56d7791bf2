"""A box to choose from."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox


def choice(name: str, choices: list[str]) -> QComboBox:
    """A box as wide as its longest choice, with a name for screen readers."""
    box = QComboBox()
    box.addItems(choices)
    box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
    box.setAccessibleName(name)
    return box
