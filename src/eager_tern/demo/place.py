"""Where the demo casebook lives."""

from __future__ import annotations

from pathlib import Path

from eager_tern.demo.recipe import make_demo_casebook
from eager_tern.errors import InputError
from eager_tern.places import data_folder

FILE = "skarvholm.tern"


def demo_casebook_path() -> Path:
    """The user's own copy of the demo casebook, made at the first call. Raises InputError."""
    folder = data_folder()
    path = folder / FILE
    if not path.exists():
        partial = folder / (FILE + ".partial")
        try:
            folder.mkdir(parents=True, exist_ok=True)
            partial.unlink(missing_ok=True)
        except OSError as error:
            raise InputError(folder, error.strerror or "cannot be written") from None
        make_demo_casebook(partial)
        partial.replace(path)
    return path
