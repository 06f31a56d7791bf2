"""How a casebook is come by: opened, begun, copied; and where it and what it did not take are put when it is lost."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Sequence
from itertools import chain, count
from pathlib import Path

from eager_tern.casebook.file import DamagedError
from eager_tern.casebook.rescue import free_name, rescue
from eager_tern.casebook.signature import SUFFIX
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import KeyPlace
from eager_tern.errors import InputError
from eager_tern.formats import parcel
from eager_tern.intake.recording import rescue_durations
from eager_tern.places import rescued_folder
from eager_tern.protocol.loading import parse_sheet
from eager_tern.replacing import not_written
from eager_tern.signal.values import Floats
from eager_tern.texts import tr

UNNAMED = "Unnamed gadget"
Unwritten = Sequence[tuple[int, Floats]]  # take and signed durations that the disk has not taken


def opened(path: Path) -> tuple[Casebook, str]:
    """A casebook, and what there is to say of it: of a damaged one, what could be rescued. Raises InputError."""
    try:
        return _with_a_gadget(Casebook.open(path)), ""
    except DamagedError as error:
        found = rescue(path, free_name(path))
        return _with_a_gadget(Casebook.open(found.path)), tr(
            "{error}. It was not touched; {words}", error=error, words=found.words
        )


def _with_a_gadget(casebook: Casebook) -> Casebook:
    """The casebook; where a script or damage left no gadget in it, with one that takes what comes."""
    if not casebook.gadgets():
        casebook.add_gadget(UNNAMED)
    return casebook


def begun(path: Path, gadget: str) -> Casebook:
    """A new casebook with a gadget in it. Raises InputError where something stands at the path already."""
    casebook = Casebook.create(path)
    casebook.add_gadget(gadget)
    return casebook


def begun_today(folder: Path) -> Casebook:
    """A new casebook that has the day for a name. Raises InputError."""
    _made(folder)
    day = time.strftime("%Y-%m-%d")
    name = _first_free(day, "-", lambda name: (folder / f"{name}{SUFFIX}").exists())
    return begun(folder / f"{name}{SUFFIX}", UNNAMED)


def copied(book: Casebook, path: Path, unwritten: Unwritten) -> Casebook:
    """A copy of a casebook, with what there was no room for where it stood. Raises InputError."""
    book.copy_to(path)
    new = Casebook.open(path)
    for take_id, signed_us in unwritten:
        new.append_durations(take_id, signed_us)
    return new


def with_parcel(book: Casebook, path: Path) -> int:
    """Put a parcel's gadget into a casebook: its name, plate and sheets. Gives the gadget's id. Raises InputError."""
    what = parcel.contents(path)
    sheets = [(parse_sheet(text, path), text) for text in parcel.sheet_texts(path)]
    known = {gadget.name for gadget in book.gadgets()}
    gadget_id = book.add_gadget(_first_free(what.name, " ", known.__contains__), what.about)
    for key in what.keys:
        book.place_key(gadget_id, KeyPlace(key.name, key.row, key.col))
    for sheet, text in sheets:
        book.put_sheet(gadget_id, sheet.id, text)
    return gadget_id


def rescued(unwritten: Unwritten) -> Iterator[str]:
    """Put what no disk has taken where there may be room, in the last moment; what is to be said of it."""
    for take_id, signed_us in unwritten:
        try:
            place = rescue_durations(f"take-{take_id}", signed_us)
            yield tr("The last pulses could not be written to the casebook; they are in {place}", place=place)
        except InputError as error:
            yield tr("The last pulses could not be kept anywhere: {error}", error=error)


def place_for_lost(path: Path) -> Path:
    """Where a casebook can be saved whose file is gone. Raises InputError."""
    folder = rescued_folder()
    _made(folder)
    return free_name(path, folder)


def _first_free(name: str, parted_by: str, is_taken: Callable[[str], bool]) -> str:
    """The name, or where it is taken the name with the first number behind it that makes it another."""
    names = chain([name], (f"{name}{parted_by}{number}" for number in count(2)))
    return next(each for each in names if not is_taken(each))


def _made(folder: Path) -> None:
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(folder, not_written(error)) from None
