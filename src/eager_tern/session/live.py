"""The source that is open in a session: recorded, waited for, or merely heard."""

from __future__ import annotations

from collections.abc import Callable

from eager_tern.devices.live import LiveDevice, open_live
from eager_tern.devices.serial_port import Recorder
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.intake.health import Trouble
from eager_tern.intake.listening import Listening, SourceNews
from eager_tern.session.events import Event
from eager_tern.session.session import Session
from eager_tern.session.sources import SourceChoice


class Live:
    """A source is open while it is recorded, waited for, or heard with an ear open.

    A simulated gadget's recorder runs while its source is open; ``stand_in`` is where its keys are pressed.
    """

    def __init__(self, session: Session) -> None:
        self.changed: Event[[]] = Event()
        self.troubled: Event[[str]] = Event()
        self.broken: Event[[str]] = Event()  # it ended by itself, and why
        self.levelled: Event[[float]] = Event()  # the highest sample, as a part of full scale
        self.pulses_heard: Event[[int]] = Event()
        self.on = False  # whether what comes is recorded, or will be from the first edge on
        self.ear_open = False
        self.choice: SourceChoice | None = None
        self.stand_in: StandInProcess | None = None
        self._session = session
        self._listening: Listening | None = None
        self._closing: list[tuple[Listening, StandInProcess | None]] = []
        session.caught.connect(self._caught)
        session.changed.when(self._use_sheets)
        session.opened.connect(self._use_sheets)

    @property
    def is_open(self) -> bool:
        return self._listening is not None

    @property
    def recorder(self) -> Recorder | None:
        """The board that is listened to, if it is one: it can be sent to by the same port."""
        device = self._listening.device if self._listening is not None and self.stand_in is None else None
        return device if isinstance(device, Recorder) else None

    @property
    def waiting(self) -> bool:
        """Whether it listens but records nothing yet."""
        return self._listening is not None and self._listening.waiting

    @property
    def can_have_missed(self) -> bool:
        """Whether something was heard while nothing was recorded."""
        return not self.on and self._listening is not None and self._listening.heard

    def condition(self) -> tuple[str, list[Trouble]] | None:
        """In a line who the source is and when it was heard last, and what is wrong; None where none is open."""
        return self._listening.condition() if self._listening is not None else None

    def start(self, choice: SourceChoice, armed: bool = False) -> None:
        """Listen to a source, into a new take of the gadget that is open.

        ``armed``: the take begins with the first edge, and ends when nothing has come for a while; then the next is
        waited for.
        """
        gadget = self._session.gadget
        if self.on or gadget is None:
            return
        self._open(choice)
        if self._listening is not None:
            self._listening.record(gadget.id, choice.name, self._session.sheets, armed)
            self.on = True
            self.changed.emit()

    def stop(self) -> None:
        """Stop, with everything kept that has arrived. An open ear goes on hearing."""
        if self.ear_open and self.on and self._listening is not None:
            self._listening.rest()
            self.on = False
            self.changed.emit()
        else:
            self.close()

    def close(self) -> None:
        """Let go of the source; that takes a moment, which nobody waits for."""
        if self._listening is None:
            return
        listening, stand_in = self._listening, self.stand_in
        self._listening = self.stand_in = None
        self.on = False
        self._session.inbox.in_thread(lambda: _closed(listening, stand_in), lambda _: None)
        self.changed.emit()

    def shut_down(self) -> None:
        """Let go of the source, and return when that is done."""
        if self._listening is not None:
            _closed(self._listening, self.stand_in)
            self._listening = self.stand_in = None
            self.on = False

    def open_ear(self, choice: SourceChoice | None, on: bool) -> None:
        """Hear a source without recording it, so that a press just missed can still be had; or no longer."""
        self.ear_open = on
        if on and choice is not None and not self.on and self._session.gadget is not None:
            self._open(choice)
            self.changed.emit()
        elif not on and not self.on:
            self.close()

    def have_missed(self) -> None:
        """Make a take of what was heard lately while nothing was recorded."""
        gadget = self._session.gadget
        if self.can_have_missed and self._listening is not None and self.choice is not None and gadget is not None:
            self._listening.have_missed(gadget.id, f"{self.choice.name}, heard before", self._session.sheets)
            self.changed.emit()

    def _open(self, choice: SourceChoice) -> None:
        service = self._session.service
        if service is None:
            return
        if self._listening is not None:
            if choice == self.choice:
                return
            self.close()
        self.choice = choice
        stand_in = self.stand_in = StandInProcess() if choice.simulated is not None else None
        open_device: Callable[[], LiveDevice] = lambda: open_live(stand_in.device if stand_in else choice.device)  # noqa: E731
        listening: Listening | None = None

        def tell(news: SourceNews) -> None:
            self._session.inbox.post(lambda: self._take_in(news) if self._listening is listening else None)

        listening = self._listening = Listening(open_device, service, tell)

    def _take_in(self, news: SourceNews) -> None:
        """What the listening thread tells."""
        if news.pulses:
            self.pulses_heard.emit(news.pulses)
        if news.words:
            self.troubled.emit(news.words)
        if news.level is not None:
            self.levelled.emit(news.level)
        if news.ended is not None:
            self.close()
            self.broken.emit(news.ended)
        elif news.turned:
            self.changed.emit()

    def _use_sheets(self) -> None:
        if self._listening is not None:
            self._listening.use_sheets(self._session.sheets)

    def _caught(self, _: int) -> None:
        if self._listening is not None:
            self._listening.caught()


def _closed(listening: Listening, stand_in: StandInProcess | None) -> None:
    listening.close()
    if stand_in is not None:
        stand_in.stop()
