"""Asking for names and files. Nothing is written over before the user has said so, of the very file."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QInputDialog, QWidget

from eager_tern.casebook.signature import SUFFIX
from eager_tern.formats.iq import RAW_SUFFIXES
from eager_tern.texts import tr

CASEBOOKS = tr("Casebooks") + f" (*{SUFFIX})"
EVERYTHING = tr("All files") + " (*)"
SHEETS = tr("Protocol sheets") + " (*.toml)"
RECORDINGS = (
    tr("Recordings")
    + " (*.txt *.csv *.tsv *.vcd *.wav *.flac *.aiff *.sigmf-meta *.sigmf-data "
    + f"{' '.join(f'*{suffix}' for suffix in RAW_SUFFIXES)} *.h *.jsonl *.zip *.tern);;{SHEETS};;{EVERYTHING}"
)
AUDIO = tr("Audio") + f" (*.wav *.flac *.aiff *.ogg);;{EVERYTHING}"
NOT_ASKED = QFileDialog.Option.DontConfirmOverwrite  # the dialog would ask about the name without its suffix


def ask_name(parent: QWidget, title: str, question: str, offered: str = "") -> str:
    """A name; empty if the user would rather not."""
    name, ok = QInputDialog.getText(parent, title, question, text=offered)
    return name.strip() if ok else ""


def ask_file_to_write(parent: QWidget, title: str, kinds: str, suffix: str, offered: str = "") -> Path | None:
    """Where to write, with a suffix in any case. Whether something stands there already is for the caller to ask."""
    name, _ = QFileDialog.getSaveFileName(parent, title, offered, kinds, options=NOT_ASKED)
    if not name:
        return None
    path = Path(name)
    return path if path.suffix else path.with_name(path.name + suffix)


def ask_file_to_open(parent: QWidget, title: str, kinds: str) -> Path | None:
    name, _ = QFileDialog.getOpenFileName(parent, title, "", kinds)
    return Path(name) if name else None


def ask_folder(parent: QWidget, title: str, offered: str = "") -> Path | None:
    name = QFileDialog.getExistingDirectory(parent, title, offered)
    return Path(name) if name else None


def ask_files_to_open(parent: QWidget, title: str, kinds: str) -> list[Path]:
    names, _ = QFileDialog.getOpenFileNames(parent, title, "", kinds)
    return [Path(name) for name in names]
