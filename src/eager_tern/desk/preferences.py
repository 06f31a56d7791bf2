"""What can be set once and for all: the theme, the size of everything, where unnamed casebooks go."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFormLayout, QHBoxLayout, QLineEdit, QVBoxLayout, QWidget

from eager_tern.desk.asking import ask_folder
from eager_tern.desk.choice import choice
from eager_tern.desk.links import link
from eager_tern.desk.settings import LENGTHS, SIZES, THEMES, Settings
from eager_tern.desk.words import Words
from eager_tern.devices.loudspeaker import loudspeakers
from eager_tern.places import casebooks_folder
from eager_tern.texts import tr

WIDTH = 220  # of a box: a form would draw it as wide as the page
SHOWN = {"desktop": tr("as the desktop"), "day": tr("day"), "night": tr("night")}
LENGTHS_SHOWN = {"fitting": tr("µs, ms or s, as fits"), "us": tr("always µs")}
USUAL = tr("the usual loudspeaker")


class Preferences(QWidget):
    """A place on the desk. What is chosen counts at once, but for the size, which the next start has."""

    changed = pyqtSignal()
    closed = pyqtSignal()

    def __init__(self, settings: Settings) -> None:
        super().__init__()
        self._settings = settings
        title = Words(tr("Preferences"))
        title.setObjectName("title")
        top = QHBoxLayout()
        top.addWidget(title)
        top.addStretch(1)
        top.addWidget(link(tr("back to the desk"), tr("Back to the desk"), self.closed.emit))
        self.theme = choice(tr("Theme"), [SHOWN[theme] for theme in THEMES])
        self.scale = choice(tr("Size of everything"), [f"{size} %" for size in SIZES])
        self.scale.setCurrentIndex(SIZES.index(settings.size))
        self.lengths = choice(tr("Lengths"), [LENGTHS_SHOWN[each] for each in LENGTHS])
        self.lengths.setCurrentIndex(LENGTHS.index(settings.lengths))
        self.loudspeaker = choice(tr("Loudspeaker"), [USUAL])
        self._loudspeakers = [""]  # asked for when the page is shown: that takes a while
        for box in (self.theme, self.scale, self.lengths, self.loudspeaker):
            box.setFixedWidth(WIDTH)
            box.activated.connect(self._take)
        self.folder = QLineEdit(settings.casebooks or str(casebooks_folder()))
        self.folder.setAccessibleName(tr("Folder of casebooks that are not named yet"))
        self.folder.setMinimumWidth(380)
        self.folder.editingFinished.connect(self._take)
        where = QHBoxLayout()
        where.setSpacing(12)
        where.addWidget(self.folder)
        where.addWidget(link(tr("choose …"), tr("Choose the folder"), self._choose))
        where.addStretch(1)
        self.aside = Words()
        self.aside.setObjectName("aside")
        form = QFormLayout()
        form.setVerticalSpacing(12)
        form.setHorizontalSpacing(18)
        form.addRow(Words(tr("Theme")), self.theme)
        form.addRow(Words(tr("Size of everything")), self.scale)
        form.addRow(Words(tr("Lengths")), self.lengths)
        form.addRow(Words(tr("Hear it through")), self.loudspeaker)
        form.addRow(Words(tr("Casebooks not named yet")), where)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(40, 28, 40, 28)
        layout.setSpacing(18)
        layout.addLayout(top)
        layout.addLayout(form)
        layout.addWidget(self.aside)
        layout.addStretch(1)

    def refresh(self) -> None:
        """Show what is in force, if it was changed elsewhere, and the loudspeakers there are now."""
        self.theme.setCurrentIndex(THEMES.index(self._settings.theme))
        chosen = self._settings.loudspeaker
        self._loudspeakers = ["", *dict.fromkeys([*loudspeakers(), *([chosen] if chosen else [])])]
        self.loudspeaker.clear()
        self.loudspeaker.addItems([name or USUAL for name in self._loudspeakers])
        self.loudspeaker.setCurrentIndex(self._loudspeakers.index(chosen))

    def _take(self) -> None:
        settings, before = self._settings, self._settings.size
        settings.theme = THEMES[self.theme.currentIndex()]
        settings.size = SIZES[self.scale.currentIndex()]
        settings.lengths = LENGTHS[self.lengths.currentIndex()]
        settings.loudspeaker = self._loudspeakers[self.loudspeaker.currentIndex()]
        text = self.folder.text().strip()
        settings.casebooks = "" if text == str(casebooks_folder()) else text
        self.aside.setText(tr("The new size is there at the next start.") if settings.size != before else "")
        self.changed.emit()

    def _choose(self) -> None:
        if (folder := ask_folder(self, tr("Where shall they go?"), self.folder.text())) is not None:
            self.folder.setText(str(Path(folder)))
            self._take()
