"""A sampled line followed while it is recorded: samples to signed durations."""

from __future__ import annotations

import numpy as np

from eager_tern.signal.quality import CLIPPED
from eager_tern.signal.threshold import EdgeFollower, block_grain
from eager_tern.signal.values import Floats, Levels

BLOCK_S = 0.1
WARM_UP_BLOCKS = 5  # taken as one: what is quiet cannot be told from less
HISTORY_S = 3.0  # by which a short block is judged
QUIET_BLOCKS = 10  # of silence, over which automatic gain shows itself
GAIN_RISES = 2.0  # how much the noise grows in them
AUDIBLE = 3e-4  # of full scale: noise that can be told from the samples' own steps


def block_size(rate_hz: float) -> int:
    """Samples to be fed at a time."""
    grain = block_grain(rate_hz)
    return max(1, round(BLOCK_S * rate_hz / grain)) * grain


class LineFollower:
    """Marks and spaces of a line as its samples come; a space is told bit by bit, a mark when it is over.

    The line begins in a space. Where that is wrong its signs are the other way round, which shows at the first silence.
    """

    def __init__(self, rate_hz: float) -> None:
        self._us = 1e6 / rate_hz
        self._edges = EdgeFollower(rate_hz, history_s=HISTORY_S)
        self._told_us = 0.0
        self._in_mark = False
        self._first: list[Levels] = []
        self._warm = False
        self._noise: list[float] = []  # of each block since the last edge
        self.peak = 0.0  # of the last block, as a part of full scale

    @property
    def clips(self) -> bool:
        return self.peak >= CLIPPED

    @property
    def gain_follows(self) -> bool:
        """Whether the silence grew louder while it lasted: an automatic gain that looks for a voice."""
        noise = self._noise
        return len(noise) >= QUIET_BLOCKS and noise[-1] > max(GAIN_RISES * noise[1], AUDIBLE) > 0

    def feed(self, samples: Levels) -> Floats:
        """Take a block of ``block_size`` samples; gives signed durations, µs."""
        self.peak = float(np.abs(samples).max(initial=0.0))
        if not self._warm:
            self._first.append(samples)
            if len(self._first) < WARM_UP_BLOCKS:
                return np.empty(0)
        whole = samples if self._warm else np.concatenate(self._first)
        self._warm = True
        signed = self._signed(self._edges.feed(whole) * self._us)
        self._noise = [] if signed.size > 1 or self._in_mark else [*self._noise, float(samples.std())]
        return signed

    def finish(self) -> Floats:
        """What the last block still held."""
        before = np.empty(0) if self._warm or not self._first else self._edges.feed(np.concatenate(self._first))
        return self._signed(np.concatenate((before, self._edges.finish())) * self._us)

    def _signed(self, edges_us: Floats) -> Floats:
        bounds = np.concatenate(([self._told_us], edges_us))
        signs = np.where(np.arange(edges_us.size) % 2 == 0, -1.0, 1.0) * (-1.0 if self._in_mark else 1.0)
        signed = np.diff(bounds) * signs
        self._in_mark ^= bool(edges_us.size % 2)
        self._told_us = float(bounds[-1])
        now = self._edges.settled * self._us
        if not self._in_mark and now > self._told_us:
            signed = np.append(signed, self._told_us - now)
            self._told_us = now
        return signed
