"""What is said to the open gadget: its routine, the target, what goes out just now, and the echo of each step."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from functools import partial
from threading import Event as Flag

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace

from eager_tern.casebook.changes import Change, WriteRoutine
from eager_tern.casebook.values import Caught
from eager_tern.demo.listening_gadget import GadgetTarget
from eager_tern.demo.obeying import Gadget, gadgets
from eager_tern.demo.playing import SIMULATED, SIMULATED_GADGETS, Source, list_targets, open_target, simulated_id
from eager_tern.devices.board import BoardTarget
from eager_tern.devices.serial_port import Recorder
from eager_tern.devices.simulated.process import StandInProcess
from eager_tern.devices.targets import LOOK_S, Target, wait
from eager_tern.errors import InputError, TernError
from eager_tern.linecode.values import bits_of_text
from eager_tern.protocol.fields import Value
from eager_tern.protocol.loading import parse_sheet
from eager_tern.protocol.take import TakeRead
from eager_tern.sending.echo import Echo, Meant, echoes
from eager_tern.sending.routine import USUAL_PAUSE_S, Step, pauses_between, steps_of_line
from eager_tern.sending.saying import Handset, Saying
from eager_tern.sending.sender import Sent, expect_possible, expect_unhurried, long_in_words, say
from eager_tern.sending.wording import frames_in_words
from eager_tern.session.events import Event
from eager_tern.session.live import Live
from eager_tern.session.session import Session
from eager_tern.signal.assumed import USUAL_REST_US
from eager_tern.signal.values import Floats
from eager_tern.texts import tr

LATEST = 60  # presses that counters go on from
ECHO_S = 4.0  # within which what comes from the source is the echo of what was said last
SILENCE_US = 200_000.0  # round a press that is put into the log: it is one by itself


class LineSaid(Struct, frozen=True):
    """A line of the routine: its steps, what they send, and in words what that is or why it cannot be."""

    number: int
    steps: tuple[Step, ...] = ()
    sayings: tuple[Saying | None, ...] = ()
    words: str = ""
    wrong: bool = False


class Said(Struct):
    """A step that went out, with its echo where one was heard."""

    step: int
    sent: Sent
    echo: Echo | None = None


class _Run(Struct):
    """What goes out just now: the steps by their numbers. ``stopped`` ends it between two frames."""

    presses: list[tuple[int, Saying | None, float]]
    stopped: Flag = field(default_factory=Flag)
    held: Flag = field(default_factory=Flag)  # the last press goes on for as long as it is set


class Sending:
    """One sender at a time; listening goes on meanwhile."""

    def __init__(self, session: Session, live: Live) -> None:
        self.changed: Event[[]] = Event()  # targets, the routine, whether something goes out
        self.stepped: Event[[int]] = Event()  # a step is being said; −1: none any more
        self.said: Event[[int]] = Event()  # a step went out, or its echo has come
        self.reacted: Event[[str]] = Event()  # a simulated gadget heard something
        self.troubled: Event[[str]] = Event()
        self.gadgets: dict[str, Gadget] = gadgets()
        self.targets: list[Source] = []
        self.target_id = ""
        self.as_recorded = False
        self.log: list[Said] = []
        self._session, self._live = session, live
        self._run: _Run | None = None
        self._echo_of: dict[int, int] = {}  # presses that are echoes: which entry of the log
        self._kept: tuple[str, float] | None = (
            None  # the label of a press that is being put into the log, and since when
        )
        session.opened.connect(self._opened)
        live.changed.connect(self.changed.emit)
        session.changed.connect(self._something_changed)
        session.caught.connect(self._caught)
        session.press_changed.connect(self._grown)

    # The routine

    @property
    def text(self) -> str:
        book, gadget = self._session.casebook, self._session.gadget
        return book.routine(gadget.id) if book is not None and gadget is not None else ""

    def write(self, text: str) -> None:
        """Keep the routine's text with the gadget."""
        gadget = self._session.gadget
        if gadget is not None and text != self.text:
            self._session.change(WriteRoutine(gadget.id, text))

    def handset(self) -> Handset:
        """The gadget's keys and fields as they are known now."""
        session = self._session
        own = {}
        for sheet_id, text in session.own_sheets().items():
            try:
                own[sheet_id] = parse_sheet(text, f"sheet {sheet_id}")
            except InputError as error:
                self.troubled.emit(str(error))
        name = session.gadget.name if session.gadget is not None else ""
        latest = session.shown_presses()[-LATEST:]
        return Handset(name, session.key_table(), own, latest, session.take_pulses, self.as_recorded)

    def lines(self, text: str, handset: Handset) -> list[LineSaid]:
        """What each line of a routine sends, or why it cannot."""
        return [self._line(line, number, handset) for number, line in enumerate(text.splitlines(), 1)]

    @staticmethod
    def _line(line: str, number: int, handset: Handset) -> LineSaid:
        try:
            steps = steps_of_line(line, number, handset)
            sayings = tuple(None if step.is_pause else step.said_by(handset) for step in steps)
            expect_unhurried([step.pause_s for step in steps if step.pause_s is not None and not step.fast])
        except InputError as error:
            return LineSaid(number, words=f"{error.source}: {error.reason}", wrong=True)
        presses = [saying for saying in sayings if saying is not None]
        if not presses:
            return LineSaid(number, tuple(steps), sayings, "silence" if steps else "")
        first = presses[0]
        what = tr("{size} bits, ", size=first.bits.size) if first.bits.size else ""
        how = tr("made from the sheet") if first.made else tr("as recorded")
        lasts = sum(saying.duration_s for saying in presses)
        between = sum(pauses_between(steps, USUAL_PAUSE_S))
        several = f"{len(presses)} × " if len(presses) > 1 else ""
        frames = f"{frames_in_words(len(first.frames))}, " if len(first.frames) > 1 else ""
        words = f"{several}{what}{frames}{how}; {lasts + between:.1f} s"
        return LineSaid(number, tuple(steps), sayings, words)

    # The target

    def look_for_targets(self) -> None:
        """What can send on this machine, found in a thread of its own."""

        def then(found: list[Source] | Exception) -> None:
            if isinstance(found, Exception):
                return
            gadget = self._session.gadget
            own = [t for t in found if gadget is not None and t.description.startswith(gadget.name)]
            self.targets = [*own, *(t for t in found if t not in own)]
            if self.target_id not in {t.id for t in self.targets}:
                self.target_id = self.targets[0].id if self.targets else ""
            self.changed.emit()

        self._session.inbox.in_thread(list_targets, then)

    def choose(self, target_id: str) -> None:
        self.target_id = target_id
        self.changed.emit()

    @property
    def simulated(self) -> Gadget | None:
        """The simulated gadget that is spoken to, if it is one."""
        name = next((g.name for g in SIMULATED_GADGETS if simulated_id(g) == self.target_id), None)
        return self.gadgets[name] if name is not None else None

    @property
    def face_in_sight(self) -> bool:
        """Whether the gadget that is spoken to is the one whose simulated handset is listened to."""
        choice, gadget = self._live.choice, self.simulated
        simulated = choice.simulated if choice is not None and self._live.is_open else None
        return simulated is not None and gadget is not None and simulated.name == gadget.name

    def heard_from_handset(self, name: str, frames: Sequence[Floats]) -> None:
        """A key of the simulated handset was pressed: its gadget hears it, too."""
        self.gadgets[name].hear([frame.tolist() for frame in frames], None)
        self.reacted.emit(name)

    # Saying

    @property
    def going(self) -> bool:
        return self._run is not None

    def say_lines(self, lines: Sequence[LineSaid]) -> None:
        """Say the steps of some lines. Where one cannot be said nothing is, and it is told."""
        wrong = next((line for line in lines if line.wrong), None)
        if wrong is not None:
            self.troubled.emit(tr("Line {number}: {words}", number=wrong.number, words=wrong.words))
            return
        steps = [step for line in lines for step in line.steps]
        handset = self.handset()  # made anew, so that what counts goes on in the order in which it is said
        try:
            sayings = [None if step.is_pause else step.said_by(handset) for step in steps]
        except InputError as error:
            self.troubled.emit(str(error))
            return
        pauses = pauses_between(steps, USUAL_PAUSE_S)
        if words := long_in_words(list(zip(sayings, pauses, strict=True))):
            self.troubled.emit(tr("{words}. Escape stops between two frames.", words=words))
        self.go([(step.line, saying, pause) for step, saying, pause in zip(steps, sayings, pauses, strict=True)])

    def say_key(self, name: str) -> None:
        self._say_one(lambda handset: handset.key(name))

    def hold_key(self, name: str) -> None:
        """Send a key, and its repeats until ``let_go``."""
        self._say_one(lambda handset: handset.key(name), held=True)

    def let_go(self) -> None:
        if self._run is not None:
            self._run.held.clear()

    def say_fields(self, what: str, values: dict[str, Value] | None) -> None:
        """A code that no key sends."""
        if values is None:
            self.troubled.emit(
                tr(
                    "“{what}” cannot be made: these keys have no fields yet. Find out what their bits mean first.",
                    what=what,
                )
            )
        else:
            self._say_one(lambda handset: handset.fields(what, values))

    def say_press(self, press_id: int) -> None:
        """A press of the log once more."""
        caught = self._session.press(press_id)
        if caught is not None:
            self._say_one(lambda handset: handset.press(caught))

    def _say_one(self, what: Callable[[Handset], Saying], held: bool = False) -> None:
        try:
            self.go([(0, what(self.handset()), 0.0)], held=held)
        except InputError as error:
            self.troubled.emit(str(error))

    def stop(self) -> None:
        """No further frame goes out."""
        if self._run is not None:
            self._run.stopped.set()

    def go(
        self,
        presses: list[tuple[int, Saying | None, float]],
        then: Callable[[], None] = lambda: None,
        held: bool = False,
    ) -> None:
        """Send presses, each with its line and the silence behind it; ``then``, unless somebody stopped it."""
        if self._run is not None:
            self.troubled.emit(tr("Something is being sent already; Escape stops it."))
            return
        if not self.target_id:
            self.troubled.emit(tr("There is nothing to send with yet; choose a target."))
            return
        if not presses:
            self.troubled.emit(tr("There is nothing to be said: write a key's name, or a field and its value."))
            return
        run = self._run = _Run(presses)
        if held:
            run.held.set()
        self.changed.emit()

        def ended(result: Exception | None) -> None:
            self._run = None
            if isinstance(result, TernError):
                self.troubled.emit(str(result))
            elif isinstance(result, Exception):
                raise result
            self.stepped.emit(-1)
            self.changed.emit()
            if result is None and not run.stopped.is_set():
                then()

        target_id, stand_in, recorder = self.target_id, self._live.stand_in, self._live.recorder
        self._session.inbox.in_thread(lambda: self._send(run, target_id, stand_in, recorder), ended)

    def _send(self, run: _Run, target_id: str, stand_in: StandInProcess | None, recorder: Recorder | None) -> None:
        """In a thread of its own."""
        target = self._opened_target(target_id, stand_in, recorder)
        try:
            expect_possible([(saying, pause_s) for _, saying, pause_s in run.presses], target)
            for number, saying, pause_s in run.presses:
                if run.stopped.is_set():
                    return
                self._post(partial(self.stepped.emit, number))
                for sent in say([(saying, 0.0)], target, run.stopped.is_set):
                    self._post(partial(self._went_out, number, sent))
                while saying is not None and run.held.is_set() and not run.stopped.is_set():
                    if isinstance(target, GadgetTarget):
                        target.still_down = True
                    target.rest(abs(float(saying.held[-1])) / 1e6, run.stopped.is_set)
                    target.send([saying.held], saying.carrier_hz, run.stopped.is_set)
                target.rest(pause_s, run.stopped.is_set)
        finally:
            if not (isinstance(target, BoardTarget) and target.pumped):
                target.close()

    def _opened_target(self, target_id: str, stand_in: StandInProcess | None, recorder: Recorder | None) -> Target:
        simulated = next((g for g in SIMULATED_GADGETS if simulated_id(g) == target_id), None)
        if simulated is None:
            if recorder is not None and recorder.device == target_id:
                return BoardTarget(target_id, recorder, pumped=True)  # it is listened to meanwhile, by the same port
            return open_target(target_id)
        told = lambda gadget: self._post(lambda: self.reacted.emit(gadget.name))  # noqa: E731
        target = GadgetTarget(target_id, self.gadgets[simulated.name], told=told)
        if stand_in is not None:
            target.heard_beside = lambda frames: _heard_beside(stand_in, frames)
        return target

    def _post(self, work: Callable[[], None]) -> None:
        self._session.inbox.post(work)

    def _went_out(self, number: int, sent: Sent) -> None:
        self.log.append(Said(number, replace(sent, start_s=time.time())))
        self.said.emit(number)

    # The echo

    def last_said(self, line: int) -> Said | None:
        """What a line sent last."""
        return next((said for said in reversed(self.log) if said.step == line), None)

    def is_an_echo(self, press_id: int) -> bool:
        """Whether a press that has just come is one of those that were said."""
        if press_id not in self._echo_of:
            self._caught(press_id)
        return press_id in self._echo_of

    def _caught(self, press_id: int) -> None:
        if press_id in self._echo_of:
            return
        kept, self._kept = self._kept, None
        if kept is not None and time.time() - kept[1] < ECHO_S:  # no echo, but what was to be in the log
            self._session.label(press_id, kept[0])
            return
        for at in range(len(self.log)):
            waits = self.log[at].echo is None and time.time() - self.log[at].sent.start_s < ECHO_S
            if waits and self._held_against(press_id, at):
                self._echo_of[press_id] = at
                return

    def _grown(self, press_id: int) -> None:
        """An echo has one repeat more."""
        if press_id in self._echo_of:
            self._held_against(press_id, self._echo_of[press_id])

    def _held_against(self, press_id: int, at: int) -> bool:
        press = self._session.press(press_id)
        echo = echo_in(self._session, self.log[at].sent.meant, press) if press is not None else None
        if echo is None:
            return False
        self.log[at].echo = echo
        self.said.emit(self.log[at].step)
        return True

    def when_silent(self, act: Callable[[], object]) -> None:
        """Do something as soon as nothing goes out any more."""
        if self._run is None:
            act()
        else:
            self._session.inbox.in_thread(lambda: wait(LOOK_S, lambda: False), lambda _: self.when_silent(act))

    def keep_as_press(self, saying: Saying, label: str) -> None:
        """Have what was said in the log, as a press with that label: its echo, where one was recorded."""
        service, gadget = self._session.service, self._session.gadget
        if service is None or gadget is None:
            return
        if self._live.on:
            heard = [press for press, at in self._echo_of.items() if self.log[at].sent.saying.what == saying.what]
            if heard:
                self._session.label(heard[-1], label)
            return
        self._kept = label, time.time()
        service.begin(gadget.id, f"said: {saying.what}", self._session.sheets)
        service.hear(np.concatenate([np.array([-SILENCE_US]), *saying.frames, np.array([-SILENCE_US])]))
        service.end()

    # What happens elsewhere

    def _opened(self) -> None:
        self.stop()
        self.log.clear()
        self._echo_of.clear()
        name = self._session.gadget.name if self._session.gadget is not None else ""
        own = next((simulated_id(gadget) for gadget in SIMULATED_GADGETS if gadget.name == name), "")
        if own and (not self.target_id or self.target_id.startswith(SIMULATED)):
            self.target_id = own  # at once: who sends now means this gadget
        self.look_for_targets()

    def _something_changed(self, change: Change) -> None:
        if isinstance(change, WriteRoutine):
            self.changed.emit()


def echo_in(session: Session, meant: Meant, press: Caught) -> Echo | None:
    """A press of the log as what was heard of a press that was meant."""
    frames = press.reading.frames
    if not frames:
        return None
    whole = session.take_pulses(press.take_id).part(frames[0][0], frames[-1][1])
    heard = TakeRead(whole, (), ((0, whole.durations_us.size - 1),))
    return echoes([meant], heard, session.sheets)[0]


def as_meant(session: Session, press: Caught) -> Meant:
    """A press of the log as what was meant: another is held against it."""
    pulses = session.take_pulses(press.take_id)
    frames = tuple(pulses.part(first, last) for first, last in press.reading.frames)
    return Meant(frames, tuple(frame.start_us for frame in frames), bits_of_text(press.reading.bits))


def _heard_beside(stand_in: StandInProcess, frames: Sequence[Floats]) -> None:
    """A simulated receiver beside the gadget hears the same."""
    silent = [frame if frame[-1] < 0 else np.append(frame, -USUAL_REST_US) for frame in frames]
    stand_in.down(np.concatenate(silent).tolist(), silent[-1].tolist())
    stand_in.up()
