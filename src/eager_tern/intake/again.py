"""Readings made again from the raw pulses, when another sheet is in force."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Take, press_reading
from eager_tern.intake.faint import doubted
from eager_tern.intake.files import stray_readings
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.bursts import GapSettings


def read_again(
    casebook: Casebook, gadget_id: int, sheets: Sequence[Sheet], between: Callable[[], None] = lambda: None
) -> None:
    """Read every take of a gadget anew, whole or not at all; ``between`` is called now and then."""
    with casebook.changing():
        for take in casebook.takes():
            if take.gadget_id == gadget_id:
                read_take_again(casebook, take, sheets, between)


def read_take_again(
    casebook: Casebook, take: Take, sheets: Sequence[Sheet], between: Callable[[], None] = lambda: None
) -> None:
    """Read a take anew from its raw pulses.

    Labels and deletions stay with the press that begins at the same mark. What is no press any more is hidden until it
    is one again.
    """
    with casebook.changing():
        read = read_pulses(casebook.take_pulses(take.id), sheets, GapSettings(take.by_hand.gap_us))
        read = doubted(read, take.measured.faint)
        found = [(press_reading(press), False) for press in read.presses]
        found += [(reading, True) for reading in stray_readings(read)]
        for reading, stray in found:
            at = take.started_at + reading.start_us / 1e6
            casebook.put_press(take.id, reading, stray=stray, caught_at=at)
            between()
        casebook.set_vanished(take.id, {reading.frames[0][0] for reading, _ in found})
