"""The gadget's shot list as the user works through it."""

from __future__ import annotations

from collections.abc import Callable

from eager_tern.casebook.changes import Change, PlanShots
from eager_tern.casebook.shots import Shots, next_shot, odd_one, repeated, skipped, stepped_back, taken
from eager_tern.session.events import Event
from eager_tern.session.session import Session


class ShotPlan:
    """Gives each press that arrives the labels of the next shot."""

    def __init__(self, session: Session) -> None:
        self.changed: Event[[]] = Event()
        self.held_up: Event[[int, str]] = Event()  # a press that may not be what was planned, and why
        self._session = session
        self._shots: Shots | None = None
        session.opened.connect(self._look_again)
        session.changed.connect(self._after)
        self.is_an_echo: Callable[[int], bool] = lambda _: False  # of what was sent: no shot was asked for
        session.caught.connect(self._offer)

    def shots(self) -> Shots:
        casebook, gadget = self._session.casebook, self._session.gadget
        if casebook is None or gadget is None:
            return ()
        if self._shots is None:
            self._shots = casebook.shots(gadget.id)
        return self._shots

    def put(self, shots: Shots, labels: tuple[tuple[int, str], ...] = (), words: str = "shot list") -> None:
        """Put another shot list in force."""
        if self._session.gadget is not None:
            self._session.change(PlanShots(self._session.gadget.id, shots, labels, words))

    def skip(self) -> None:
        self.put(skipped(self.shots()), words="skip")

    def repeat(self) -> None:
        self.put(repeated(self.shots()), words="repeat shot")

    def step_back(self) -> None:
        """The shot taken last is open again, and its press has no label."""
        shots, press_id = stepped_back(self.shots())
        self.put(shots, ((press_id, ""),) if press_id is not None else (), "step back")

    def take(self, press_id: int) -> None:
        """Give a press the next shot's label."""
        at = next_shot(self.shots())
        if at is not None:
            self.put(taken(self.shots(), press_id), ((press_id, self.shots()[at].text),), "take shot")

    def _offer(self, press_id: int) -> None:
        """A new press takes the next shot, unless it is not like the ones before it."""
        press, shots = self._session.press(press_id), self.shots()
        if press is None or next_shot(shots) is None or press.stray or press.label or self.is_an_echo(press_id):
            return
        before = [p for shot in shots if (p := self._session.press(shot.press_id or -1)) is not None]
        reason = odd_one(press, before)
        if reason:
            self.held_up.emit(press.id, reason)
        else:
            self.take(press.id)

    def _after(self, change: Change) -> None:
        if isinstance(change, PlanShots):
            self._look_again()

    def _look_again(self) -> None:
        self._shots = None
        self.changed.emit()
