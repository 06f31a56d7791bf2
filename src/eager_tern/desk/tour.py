"""The way from the first press to the proof, followed on the example's climate cabinet: a sentence at each step."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from msgspec import Struct
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QPushButton, QVBoxLayout

from eager_tern.casebook.shots import next_shot
from eager_tern.demo.gadgets import PROJECTOR
from eager_tern.demo.planned import CABINET, SHUTTERS
from eager_tern.desk.links import link
from eager_tern.desk.theme import text_font
from eager_tern.desk.words import Words
from eager_tern.session.commands import Commands
from eager_tern.session.comparison import ComparisonModel
from eager_tern.session.sending import Sending
from eager_tern.session.session import Session
from eager_tern.session.shot_plan import ShotPlan
from eager_tern.texts import tr

HEAT, LECTURE = "temperature 17.5, mode heat, blower 2, power on", "Lamp\npause 1 s\nNext slide x 3"
SKYLIGHT = "code 0x69C58C"  # of the shutters' digits the last but one, 8, which no key has, and "up"
WRONG, RIGHT = "humidity = 50", "humidity = 45"


class Stage(Protocol):
    """What the tour needs to be shown: a leaf, or the stack with its rows held against something."""

    def show_leaf(self, name: str) -> None: ...
    def show_stack(self, against: str, row: int) -> None: ...


class Desk(Struct, frozen=True):
    """What the steps speak of."""

    session: Session
    comparison: ComparisonModel
    plan: ShotPlan
    sending: Sending
    commands: Commands
    stage: Stage


class Step(Struct, frozen=True):
    """``show`` brings into view what the words are about. ``act`` does what they ask for, if they ask for something;
    the next step follows as soon as it is ``done``, by whomever."""

    title: str
    words: str
    show: Callable[[Desk], None]
    doing: str = ""
    act: Callable[[Desk], None] | None = None
    done: Callable[[Desk], bool] | None = None


def _first_press(desk: Desk) -> None:
    session = desk.session
    cabinet = next((g for g in session.gadgets() if g.name == CABINET.name), None)
    desk.stage.show_leaf("Signal")
    if cabinet is not None:
        session.choose_gadget(
            cabinet.id, then=lambda: session.select(tuple(press.id for press in session.shown_presses()[:1]))
        )


def _stack(desk: Desk, against: str = "row above", row: int = 3) -> None:
    desk.stage.show_stack(against, row)


def _wrong_press(desk: Desk) -> None:
    presses = desk.session.shown_presses()
    _stack(desk, "label", CABINET.mistaken or 0)
    desk.session.select((presses[CABINET.mistaken or 0].id,))


def _correct(desk: Desk) -> None:
    for press in desk.session.selected_presses():
        desk.session.label(press.id, press.label.replace(WRONG, RIGHT))


def _corrected(desk: Desk) -> bool:
    presses = desk.session.shown_presses()
    return len(presses) > (CABINET.mistaken or 0) and RIGHT in presses[CABINET.mistaken or 0].label


def _play_shots(desk: Desk) -> None:
    desk.commands.do("start_listening")
    desk.commands.do("send_shots")


def _stack_at_the_end(desk: Desk) -> None:
    desk.commands.do("stop_listening")
    _stack(desk, "label", len(desk.session.shown_presses()))


def _last_press(desk: Desk) -> None:
    desk.stage.show_leaf("Signal")
    desk.session.select(tuple(press.id for press in desk.session.shown_presses()[-1:]))


def _line_to_say(desk: Desk, gadget: str, text: str, then: Callable[[], object] = lambda: None) -> None:
    """The Send leaf of a gadget, with a routine to be sent, as soon as the gadget's presses are there."""
    found = next((g for g in desk.session.gadgets() if g.name == gadget), None)
    desk.stage.show_leaf("Send")

    def write() -> None:
        desk.sending.write(text)
        then()

    if found is not None:
        desk.session.choose_gadget(found.id, write)


def _say_it(desk: Desk, gadget: str, text: str) -> None:
    """The same, and it is sent: however soon somebody clicks."""
    _line_to_say(desk, gadget, text, lambda: desk.sending.when_silent(lambda: desk.commands.do("send_all")))


def _shows(desk: Desk, gadget: str, what: str, value: object) -> bool:
    return desk.sending.gadgets[gadget].state[what] == value


def _kept(desk: Desk) -> bool:
    presses = desk.session.shown_presses()
    return bool(presses) and bool(presses[-1].reading.fields)


STEPS = (
    Step(
        tr("One press, 112 bits"),
        tr(
            "The handset of the climate cabinet sends its whole state, in two sections. No sheet knows it: look at the "
            "spaces on the tape, which come in two lengths, so the line code is pulse distance, and the bits are sure."
        ),
        _first_press,
    ),
    Step(
        tr("What changes with what"),
        tr(
            "Here every press lies under the one before, labelled by the shot list, and what changed is inked. Follow "
            "the rows of the temperature: a few bits move with it, and the last byte moves with everything."
        ),
        _stack,
    ),
    Step(
        tr("Let it be found"),
        tr("For each label the bits that carry it are looked for, and what the last bytes are computed from."),
        _stack,
        tr("Find out"),
        lambda desk: desk.commands.do("search"),
        lambda desk: desk.comparison.proof is not None,
    ),
    Step(
        tr("A label that is not true"),
        tr(
            "Each card tells in how many presses it holds. Humidity does not in one: held against its label, the row's "
            "inked bits are not what 50 % would be. They say 45, and the wrong key was pressed."
        ),
        _wrong_press,
        tr("Put the label right"),
        _correct,
        _corrected,
    ),
    Step(
        tr("The proof"),
        tr(
            "The figure below counts presses made from their labels alone, bit for bit, and those that a search "
            "predicted without having been shown them. That is what a sheet is believed for."
        ),
        lambda desk: _stack(desk, "label", CABINET.taken),
    ),
    Step(
        tr("The presses that are left"),
        tr(
            "The shot list still has some presses that combine everything. The simulated cabinet sends them now, each "
            "takes its label, and the search is made again with them."
        ),
        lambda desk: _stack(desk, "row above", CABINET.taken),
        tr("Record them"),
        _play_shots,
        lambda desk: next_shot(desk.plan.shots()) is None and desk.comparison.proof is not None,
    ),
    Step(
        tr("A sheet of your own"),
        tr(
            "What was found becomes the cabinet's protocol sheet. From then on each press says by itself what was set, "
            "and whether its checks hold."
        ),
        _stack_at_the_end,
        tr("Keep it"),
        lambda desk: desk.commands.do("keep_found"),
        _kept,
    ),
    Step(
        tr("Frames nobody captured"),
        tr(
            "This press now says what was set, bit by bit. The Sheet leaf holds the text; “write it up” on the Stack "
            "leaf makes the page to publish. Undo takes all of it back, step by step."
        ),
        _last_press,
    ),
    Step(
        tr("The cabinet obeys"),
        tr(
            "The proof is the gadget itself. Nobody ever pressed 17.5 degrees with the fan off its usual speed: the "
            "sheet makes the frame, the simulated cabinet hears it, checks it with a decoder of its own, and does "
            "as it is told."
        ),
        lambda desk: _line_to_say(desk, CABINET.name, HEAT),
        tr("Send it"),
        lambda desk: _say_it(desk, CABINET.name, HEAT),
        lambda desk: _shows(desk, CABINET.name, "temperature", 17.5),
    ),
    Step(
        tr("The projector advances"),
        tr(
            "A routine is a text like the shot list, with pauses and repetitions: here the lecture begins by itself. "
            "Each line shows what it sends; while a source listens, how far what was heard is from what was meant."
        ),
        lambda desk: _line_to_say(desk, PROJECTOR.name, LECTURE),
        tr("Send it"),
        lambda desk: _say_it(desk, PROJECTOR.name, LECTURE),
        lambda desk: _shows(desk, PROJECTOR.name, "slide", 4),
    ),
    Step(
        tr("A window that no key opens"),
        tr(
            "The shutters' codes leave one bit of their second last digit alone. No key sends it, and the gadget knows "
            "it: watch the skylight. Send only to what is yours."
        ),
        lambda desk: _line_to_say(desk, SHUTTERS.name, SKYLIGHT),
        tr("Send it"),
        lambda desk: _say_it(desk, SHUTTERS.name, SKYLIGHT),
        lambda desk: _shows(desk, SHUTTERS.name, "skylight", "up"),
    ),
)


class Tour(QFrame):
    """A band below the desk; hidden until somebody wants it."""

    ended = pyqtSignal()

    def __init__(
        self,
        session: Session,
        comparison: ComparisonModel,
        plan: ShotPlan,
        sending: Sending,
        commands: Commands,
        stage: Stage,
    ) -> None:
        super().__init__()
        self.setObjectName("tour")
        self._desk = Desk(session, comparison, plan, sending, commands, stage)
        self.at = -1
        for event in (comparison.changed, session.presses_changed, plan.changed):
            event.connect(self._look_whether_done)
        session.press_changed.when(self._look_whether_done)
        sending.reacted.when(self._look_whether_done)
        session.presses_added.when(self._look_whether_done)
        self._title = Words()
        self._title.setFont(text_font(13, bold=True))
        self._title.setStyleSheet("font-weight: bold")
        self._words = Words()
        self._words.setWordWrap(True)
        self._words.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.act = QPushButton()
        self.act.clicked.connect(self._act)
        self.next = link(tr("Next"), tr("Next step of the tour"), self.go_on)
        self.leave = link(tr("Leave"), tr("Leave the tour"), self.stop)
        words = QVBoxLayout()
        words.setSpacing(2)
        words.addWidget(self._title)
        words.addWidget(self._words, 1)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(18, 9, 18, 10)
        layout.setSpacing(18)
        layout.addLayout(words, 1)
        for button in (self.act, self.next, self.leave):
            layout.addWidget(button)
        self.hide()

    @property
    def text(self) -> str:
        return f"{self._title.text()} {self._words.text()}"

    def start(self) -> None:
        """Begin with the first step."""
        self._go_to(0)
        self.show()

    def go_on(self) -> None:
        """The next step, whether this one was done or not."""
        if self.at + 1 < len(STEPS):
            self._go_to(self.at + 1)
        else:
            self.stop()

    def stop(self) -> None:
        self.at = -1
        self.hide()
        self.ended.emit()

    def _go_to(self, at: int) -> None:
        self.at, step = at, STEPS[at]
        self._title.setText(tr("{title} · {at} of {steps}", title=step.title, at=at + 1, steps=len(STEPS)))
        self._words.setText(step.words)
        self.setAccessibleName(self.text)
        self.act.setVisible(bool(step.doing))
        self.act.setEnabled(True)
        self.act.setText(step.doing)
        self.next.setText(tr("Next") if at + 1 < len(STEPS) else tr("Done"))
        step.show(self._desk)

    def _act(self) -> None:
        step = STEPS[self.at]
        if step.act is not None:
            self.act.setEnabled(False)
            step.act(self._desk)

    def _look_whether_done(self) -> None:
        done = STEPS[self.at].done if self.at >= 0 else None
        if done is not None and done(self._desk):
            self.go_on()
