"""A sweep: many presses said one after the other, until somebody sees that the gadget reacted to one.

Who watches is slower than what is sent, so a reaction means one of the last few presses. These are said again, slower,
in halves, until one is certain. All of it is values, so that a sweep goes on where it was stopped.
"""

from __future__ import annotations

from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

LAG = 4  # presses within which somebody notes a reaction: two seconds at the usual pause
SLOWER = 3.0  # times the pause, when the last ones are said again
Phase = Literal["sweeping", "narrowing", "found", "over"]


class Sweep(Struct, frozen=True):
    """``said`` of ``count`` presses went out. While it narrows, ``suspects`` are those one of which did it, and
    ``trying`` those of them that are said now. ``doubted`` were suspected, and did nothing when said again.
    """

    count: int
    said: int = 0
    suspects: tuple[int, ...] = ()
    trying: tuple[int, ...] = ()
    doubted: tuple[int, ...] = ()

    @property
    def phase(self) -> Phase:
        if self.suspects:
            return "narrowing" if self.trying else "found"
        return "sweeping" if self.said < self.count else "over"

    @property
    def found(self) -> int | None:
        """The press that did it, once it is certain."""
        return self.suspects[0] if self.phase == "found" else None


def next_presses(sweep: Sweep) -> tuple[int, ...]:
    """The presses to be said next: one while it sweeps, those that are tried while it narrows."""
    if sweep.phase == "narrowing":
        return sweep.trying
    return (sweep.said,) if sweep.phase == "sweeping" else ()


def went_out(sweep: Sweep) -> Sweep:
    """After the next press of a sweep was said."""
    return replace(sweep, said=sweep.said + 1) if sweep.phase == "sweeping" else sweep


def reacted(sweep: Sweep) -> Sweep:
    """Somebody saw the gadget react."""
    if sweep.phase == "narrowing":
        if len(sweep.trying) == 1:
            return replace(sweep, suspects=sweep.trying, trying=())  # said alone, and it reacted again
        return _halved(replace(sweep, suspects=sweep.trying))
    last = tuple(n for n in range(max(0, sweep.said - LAG), sweep.said) if n not in sweep.doubted)
    return _halved(replace(sweep, suspects=last)) if last else sweep


def did_nothing(sweep: Sweep) -> Sweep:
    """What was tried did nothing: it was one of the others. Where none are left the sweep goes on."""
    if sweep.phase != "narrowing":
        return sweep
    left = tuple(n for n in sweep.suspects if n not in sweep.trying)
    doubted = tuple(sorted({*sweep.doubted, *sweep.trying}))
    if left:
        return _halved(replace(sweep, suspects=left, doubted=doubted))
    return replace(sweep, suspects=(), trying=(), doubted=doubted)


def goes_on(sweep: Sweep) -> Sweep:
    """After a press was found: it is noted, and the others may do something, too."""
    return replace(sweep, suspects=(), trying=(), doubted=tuple(sorted({*sweep.doubted, *sweep.suspects})))


def _halved(sweep: Sweep) -> Sweep:
    """The later half is tried first: who watches is seldom as late as the whole lag."""
    half = len(sweep.suspects) // 2
    return replace(sweep, trying=sweep.suspects[half:])
