"""A simulated gadget as a target: it hears what is sent in its own time, and does as it is told."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from queue import SimpleQueue

import numpy as np
from msgspec import Struct, field

from eager_tern.demo.obeying import Gadget
from eager_tern.devices.serial_port import Received
from eager_tern.devices.simulated.recorder import Impairment, impair
from eager_tern.devices.targets import RealTime, Went, length_s, wait
from eager_tern.signal.values import Floats

HELD_IN_THE_AIR_S = 0.02  # how long a look at the receiver waits


class Air(Struct):
    """What a simulated receiver hears of what is sent: with jitter, mark excess and a clock of its own."""

    impairment: Impairment = field(default_factory=Impairment)
    rng: np.random.Generator = field(default_factory=lambda: np.random.default_rng(5))
    now_s: float = 0.0  # of what it carried: a machine that is busy for a while does not tear it apart
    _sent: SimpleQueue[Floats] = field(default_factory=SimpleQueue)
    device: str = "simulated receiver"

    def carry(self, frame: Floats) -> None:
        self.now_s += length_s(frame)
        self._sent.put(impair(frame, self.impairment, self.rng))

    def rest(self, seconds: float) -> None:
        if seconds > 0:
            self.now_s += seconds
            self._sent.put(np.array([-seconds * 1e6 * self.impairment.clock]))

    def poll(self) -> Received:
        """As a recorder's."""
        if self._sent.empty():
            wait(HELD_IN_THE_AIR_S, lambda: not self._sent.empty())
        parts = []
        while not self._sent.empty():
            parts.append(self._sent.get())
        return Received(tuple(parts))

    def close(self) -> None:
        """There is nothing to let go of."""


class GadgetTarget(RealTime):
    """``told`` is called when it has reacted, ``heard_beside`` with the frames of a press as it begins."""

    id: str
    gadget: Gadget
    air: Air = field(default_factory=Air)
    still_down: bool = False  # what is sent goes on with the press before: the gadget has acted on it
    told: Callable[[Gadget], None] = lambda _: None
    heard_beside: Callable[[Sequence[Floats]], None] = lambda _: None

    def cannot(self, frames: Sequence[Floats], carrier_hz: float | None) -> str:
        return ""

    def send(self, frames: Sequence[Floats], carrier_hz: float | None, stopped: Callable[[], bool]) -> Went:
        went = 0
        self.heard_beside(frames)
        for frame in frames:
            if stopped():
                break
            last = went == len(frames) - 1
            wait(length_s(frame[:-1] if last else frame), lambda: False)
            self.air.carry(frame[:-1] if last else frame)
            went += 1
        heard = went > 0 and not self.still_down
        reaction = self.gadget.hear([frame.tolist() for frame in frames[:went]], carrier_hz) if heard else None
        if reaction is not None:
            self.told(self.gadget)
        if reaction is None:
            return Went(went)
        return Went(went, dict(reaction.obeyed) if reaction.obeyed is not None else None, reaction.why)

    def rest(self, seconds: float, stopped: Callable[[], bool]) -> None:
        self.air.rest(seconds)
        wait(seconds, stopped)

    def now_s(self) -> float:
        return self.air.now_s

    def close(self) -> None:
        """It goes on listening."""
