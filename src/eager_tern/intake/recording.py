"""A recording of a live source for a given time."""

from __future__ import annotations

import time
from dataclasses import dataclass

import numpy as np

from eager_tern.devices.live import LiveDevice
from eager_tern.errors import InputError
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed


@dataclass(frozen=True)
class Recorded:
    """``trouble`` says what went wrong; what came before it is in ``pulses`` all the same."""

    pulses: Pulses
    trouble: str = ""


def record_pulses(recorder: LiveDevice, seconds: float) -> Recorded:
    """Listen for so long, or until interrupted from the keyboard."""
    until = time.monotonic() + seconds
    parts: list[Floats] = []
    scrambled = lost = 0
    trouble = news = ""
    while time.monotonic() < until:
        try:
            received = recorder.poll()
        except InputError as error:
            trouble = str(error)
            break
        except KeyboardInterrupt:
            break
        parts += received.durations
        news = received.news or news
        scrambled += received.scrambled
        lost += received.lost_lines
    if not trouble and news and not parts:
        trouble = f"{recorder.device}: {news}"
    elif not trouble and scrambled and not parts:
        trouble = f"{recorder.device}: {scrambled} lines were scrambled; is the speed right?"
    elif not trouble and lost:
        trouble = f"{recorder.device}: {lost} lines were lost on the way"
    return Recorded(pulses_from_signed(np.concatenate(parts) if parts else np.empty(0)), trouble)
