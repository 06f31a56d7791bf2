"""What is kept of a source before anybody records it: the time before the first edge, the press just missed."""

from __future__ import annotations

from collections import deque

import numpy as np
from msgspec import Struct, field

from eager_tern.signal.values import Floats

BEFORE_US = 2e6  # kept of the time before the first edge
QUIET_US = 20e6  # without an edge, and it waits again
RING_US = 30e6  # of what was heard while nothing was recorded
RING_DURATIONS = 1_000_000  # at the most, 8 MB: thirty seconds of a flood are more


class Arming(Struct):
    """What a source says while it is waited for, and when that has been waited for long enough.

    ``let_through`` gives what is to be recorded: nothing before the first mark, then what came just before it and
    everything from there on. ``quiet`` tells that nothing has come for so long that the recording may end.
    """

    before_us: float = BEFORE_US
    quiet_us: float = QUIET_US
    _waiting: deque[Floats] = field(default_factory=deque)
    _recording: bool = False
    _silence_us: float = 0.0

    @property
    def recording(self) -> bool:
        return self._recording

    @property
    def quiet(self) -> bool:
        return self._recording and self._silence_us >= self.quiet_us

    def let_through(self, signed_us: Floats) -> Floats:
        """Take durations in; gives those to be recorded."""
        marks = np.flatnonzero(signed_us > 0)
        behind = signed_us[marks[-1] + 1 :] if marks.size else signed_us
        self._silence_us = (0.0 if marks.size else self._silence_us) + float(-behind.sum())
        if self._recording:
            return signed_us
        if marks.size == 0:
            self._waiting.append(signed_us)
            while len(self._waiting) > 1 and -sum(float(w.sum()) for w in list(self._waiting)[1:]) >= self.before_us:
                self._waiting.popleft()
            return np.empty(0)
        silence = sum(float(w.sum()) for w in self._waiting) + float(signed_us[: marks[0]].sum())
        self._waiting.clear()
        self._recording = True
        before = np.array([max(silence, -self.before_us)]) if silence < 0 else np.empty(0)
        return np.concatenate((before, signed_us[marks[0] :]))

    def rest(self) -> None:
        """Wait for the next first edge."""
        self._recording = False
        self._silence_us = 0.0


class Ring(Struct):
    """The last half minute of a source that is heard but not recorded."""

    longest_us: float = RING_US
    _parts: deque[Floats] = field(default_factory=deque)
    _length_us: float = 0.0
    _count: int = 0

    def keep(self, signed_us: Floats) -> None:
        """Take durations in; the oldest go where there are too many."""
        self._parts.append(signed_us)
        self._length_us += float(np.abs(signed_us).sum())
        self._count += signed_us.size
        while self._parts and (
            self._length_us - (oldest := float(np.abs(self._parts[0]).sum())) >= self.longest_us
            or self._count > RING_DURATIONS
        ):
            self._count -= self._parts.popleft().size
            self._length_us -= oldest

    @property
    def heard(self) -> bool:
        """Whether there is a mark in it."""
        return any(bool((part > 0).any()) for part in self._parts)

    def empty(self) -> Floats:
        """What is in it, which is then gone."""
        signed = np.concatenate(self._parts) if self._parts else np.empty(0)
        self._parts.clear()
        self._length_us, self._count = 0.0, 0
        return signed
