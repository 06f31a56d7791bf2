"""The errors a user can meet, told in one sentence."""

from __future__ import annotations


class TernError(Exception):
    """Something the user should know: what happened, to what, and why, in one sentence."""


class InputError(TernError):
    """An input that cannot be used.

    ``source`` names the file or device, ``place`` the line, row or byte offset (empty: the whole of it).
    """

    def __init__(self, source: object, reason: str, place: str = "") -> None:
        self.source = str(source)
        self.place = place
        self.reason = reason
        super().__init__(f"{source}: {place}: {reason}" if place else f"{source}: {reason}")
