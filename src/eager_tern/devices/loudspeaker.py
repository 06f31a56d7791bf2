"""A frame for the ear: its marks as a tone, slowed so that a person hears them apart, or its edges as clicks."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from eager_tern.devices.sound import CARD, cards, sounddevice_if_there
from eager_tern.errors import InputError
from eager_tern.signal.values import Floats, Pulses

RATE_HZ = 44_100
TONE_HZ = 880.0  # where ears are keen and small loudspeakers loud
CLICK_S = 0.002
FADE_S = 0.001  # at each end of a tone, so that the end itself is not heard
LOUD = 0.5
SLOWER = {"tone": 12.0, "clicks": 12.0}  # a mark of 560 µs is seven milliseconds long: five periods of the tone
LONGEST_S = 30.0
Manner = Literal["tone", "clicks"]
Samples = NDArray[np.float32]


def audible(pulses: Pulses, manner: Manner) -> Samples:
    """Mono samples at ``RATE_HZ``, ``SLOWER`` times as long as the pulses, ``LONGEST_S`` at most."""
    edges: Floats = (pulses.edge_times_us - pulses.start_us) / 1e6 * SLOWER[manner]
    edges = edges[edges <= LONGEST_S]
    times = np.arange(int((edges[-1] + 0.05) * RATE_HZ)) / RATE_HZ
    at = np.searchsorted(edges, times, side="right") - 1
    since = times - edges[np.maximum(at, 0)]
    if manner == "clicks":
        wave = np.where(at % 2 == 0, 1.0, -1.0) * np.exp(-since / (CLICK_S / 4)) * np.cos(2 * np.pi * 2500 * since)
    else:
        ends = edges[np.minimum(at + 1, edges.size - 1)]
        fade = np.clip(np.minimum(since, ends - times) / FADE_S, 0.0, 1.0)
        wave = np.where((at % 2 == 0) & (at + 1 < edges.size), np.sin(2 * np.pi * TONE_HZ * since) * fade, 0.0)
    return (LOUD * wave).astype(np.float32)


def loudspeakers() -> list[str]:
    """The names of this machine's sound outputs; none where sound is not installed."""
    return [port.device.removeprefix(CARD) for port in cards("output", 1)]


def play(samples: Samples, through: str = "") -> None:
    """Through a loudspeaker, or the usual one; returns at once. Raises InputError where there is none."""
    sounddevice = sounddevice_if_there()
    if sounddevice is None:
        raise InputError("loudspeaker", "sound needs the package sounddevice and the library PortAudio (libportaudio2)")
    try:
        sounddevice.play(samples, RATE_HZ, device=through or None)
    except (sounddevice.PortAudioError, ValueError) as error:
        raise InputError("loudspeaker", f"cannot play ({error})") from None


def be_quiet() -> None:
    """Stop what is being played."""
    if (sounddevice := sounddevice_if_there()) is not None:
        sounddevice.stop()
