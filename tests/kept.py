"""Takes of files in a casebook, without a service that reads them in the background."""

from __future__ import annotations

from eager_tern.casebook.store import Casebook
from eager_tern.intake.files import FileTake
from eager_tern.intake.keeping import keep_pulses
from eager_tern.intake.passages import as_kept
from eager_tern.protocol.take import Passage


def keep(casebook: Casebook, gadget_id: int, found: FileTake, *, started_at: float | None = None) -> list[int]:
    """Put a take with its presses and strays into a casebook, whole or not at all. Gives the ids of the presses."""
    pulses = found.take.pulses
    whole = Passage(0, pulses.durations_us.size + 1, pulses, found.take.presses, found.take.noise)
    with casebook.changing():
        take_id = keep_pulses(casebook, gadget_id, found, started_at)
        casebook.put_passage(take_id, as_kept(whole, found.capture.notes))
        casebook.set_read_whole(take_id, True)
        return [press.id for press in casebook.presses(take_id=take_id) if not press.stray]
