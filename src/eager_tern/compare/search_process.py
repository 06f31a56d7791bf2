"""The process that searches: it keeps a processor busy, and the window does not wait for it."""

from __future__ import annotations

import time
from multiprocessing.connection import Connection

from msgspec import Struct

from eager_tern.compare.comparison import STAGES, compare
from eager_tern.compare.proof import FOLDS, left_out
from eager_tern.texts import tr

# What part of a search is behind it when a stage begins: as measured on settings remotes and sensors, sixty presses.
DONE = (0.0, 0.03, 0.25, 0.5, 0.7, 0.85, 0.97, 0.99)
WORTH_TELLING_S = 1.5


class Stage(Struct, frozen=True):
    """What a search is at, and how long it and what follows will take (s; 0 where that is not known)."""

    doing: str
    left_s: float = 0.0

    @property
    def words(self) -> str:
        return self.doing + (
            tr(", about {left:.0f} s left", left=self.left_s) if self.left_s >= WORTH_TELLING_S else ""
        )


def serve(connection: Connection) -> None:
    """The searching process: of a stack it answers what is found in it, then what is found without parts of it."""
    stack = connection.recv()
    begun = time.monotonic()

    def look(name: str) -> None:
        at = STAGES.index(name)
        left_s = (time.monotonic() - begun) * (1 / DONE[at] - 1) if at else 0.0
        connection.send(
            Stage(
                tr("Looking for {name} … step {at} of {steps}", name=name, at=at + 1, steps=len(STAGES)),
                left_s,
            )
        )

    found = compare(stack, look)
    each_s = time.monotonic() - begun
    connection.send(found)

    def leave_out(part: int) -> None:
        doing = tr("predicting what is left out … part {part} of {parts}", part=part + 1, parts=FOLDS)
        connection.send(Stage(doing, (FOLDS - part) * each_s))

    connection.send(left_out(stack, tell=leave_out))
