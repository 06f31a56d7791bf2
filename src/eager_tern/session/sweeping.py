"""A sweep through the open gadget's routine: press after press, until somebody sees that the gadget reacts."""

from __future__ import annotations

from eager_tern.casebook.changes import Change, WriteRoutine
from eager_tern.casebook.sweep import SLOWER, Sweep, did_nothing, goes_on, next_presses, reacted, went_out
from eager_tern.sending.routine import USUAL_PAUSE_S
from eager_tern.sending.saying import Saying
from eager_tern.session.events import Event
from eager_tern.session.sending import LineSaid, Sending
from eager_tern.session.session import Session
from eager_tern.texts import tr

REACTED = "reacted"  # the label of a press that a sweep has found
Swept = list[tuple[int, Saying, float]]  # line, press, and the silence behind it


class Sweeping:
    """How far it has come is kept in the casebook, so that it goes on where it was stopped."""

    def __init__(self, session: Session, sending: Sending) -> None:
        self.changed: Event[[]] = Event()
        self._session, self._sending = session, sending
        self._presses: Swept = []  # of the routine, once they were asked for
        session.opened.connect(self._forget)
        session.changed.connect(self._routine_changed)

    @property
    def sweep(self) -> Sweep | None:
        book, gadget = self._session.casebook, self._session.gadget
        return book.sweep(gadget.id) if book is not None and gadget is not None else None

    def start(self) -> None:
        """Say every press of the routine until the gadget reacts; go on where it was stopped."""
        lines = self._sending.lines(self._sending.text, self._sending.handset())
        wrong = next((line for line in lines if line.wrong), None)
        self._presses = _pressed(lines)
        if wrong is not None:
            self._sending.troubled.emit(tr("Line {number}: {words}", number=wrong.number, words=wrong.words))
            return
        if not self._presses:
            self._sending.troubled.emit(tr("The routine names nothing to sweep over."))
            return
        sweep = self.sweep
        if sweep is None or sweep.phase == "over" or sweep.count != len(self._presses):
            sweep = Sweep(len(self._presses))
        elif sweep.phase == "found":
            sweep = goes_on(sweep)
        self._keep(sweep)
        self._go_on()

    def end(self) -> None:
        self._sending.stop()
        self._keep(None)

    def it_reacted(self) -> None:
        """Somebody saw the gadget react: it was one of the last few."""
        if (sweep := self.sweep) is not None:
            said = sweep if sweep.phase == "narrowing" or not self._sending.going else went_out(sweep)
            self._turn(reacted(said))

    def nothing_happened(self) -> None:
        """What was tried did nothing."""
        if (sweep := self.sweep) is not None:
            self._turn(did_nothing(sweep))

    def in_words(self) -> str:
        """What the sweep has come to, in a sentence."""
        sweep = self.sweep
        if sweep is None:
            return ""
        if sweep.found is not None and (what := self._named((sweep.found,))):
            return tr("It was {what}. It is kept in the log as “{label}”.", what=what, label=REACTED)
        if sweep.phase == "narrowing" and (names := self._named(sweep.trying)):
            told = tr("It was one of {suspects}.", suspects=len(sweep.suspects))
            again = tr("Now {name} is said again.") if len(sweep.trying) == 1 else tr("Now {name} are said again.")
            return f"{told} {again.format(name=names)} {tr('Did it react?')}"
        if sweep.phase == "over":
            return tr("All {count} presses were said.", count=sweep.count)
        return tr(
            "{said} of {count} presses said. Press Return as soon as the gadget reacts.",
            said=sweep.said,
            count=sweep.count,
        )

    def _named(self, numbers: tuple[int, ...]) -> str:
        presses = self._swept()
        return " and ".join(f"“{presses[n][1].what}”" for n in numbers if n < len(presses))

    def _swept(self) -> Swept:
        """The presses of the routine, also where the sweep was begun before the window was opened."""
        if not self._presses:
            self._presses = _pressed(self._sending.lines(self._sending.text, self._sending.handset()))
        return self._presses

    def _turn(self, sweep: Sweep) -> None:
        """Let what goes out just now end, then go on with the sweep as it is now."""
        self._keep(sweep)
        self._sending.stop()
        if sweep.found is None:
            self._sending.when_silent(self._go_on)
        elif sweep.found < len(self._swept()):
            self._sending.keep_as_press(self._swept()[sweep.found][1], REACTED)

    def _go_on(self) -> None:
        """Say what the sweep says next."""
        sweep, presses = self.sweep, self._swept()
        if sweep is None or self._sending.going or sweep.count != len(presses):
            return
        narrowing = sweep.phase == "narrowing"
        slower = SLOWER if narrowing else 1.0

        def then() -> None:
            now = self.sweep
            if now is not None and now == sweep and not narrowing:
                self._keep(went_out(now))
                self._go_on()

        if chosen := [presses[n] for n in next_presses(sweep)]:
            self._sending.go([(line, saying, slower * pause_s) for line, saying, pause_s in chosen], then)

    def _keep(self, sweep: Sweep | None) -> None:
        book, gadget = self._session.casebook, self._session.gadget
        if book is not None and gadget is not None:
            book.put_sweep(gadget.id, sweep)
            self.changed.emit()

    def _forget(self) -> None:
        self._presses = []
        self.changed.emit()

    def _routine_changed(self, change: Change) -> None:
        if isinstance(change, WriteRoutine):
            self._forget()


def _pressed(lines: list[LineSaid]) -> Swept:
    return [
        (line.number, saying, step.pause_s if step.pause_s is not None else USUAL_PAUSE_S)
        for line in lines
        for step, saying in zip(line.steps, line.sayings, strict=False)  # of a line that is wrong there are none
        if saying is not None
    ]
