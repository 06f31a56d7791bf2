"""The errors a user can meet, told in one sentence."""

from __future__ import annotations

from collections.abc import Iterable


class TernError(Exception):
    """Something the user should know: what happened, to what, and why, in one sentence."""


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """A suggestion to stand behind a reason, where a known word is much like the one that was typed; else empty."""
    from difflib import get_close_matches  # only who errs needs it

    near = get_close_matches(word, list(known), n=1, cutoff=0.6)
    return f'; did you mean "{near[0]}"?' if near else ""


class InputError(TernError):
    """An input that cannot be used.

    ``source`` names the file or device, ``place`` the line, row or byte offset (empty: the whole of it).
    """

    def __init__(self, source: object, reason: str, place: str = "") -> None:
        self.source = str(source)
        self.place = place
        self.reason = reason
        super().__init__(f"{source}: {place}: {reason}" if place else f"{source}: {reason}")
