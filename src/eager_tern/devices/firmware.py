"""The recorder's firmware, as it ships with the application."""

from __future__ import annotations

import shutil
from pathlib import Path

from eager_tern.errors import InputError
from eager_tern.replacing import not_written

NAME = "tern_recorder"  # the folder of a sketch bears the sketch's name
# Within the installed package, and beside its source.
PLACES = (Path(__file__).parents[1] / "firmware" / NAME, Path(__file__).parents[3] / "firmware" / NAME)


def hand_out(folder: Path) -> Path:
    """Copy the sketch's folder into another; where it is then. Raises InputError, also where there is one already."""
    source = next((place for place in PLACES if place.is_dir()), None)
    target = folder / NAME
    if source is None:
        raise InputError(PLACES[0], "is missing: the application is not whole")
    if target.exists():
        raise InputError(target, "exists already, and stays as it is")
    try:
        shutil.copytree(source, target)
    except OSError as error:
        raise InputError(target, not_written(error)) from None
    return target
