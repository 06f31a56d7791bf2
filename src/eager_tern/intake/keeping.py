"""What files held, put into a casebook."""

from __future__ import annotations

import time
from pathlib import Path

from eager_tern.casebook.store import Casebook
from eager_tern.intake.files import FileTake
from eager_tern.signal.values import signed_from_start


def keep_pulses(casebook: Casebook, gadget_id: int, found: FileTake, started_at: float | None = None) -> int:
    """Put a take's raw durations, none of them read yet, into a casebook. Gives its id."""
    capture, pulses = found.capture, found.take.pulses
    with casebook.changing():
        take_id = casebook.add_take(
            gadget_id, Path(capture.path).name, capture.format,
            started_at=time.time() if started_at is None else started_at, polarity=found.polarity,
            sample_rate_hz=capture.sample_rate_hz, carrier_hz=pulses.carrier_hz,
            path=str(Path(capture.path).absolute()), channel=capture.channel, by_hand=found.by_hand,
            measured=found.measured, cut=found.cut, read_whole=False,
        )  # fmt: skip
        casebook.append_durations(take_id, signed_from_start(pulses))
    return take_id
