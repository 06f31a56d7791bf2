"""What is wrong with a recording, and what to try: told to whoever made it."""

from __future__ import annotations

import numpy as np

from eager_tern.signal.order import median, quantile
from eager_tern.signal.values import Floats, Levels, Pulses

FEWEST_SAMPLES = 4.0  # in a short pulse: with fewer, lengths look uneven that are not
FEWEST_PULSES = 20
CLIPPED = 0.985  # of full scale
CLIPPED_SHARE = 1e-3  # of the samples
FEWEST_LEVELS = 12  # of an analog line; what has fewer was made of two
CLIPS = "clips: it was recorded too loud, and its lengths suffer; turn the input down"
CHATTER_US = 300.0  # usual pulse of a receiver that hears nothing


def advice_on(pulses: Pulses, sample_rate_hz: float | None, frames: int) -> tuple[str, ...]:
    """Sentences about a take of which so many frames could be read; empty where all is well."""
    d = pulses.durations_us
    if d.size == 0:
        return ("there is no signal in it: is the receiver connected, and does its line change?",)
    found = []
    short = float(quantile(d, 0.2))
    busy = float(d[1::2].max(initial=0.0)) < 20_000 and d.size > 500  # then most pulses are a receiver's chatter
    samples = short * sample_rate_hz / 1e6 if sample_rate_hz else np.inf
    if samples < FEWEST_SAMPLES and d.size >= FEWEST_PULSES and not (busy and frames):
        found.append(f"it is too coarse, about {samples:.0f} samples a pulse: record with a higher sample rate")
    if frames == 0 and busy and median(d) < CHATTER_US:
        found.append("it is full of chatter without a frame: the receiver hears nothing, bring the gadget nearer")
    return tuple(found)


def clips(samples: Levels) -> bool:
    """Whether an analog line runs into the top or bottom of its scale; ``samples`` has shape (n,), full scale is 1."""
    at_the_end = np.abs(samples) >= CLIPPED
    if not CLIPPED_SHARE * samples.size < np.count_nonzero(at_the_end) < samples.size:
        return False
    return np.unique(np.round(samples[~at_the_end][:4096], 4)).size >= FEWEST_LEVELS


def rests_in_marks(signed_us: Floats, gap_us: float) -> bool:
    """Whether a live line has its silences where its marks should be."""
    long_marks = int(np.sum(signed_us >= gap_us))
    long_spaces = int(np.sum(signed_us <= -gap_us))
    return long_marks >= 2 and long_spaces == 0 and signed_us.size >= FEWEST_PULSES
