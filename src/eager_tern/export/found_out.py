"""The sheet of a gadget that has none yet: what comparing its labelled presses says, as the stack would keep it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.casebook.stacks import stack_of
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Caught, Gadget
from eager_tern.compare.comparison import compare, settled
from eager_tern.compare.writing import LINE_FRAMES, drafted
from eager_tern.errors import InputError
from eager_tern.linecode.values import bits_of_text
from eager_tern.protocol.draft import Draft
from eager_tern.protocol.matching import match_sheets
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import read_frame
from eager_tern.signal.values import Pulses

FEWEST = 8  # distinct frames: fewer say too little for code that somebody builds on


def found_out(casebook: Casebook, gadget: Gadget) -> Draft | None:
    """None where too few presses are labelled, nothing was found, or the sheet does not read them."""
    presses = [press for press in casebook.presses(gadget.id) if not press.stray and not press.deleted]
    stack, rows, _ = stack_of(presses)
    if not any("=" in press.label for press in rows) or len(np.unique(stack.bits, axis=0)) < FEWEST:
        return None
    found = settled(compare(stack), casebook.dismissed(gadget.id))
    frames = [_frame(casebook, press) for press in rows[:LINE_FRAMES]]
    try:
        draft = drafted(found, frames, gadget.name) if found.fields else None
        return draft if draft is not None and _reads(draft, frames, rows) else None
    except InputError:
        return None


def _frame(casebook: Casebook, press: Caught) -> Frame:
    first, last = press.reading.frames[0]
    pulses = casebook.take_pulses(press.take_id).part(first, last)
    return Frame(first, last, pulses, read_frame(pulses, ()))


def _reads(draft: Draft, frames: Sequence[Frame], rows: Sequence[Caught]) -> bool:
    """Whether it reads most of the frames it came from as they are."""
    good = 0
    for frame, press in zip(frames, rows, strict=False):
        pulses: Pulses = frame.as_read
        matches = match_sheets(pulses.durations_us[None], (draft.sheet,))[0]
        good += any(np.array_equal(match.bits, bits_of_text(press.reading.bits)) for match in matches)
    return good > len(frames) // 2
