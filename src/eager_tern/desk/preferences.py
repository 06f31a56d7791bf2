"""What can be set once and for all: the theme, the size of everything, where unnamed casebooks go."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFormLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from eager_tern.desk.asking import ask_folder
from eager_tern.desk.choice import choice
from eager_tern.desk.links import link
from eager_tern.desk.settings import SIZES, THEMES, Settings
from eager_tern.desk.words import Words
from eager_tern.places import casebooks_folder

WIDTH = 220  # of a box: a form would draw it as wide as the page
SHOWN = {"desktop": "as the desktop", "day": "day", "night": "night"}


class Preferences(QWidget):
    """A place on the desk. What is chosen counts at once, but for the size, which the next start has."""

    changed = pyqtSignal()
    closed = pyqtSignal()

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self._settings = settings
        title = Words("Preferences")
        title.setObjectName("title")
        top = QHBoxLayout()
        top.addWidget(title)
        top.addStretch(1)
        top.addWidget(link("back to the desk", "Back to the desk", self.closed.emit))
        self.theme = choice("Theme", [SHOWN[theme] for theme in THEMES])
        self.scale = choice("Size of everything", [f"{size} %" for size in SIZES])
        self.scale.setCurrentIndex(SIZES.index(settings.size))
        self.show_theme()
        for box in (self.theme, self.scale):
            box.setFixedWidth(WIDTH)
        self.folder = QLineEdit(settings.casebooks or str(casebooks_folder()))
        self.folder.setAccessibleName("Folder of casebooks that are not named yet")
        self.folder.setMinimumWidth(380)
        self.theme.activated.connect(self._take)
        self.scale.activated.connect(self._take)
        self.folder.editingFinished.connect(self._take)
        where = QHBoxLayout()
        where.setSpacing(12)
        where.addWidget(self.folder)
        where.addWidget(link("choose …", "Choose the folder", self._choose))
        where.addStretch(1)
        self.aside = Words()
        self.aside.setObjectName("aside")
        form = QFormLayout()
        form.setVerticalSpacing(12)
        form.setHorizontalSpacing(18)
        form.addRow(Words("Theme"), self.theme)
        form.addRow(Words("Size of everything"), self.scale)
        form.addRow(Words("Casebooks not named yet"), where)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(40, 28, 40, 28)
        layout.setSpacing(18)
        layout.addLayout(top)
        layout.addLayout(form)
        layout.addWidget(self.aside)
        layout.addStretch(1)

    def show_theme(self) -> None:
        """What is in force, if it was changed elsewhere."""
        self.theme.setCurrentIndex(THEMES.index(self._settings.theme))

    def _take(self) -> None:
        settings, before = self._settings, self._settings.size
        settings.theme = THEMES[self.theme.currentIndex()]
        settings.size = SIZES[self.scale.currentIndex()]
        text = self.folder.text().strip()
        settings.casebooks = "" if text == str(casebooks_folder()) else text
        self.aside.setText("The new size is there at the next start." if settings.size != before else "")
        self.changed.emit()

    def _choose(self) -> None:
        if (folder := ask_folder(self, "Where shall they go?", self.folder.text())) is not None:
            self.folder.setText(str(Path(folder)))
            self._take()
