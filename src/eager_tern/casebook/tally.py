"""How often what was caught of a gadget."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from eager_tern.casebook.values import Caught


@dataclass(frozen=True)
class Tally:
    """Presses by their protocol and by their code, without strays and deleted ones; and the strays."""

    protocols: Counter[str]
    codes: Counter[object]
    strays: int


def tally(presses: Sequence[Caught]) -> Tally:
    """Count the presses of a gadget."""
    shown = [press for press in presses if not press.stray and not press.deleted]
    return Tally(
        Counter(press.reading.protocol for press in shown),
        Counter(press.code for press in shown),
        sum(press.stray for press in presses),
    )
