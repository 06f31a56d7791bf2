"""A casebook with a projector, its lamp's toggle and the cabinet."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Gadget


@pytest.fixture
def book(demo_casebook: Path, tmp_path: Path) -> Iterator[Casebook]:
    copy = tmp_path / "skarvholm.tern"
    copy.write_bytes(demo_casebook.read_bytes())
    casebook = Casebook.open(copy)
    yield casebook
    casebook.close()


def gadget(book: Casebook, name: str) -> Gadget:
    return next(g for g in book.gadgets() if g.name == name)
