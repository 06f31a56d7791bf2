"""How often what was caught of a gadget."""

from __future__ import annotations

from collections import Counter

from msgspec import Struct


class Tally(Struct, frozen=True):
    """Presses by their protocol and by their code, without strays and deleted ones; and the strays."""

    protocols: Counter[str]
    codes: Counter[object]
    strays: int
