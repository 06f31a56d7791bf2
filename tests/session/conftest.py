"""A session without a window, on a casebook of two gadgets."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest

from eager_tern.casebook.store import Casebook
from eager_tern.intake.recording import keep_recording
from eager_tern.protocol.loading import library
from eager_tern.session.session import Session
from tests.handsets import nec, record, sony


class Room:
    """A session and what it has said."""

    def __init__(self, path: Path) -> None:
        self.session = Session()
        self.said: list[str] = []
        self.session.troubled.connect(self.said.append)
        self.session.open(path)
        self.settle()

    def settle(self, until: Callable[[], bool] = lambda: True) -> None:
        """Wait until nothing goes on any more."""
        self.session.inbox.settle(lambda: not self.session.incoming.reading_again and until())


@pytest.fixture
def book_path(tmp_path: Path) -> Path:
    rng = np.random.default_rng(5)
    book = Casebook.create(tmp_path / "book.tern")
    for name, frames in (
        ("Projector", [nec(0x5B, n) for n in range(8)]),
        ("Guide", [sony(n, 21) for n in range(3)]),
    ):
        signed = np.concatenate([record([*frame, -300_000.0], rng, jitter_us=10) for frame in frames])
        keep_recording(book, book.add_gadget(name), "test", signed, library(), 1000.0)
    book.close()
    return book.path


@pytest.fixture
def room(book_path: Path) -> Iterator[Room]:
    found = Room(book_path)
    yield found
    found.session.close()
