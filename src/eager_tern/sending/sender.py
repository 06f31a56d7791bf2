"""Presses to a target, one after the other, until they are all said or somebody says stop."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence

import numpy as np
from msgspec import Struct

from eager_tern.devices.targets import Target
from eager_tern.errors import InputError
from eager_tern.sending.echo import Meant
from eager_tern.sending.routine import MANY, SHORTEST_PAUSE_S, USUAL_PAUSE_S, Step, Voice, pauses_between
from eager_tern.sending.saying import Saying
from eager_tern.signal.values import pulses_from_signed

Presses = Sequence[tuple[Saying | None, float]]  # each with the silence behind it, s; None is silence alone


class Sent(Struct, frozen=True):
    """A press that went out. ``frames`` counts those that did whole; ``start_s`` is counted from the first press.

    ``obeyed`` is what a simulated gadget made of it, None where it did not care, and ``why`` it did not.
    """

    saying: Saying
    frames: int
    start_s: float
    obeyed: Mapping[str, object] | None = None
    why: str = ""

    @property
    def meant(self) -> Meant:
        """For the echo."""
        starts, now = [], self.start_s * 1e6
        for frame in self.saying.frames[: self.frames]:
            starts.append(now)
            now += float(np.abs(frame).sum())
        frames = tuple(pulses_from_signed(frame) for frame in self.saying.frames[: self.frames])
        return Meant(frames, tuple(starts), self.saying.bits)


def prepared(steps: Sequence[Step], voice: Voice, source: object = "routine") -> list[Saying | None]:
    """What each step says, None for a pause. Raises InputError naming the line of one that cannot be said."""
    sayings: list[Saying | None] = []
    for step in steps:
        try:
            sayings.append(None if step.is_pause else step.said_by(voice))
        except InputError as error:
            raise InputError(source, str(error), f"line {step.line}") from None
    return sayings


def expect_unhurried(pauses_s: Sequence[float]) -> None:
    """Raises InputError where presses would follow each other too soon."""
    soonest = min((pause for pause in pauses_s if pause > 0), default=USUAL_PAUSE_S)
    if soonest < SHORTEST_PAUSE_S:
        raise InputError(
            f"every {soonest:g} s",
            f"presses so close are taken for one by many gadgets; {SHORTEST_PAUSE_S:g} s is the least",
        )


def with_pauses(sayings: Sequence[Saying], every_s: float) -> Presses:
    """Presses with the silence behind each; none behind the last."""
    return [(saying, every_s if at + 1 < len(sayings) else 0.0) for at, saying in enumerate(sayings)]


def with_steps_pauses(steps: Sequence[Step], sayings: Sequence[Saying | None], every_s: float) -> Presses:
    """The same for a routine's steps."""
    return list(zip(sayings, pauses_between(steps, every_s), strict=True))


def long_in_words(presses: Presses) -> str:
    """How long many presses take, in words; empty where they are few."""
    count = sum(saying is not None for saying, _ in presses)
    lasts_s = sum((saying.duration_s if saying is not None else 0.0) + pause for saying, pause in presses)
    return f"{count} presses take {lasts_s / 60:.1f} minutes" if count > MANY else ""


def expect_possible(presses: Presses, target: Target) -> None:
    """Raises InputError where a target cannot send one of the presses."""
    for saying, _ in presses:
        if saying is not None and (reason := target.cannot(saying.frames, saying.carrier_hz)):
            raise InputError(target.id, f"{reason} ({saying.what})")


def say(
    presses: Presses,
    target: Target,
    stopped: Callable[[], bool] = lambda: False,
) -> Iterator[Sent]:
    """Send presses, each with the silence (s) behind it; None is silence alone. Raises InputError.

    What a target cannot do is said before anything is sent. Once it is ``stopped`` no further frame goes out; one that
    is on its way is cut short where the target can do that.
    """
    expect_possible(presses, target)
    begun: float | None = None
    for saying, pause_s in presses:
        if stopped():
            return
        if saying is not None:
            start = target.now_s()
            begun = start if begun is None else begun
            went = target.send(saying.frames, saying.carrier_hz, stopped)
            if went.frames:
                yield Sent(saying, went.frames, start - begun, went.obeyed, went.why)
        target.rest(pause_s, stopped)
