"""Where the demo casebook lives."""

from __future__ import annotations

from pathlib import Path

from eager_tern.demo.recipe import make_demo_casebook
from eager_tern.errors import InputError
from eager_tern.places import data_folder

FILE = "skarvholm.tern"
TOUR, TOUR_BEFORE = "skarvholm-tour.tern", "skarvholm-tour-before.tern"


def demo_casebook_path() -> Path:
    """The user's own copy of the demo casebook, made at the first call. Raises InputError."""
    path = data_folder() / FILE
    if not path.exists():
        _make(path)
    return path


def tour_casebook_path() -> Path:
    """A new copy to follow the tour on. The one of the last time is kept beside it. Raises InputError."""
    path = data_folder() / TOUR
    if path.exists():
        path.replace(path.with_name(TOUR_BEFORE))
    _make(path)
    return path


def _make(path: Path) -> None:
    partial = path.with_name(path.name + ".partial")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        partial.unlink(missing_ok=True)
    except OSError as error:
        raise InputError(path.parent, error.strerror or "cannot be written") from None
    make_demo_casebook(partial)
    partial.replace(path)
