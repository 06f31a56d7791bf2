"""Readings made again from the raw pulses, when another sheet is in force."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import press_reading
from eager_tern.intake.files import stray_readings
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import read_pulses


def read_again(
    casebook: Casebook, gadget_id: int, sheets: Sequence[Sheet], between: Callable[[], None] = lambda: None
) -> None:
    """Read every take of a gadget anew, whole or not at all; ``between`` is called now and then.

    Labels and deletions stay with the press that begins at the same mark. What was a press and is none any more becomes
    a stray.
    """
    with casebook.changing():
        for take in casebook.takes():
            if take.gadget_id != gadget_id:
                continue
            known = {press.reading.frames[0][0]: press for press in casebook.presses(take_id=take.id)}
            read = read_pulses(casebook.take_pulses(take.id), sheets)
            found = [(press_reading(press), False) for press in read.presses]
            found += [(reading, True) for reading in stray_readings(read)]
            for reading, stray in found:
                at = take.started_at + reading.start_us / 1e6
                casebook.put_press(take.id, reading, stray=stray, caught_at=at)
                between()
            still = {frame[0] for reading, _ in found for frame in reading.frames[:1]}
            casebook.set_deleted(tuple(press.id for first, press in known.items() if first not in still), True)
