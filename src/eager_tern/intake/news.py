"""What the capture service tells of its work: values, each whole in itself."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct


class TakeBegun(Struct, frozen=True):
    """A take is in the casebook; nothing in it is read yet."""

    take_id: int
    gadget_id: int
    live: bool


class PressesRead(Struct, frozen=True):
    """Presses and strays of a take that are new, are read otherwise or are none any more: a few hundred at most."""

    take_id: int
    gadget_id: int
    press_ids: tuple[int, ...]
    live: bool


class TakeRead(Struct, frozen=True):
    """Everything in a take has been read. ``replaces`` is the take of the same samples whose place it takes."""

    take_id: int
    gadget_id: int
    replaces: int | None = None


class Progress(Struct, frozen=True):
    """How far a job is: ``part`` of ``name`` is read, None where that cannot be said."""

    job: int
    name: str
    part: float | None
    presses: int


class JobEnded(Struct, frozen=True):
    """A job has come to its end, or was stopped."""

    job: int
    stopped: bool = False


class Trouble(Struct, frozen=True):
    """Something went wrong: what happened, to what, and what to do."""

    words: str


class CasebookGone(Struct, frozen=True):
    """The casebook's file was deleted, or another put in its place, while it is open."""

    path: Path


News = TakeBegun | PressesRead | TakeRead | Progress | JobEnded | Trouble | CasebookGone
