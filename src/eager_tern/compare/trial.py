"""A sheet on trial: does it read the frames that it was found out from, and make each from its labels?"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from eager_tern.compare.comparison import Comparison
from eager_tern.compare.labels import listed
from eager_tern.compare.proof import expected_bits
from eager_tern.errors import InputError
from eager_tern.protocol.making import frames_of_bits
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import read_frames
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import read_pulses
from eager_tern.protocol.why import why_not
from eager_tern.signal.values import pulses_from_signed

MOST_MADE = 24  # distinct frames that are made and read again


def on_trial(sheet: Sheet, found: Comparison, frames: Sequence[Frame], names: Sequence[str]) -> list[str]:
    """Why the sheet fails some of the frames that it came from, a sentence a reason; empty where it fails none.

    ``frames`` go with the stack's rows and are called ``names``. Each is read as it was recorded; what is said of its
    labels is made, sent through the reader as pulses, and has to come back bit for bit.
    """
    bits = found.stack.bits
    read = read_frames([frame.as_read for frame in frames], (sheet,))
    failed: dict[str, list[str]] = {}
    for row, (readings, frame) in enumerate(zip(read, frames, strict=True)):
        best = readings[0] if readings else None
        if best is None or best.protocol != sheet.id:
            failed.setdefault(f"is not read: {_reason(frame, sheet)}", []).append(names[row])
        elif not np.array_equal(best.bits, bits[row]):
            failed.setdefault("is read with other bits", []).append(names[row])
    made = expected_bits(found, found.stack)
    rows = np.flatnonzero((made == bits).all(axis=1))
    for row in rows[np.unique(bits[rows], axis=0, return_index=True)[1]].tolist()[:MOST_MADE]:
        if not _comes_back(sheet, made[row]):
            failed.setdefault("is made, and is not read again", []).append(names[row])
    return [f"{listed(which)}: {reason}" for reason, which in failed.items()]


def _reason(frame: Frame, sheet: Sheet) -> str:
    return next(iter(why_not(frame, sheet)), "another explanation is likelier")


def _comes_back(sheet: Sheet, bits: np.ndarray) -> bool:
    """Whether a press of these bits is read as what it is."""
    try:
        sent = frames_of_bits(sheet, bits)
    except InputError:
        return False
    take = read_pulses(pulses_from_signed(np.concatenate(sent)), (sheet,))
    leads = [press.lead.best for press in take.presses]
    return len(leads) == 1 and leads[0] is not None and np.array_equal(leads[0].bits, bits)
