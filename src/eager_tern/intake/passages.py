"""What was read of a passage, as a casebook keeps it."""

from __future__ import annotations

from collections.abc import Sequence

from eager_tern.casebook.values import PassageRead, PressReading, press_reading
from eager_tern.formats.capture import Note
from eager_tern.protocol.take import Passage

MOST_STRAYS = 500  # of a passage, of which each has a line of its own in the casebook


def as_kept(passage: Passage, notes: Sequence[Note] = ()) -> PassageRead:
    """A passage's presses and strays; a press is labelled with what the file notes at its place."""
    presses = tuple(press_reading(press) for press in passage.presses)
    labels = {r.frames[0][0]: text for r in presses if (text := _noted(notes, r.start_us))}
    return PassageRead(passage.from_us, passage.to_us, presses, _strays(passage), labels)


def _noted(notes: Sequence[Note], at_us: float) -> str:
    """What the file calls the stretch that a press begins in."""
    return next((note.text for note in notes if note.start_us - 1 <= at_us < note.end_us), "")


def _strays(passage: Passage) -> tuple[PressReading, ...]:
    """The bursts that are no frames. In a recording full of chatter, neighbours are one stray."""
    spans = list(passage.noise) if len(passage.noise) <= MOST_STRAYS else _joined(passage.noise)
    edges, base = passage.pulses.edge_times_us, passage.first
    return tuple(
        PressReading(
            frames=((first, last),),
            start_us=float(edges[first - base]),
            held_us=float(edges[last + 1 - base] - edges[first - base]),
        )
        for first, last in spans
    )


def _joined(spans: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """Index ranges with those made one between which nothing but a space stands."""
    out: list[tuple[int, int]] = []
    for first, last in spans:
        if out and out[-1][1] + 2 == first:
            out[-1] = (out[-1][0], last)
        else:
            out.append((first, last))
    return out
