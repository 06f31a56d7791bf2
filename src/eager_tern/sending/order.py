"""What somebody asks to be sent, from a capture, a sheet or a casebook, and what came of it."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, closing
from pathlib import Path
from threading import Event, Thread

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from eager_tern.casebook.asked import gadget_named, is_casebook
from eager_tern.casebook.store import Casebook
from eager_tern.devices.live import LiveDevice
from eager_tern.devices.targets import Target, wait
from eager_tern.errors import InputError
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library, sheet_named
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import read_pulses
from eager_tern.sending.echo import Echo, echoes
from eager_tern.sending.routine import SHORTEST_PAUSE_S, steps_of
from eager_tern.sending.saying import Handset, Saying, fields_in_words, fields_of_words, said_by_press, said_by_sheet
from eager_tern.sending.sender import (
    Presses,
    Sent,
    expect_unhurried,
    long_in_words,
    prepared,
    say,
    with_pauses,
    with_steps_pauses,
)
from eager_tern.signal.values import Floats, pulses_from_signed
from eager_tern.text_file import read_text

BEHIND_S = 0.6  # that is listened on behind the last frame: a receiver tells a silence only when it has lasted
WARM_UP_S = 0.3  # of listening before the first frame


class Order(Struct, frozen=True):
    """What is to be sent: the arguments and options of the command."""

    what: str
    args: tuple[str, ...] = ()
    press: int | None = None
    times: int = 0
    every_s: float = 0.5
    carrier_hz: float | None = None
    as_recorded: bool = False
    gadget: str = ""
    routine: Path | None = None


class Done(Struct, frozen=True):
    """What went out and what was heard of it. ``trouble`` says why it ended early."""

    sent: tuple[Sent, ...]
    echoes: tuple[Echo | None, ...] = ()
    trouble: str = ""


def ordered(order: Order) -> tuple[Presses, tuple[Sheet, ...]]:
    """The presses to be sent, and the sheets by which their echo is read. Raises InputError."""
    if not math.isfinite(order.every_s) or order.every_s < SHORTEST_PAUSE_S:
        expect_unhurried([order.every_s])
        raise InputError(f"every {order.every_s} s", "is no length of time")
    path = Path(order.what)
    sheet = sheet_named(order.what)
    sheets: tuple[Sheet, ...] = tuple(library())
    if sheet is not None:
        _refuse_routine(order)
        values = fields_of_words(order.args)
        what = fields_in_words(values) or sheet.id
        presses = with_pauses([said_by_sheet(what, sheet, values)], order.every_s)
        sheets = (sheet, *(s for s in sheets if s.id != sheet.id))
    elif is_casebook(path):
        with closing(Casebook.open(path, read_only=True)) as casebook:
            handset = Handset.of_casebook(casebook, gadget_named(casebook, order.gadget, path), order.as_recorded)
            presses = _of_casebook(order, handset)
            sheets = (*handset.own_sheets.values(), *sheets)
    else:
        _refuse_routine(order)
        if order.args:
            raise InputError(order.what, f'is a capture, whose presses have no "{order.args[0]}"; --press N picks one')
        presses = with_pauses(_of_capture(path, order.press), order.every_s)
    return [(_as_ordered(saying, order), pause) for saying, pause in presses], sheets


def _as_ordered(saying: Saying | None, order: Order) -> Saying | None:
    if saying is None:
        return None
    saying = saying.times(order.times)
    return saying if order.carrier_hz is None else replace(saying, carrier_hz=order.carrier_hz)


def _refuse_routine(order: Order) -> None:
    if order.routine is not None:
        raise InputError(order.what, "is no casebook; a routine needs one, since it names a gadget's keys and fields")


def _of_casebook(order: Order, handset: Handset) -> Presses:
    if order.routine is not None:
        if order.args:
            raise InputError(order.args[0], "stands beside --routine, which says everything that is sent")
        steps = steps_of(read_text(order.routine), handset, order.routine)
        expect_unhurried([step.pause_s for step in steps if step.pause_s is not None and not step.fast])
        return with_steps_pauses(steps, prepared(steps, handset, order.routine), order.every_s)
    if not order.args:
        keys = ", ".join(handset.keys) or "none"
        raise InputError(order.what, f"name the keys to be sent ({keys}), field=value, or a --routine")
    if all("=" in word for word in order.args) and not any(word in handset.keys for word in order.args):
        values = fields_of_words(order.args)
        return with_pauses([handset.fields(fields_in_words(values), values)], order.every_s)
    return with_pauses([handset.key(name) for name in order.args], order.every_s)


def _of_capture(path: Path, number: int | None) -> list[Saying]:
    found = [(take.take, press) for take in read_file(path, library()) for press in take.take.presses]
    if not found:
        raise InputError(path, "holds no press that could be sent")
    if number is not None and number >= len(found):
        raise InputError(path, f"has no press {number}; they are counted from 0 to {len(found) - 1}")
    chosen = list(enumerate(found)) if number is None else [(number, found[number])]
    return [said_by_press(f"press {at}", press, take) for at, (take, press) in chosen]


def send_order(
    presses: Presses,
    target: Target,
    sheets: Sequence[Sheet],
    ear: AbstractContextManager[LiveDevice] | None,
    stopped: Callable[[], bool],
    tell: Callable[[object], None],
) -> Done:
    """Send presses and, where there is an ``ear``, listen with it. Raises InputError before anything was sent.

    What went out is on record whatever happens; a target that fails is told in ``trouble``.
    """
    if words := long_in_words(presses):
        tell(f"{words}; Ctrl-C stops between two frames")
    sent: list[Sent] = []
    trouble = ""
    listening: _Listening | None = None
    try:
        listening = _Listening(ear) if ear is not None else None
        for one in say(presses, target, stopped):
            sent.append(one)
    except InputError as error:
        if not sent:
            raise
        trouble = str(error)
    finally:
        heard = listening.done() if listening is not None else np.empty(0)
        target.close()
    if listening is None:
        return Done(tuple(sent), (None,) * len(sent), trouble)
    take = read_pulses(pulses_from_signed(heard), sheets)
    return Done(tuple(sent), tuple(echoes([one.meant for one in sent], take, sheets)), trouble or listening.trouble)


class _Listening:
    """Hears, in a thread of its own, while something is sent."""

    def __init__(self, ear: AbstractContextManager[LiveDevice]) -> None:
        self._parts: list[Floats] = []
        self._over = Event()
        self._ready = Event()
        self._failed: InputError | None = None
        self._thread = Thread(target=self._listen, args=(ear,), daemon=True)
        self._thread.start()
        self._ready.wait()
        if self._failed is not None:
            raise self._failed
        wait(WARM_UP_S, lambda: False)

    @property
    def trouble(self) -> str:
        return str(self._failed) if self._failed is not None else ""

    def _listen(self, ear: AbstractContextManager[LiveDevice]) -> None:
        try:
            with ear as device:
                self._ready.set()
                while not self._over.is_set():
                    self._parts += device.poll().durations
        except InputError as error:
            self._failed = error
            self._ready.set()

    def done(self) -> Floats:
        """Everything that was heard, once what came last has arrived."""
        wait(BEHIND_S, lambda: not self._thread.is_alive())
        self._over.set()
        self._thread.join()
        return np.concatenate(self._parts) if self._parts else np.empty(0)
