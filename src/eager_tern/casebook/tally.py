"""How often what was caught of a gadget."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass


@dataclass(frozen=True)
class Tally:
    """Presses by their protocol and by their code, without strays and deleted ones; and the strays."""

    protocols: Counter[str]
    codes: Counter[object]
    strays: int
