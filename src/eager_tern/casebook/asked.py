"""Which casebook, and which gadget of it, somebody asks for."""

from __future__ import annotations

from pathlib import Path

from eager_tern.casebook.signature import MAGIC
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Gadget
from eager_tern.errors import InputError, did_you_mean


def is_casebook(path: Path) -> bool:
    """Whether a file is one, told by what it begins with. Raises InputError where it cannot be read."""
    try:
        with path.open("rb") as file:
            head = file.read(64)
    except OSError as error:
        known = "there is no such file, and no built-in sheet of that name" if error.errno == 2 else error.strerror
        raise InputError(path, known or "cannot be read") from None
    return head.startswith(MAGIC)


def gadget_named(casebook: Casebook, name: str, path: Path) -> Gadget:
    """The gadget of that name, or the only one. Raises InputError naming those there are."""
    gadgets = casebook.gadgets()
    names = ", ".join(gadget.name for gadget in gadgets)
    if name:
        found = [gadget for gadget in gadgets if gadget.name.casefold() == name.casefold()]
        if not found:
            meant = did_you_mean(name, [gadget.name for gadget in gadgets]) or f"; it has {names or 'none'}"
            raise InputError(path, f'has no gadget "{name}"{meant}')
        return found[0]
    if len(gadgets) != 1:
        raise InputError(path, f"holds {len(gadgets)} gadgets; --gadget says which ({names})")
    return gadgets[0]
