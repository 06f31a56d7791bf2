"""The bridge at work: what a source hears goes to the broker, what the broker asks for is sent."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager, closing, suppress
from datetime import datetime, timedelta
from pathlib import Path
from queue import Empty, Full, Queue
from threading import Event, Thread

import numpy as np
from msgspec import Struct

from eager_tern.bridge.broker import Broker, Message
from eager_tern.bridge.hearing import Heard, Hearing
from eager_tern.bridge.messages import (
    Order,
    Topics,
    as_json,
    error_message,
    order_of,
    press_message,
)
from eager_tern.casebook.asked import gadget_named
from eager_tern.casebook.keys import table_of_keys
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import press_reading
from eager_tern.devices.live import LiveDevice
from eager_tern.devices.targets import Target, wait
from eager_tern.errors import InputError
from eager_tern.export.names import spelled
from eager_tern.protocol.loading import parse_sheet
from eager_tern.protocol.presses import Press
from eager_tern.protocol.schema import Sheet
from eager_tern.sending.documents import step_document
from eager_tern.sending.saying import Handset, Saying
from eager_tern.sending.sender import say
from eager_tern.signal.values import Floats

LOOK_S = 0.05  # how often it is asked whether to stop, and whether a press is over
MOST_WAITING = 2_000  # looks at the source that are not read yet: some minutes
MOST_ORDERS = 100  # messages that wait to be sent
LEAST_BACK_OFF_S, MOST_BACK_OFF_S = 1.0, 30.0  # before a source that is gone is opened again
log = logging.getLogger(__name__)


class Known(Struct, frozen=True):
    """What a casebook knows of a gadget: labels by code, and its own sheets."""

    name: str
    labels: Mapping[object, str]
    sheets: tuple[Sheet, ...]


def known_in(path: Path, gadget: str) -> Known:
    """Raises InputError."""
    with closing(Casebook.open(path, read_only=True)) as casebook:
        owner = gadget_named(casebook, gadget, path)
        keys = table_of_keys(casebook.presses(owner.id), casebook.key_places(owner.id))
        labels: dict[object, str] = {key.best.code: key.name for key in reversed(keys) if key.best is not None}
        sheets = tuple(parse_sheet(text, f"sheet {n}") for n, text in casebook.sheets(owner.id).items())
        return Known(owner.name, labels, sheets)


def topic_name(source: str, known: Known | None) -> str:
    """The gadget's name within topics; without a casebook that of the source."""
    return spelled(known.name if known is not None else source)


def label_of(press: Press, known: Known | None) -> str | None:
    """What the casebook calls a press."""
    if known is None or press.lead.best is None:
        return None
    return known.labels.get(press_reading(press).code)


def press_messages(
    topics: Topics, press: Press, number: int, label: str | None, at: datetime, with_pulses: bool = False
) -> list[Message]:
    """A press, and the state that it tells."""
    best = press.lead.best
    messages = [Message(topics.press, press_message(press, number, label, at, with_pulses))]
    if best is not None and best.fields and best.checks_hold and not press.first_missed:
        messages.append(Message(topics.state, as_json(best.fields), retain=True))
    return messages


def publish_heard(
    broker: Broker, topics: Topics, heard: Heard, number: int, known: Known | None, with_pulses: bool = False
) -> None:
    """A press from a live source to the broker."""
    at = datetime.now().astimezone() - timedelta(seconds=heard.ago_s)
    label = label_of(heard.press, known)
    broker.publish(*press_messages(topics, heard.press, number, label, at, with_pulses))


class Speaker:
    """Obeys messages in a thread of its own, one after the other, and answers each."""

    def __init__(
        self,
        broker: Callable[[], Broker],
        topics: Topics,
        casebook: Path | None,
        gadget: str,
        open_target: Callable[[], Target] | None,
    ) -> None:
        self._broker, self._topics = broker, topics
        self._casebook, self._gadget, self._open_target = casebook, gadget, open_target
        self._orders: Queue[bytes] = Queue(MOST_ORDERS)
        self._stopping = Event()
        self._thread = Thread(target=self._run, name="speaker", daemon=True)
        self._thread.start()

    def ordered(self, payload: bytes, kept: bool) -> None:
        """A message came. One that the broker had kept is not obeyed: it would be at every connection."""
        if kept:
            self._answer(error_message("a retained message is not obeyed: it would be sent at every connection"))
            return
        try:
            self._orders.put_nowait(payload)
        except Full:
            self._answer(error_message(f"more than {MOST_ORDERS} messages wait; this one is not sent"))

    def close(self) -> None:
        self._stopping.set()
        self._thread.join(2.0)

    def _answer(self, words: str) -> None:
        self._broker().publish(Message(self._topics.sent, words))

    def _run(self) -> None:
        casebook: Casebook | None = None
        handset: Handset | None = None
        unusable = ""  # why nothing can be said at all
        try:
            if self._casebook is not None:
                casebook = Casebook.open(self._casebook, read_only=True)
                handset = Handset.of_casebook(casebook, gadget_named(casebook, self._gadget, self._casebook))
        except InputError as error:
            unusable = str(error)
        while not self._stopping.is_set():
            try:
                payload = self._orders.get(timeout=LOOK_S)
            except Empty:
                continue
            try:
                if unusable:
                    self._answer(error_message(unusable))
                else:
                    self._obey(order_of(payload), handset)
            except InputError as error:
                self._answer(error_message(str(error)))
            except Exception as error:  # whatever it was, the next message is obeyed
                log.exception("a message met a fault")
                self._answer(error_message(f"something went wrong inside ({error})"))
        if casebook is not None:
            casebook.close()

    def _obey(self, order: Order, handset: Handset | None) -> None:
        if handset is None:
            raise InputError("the bridge", "has no casebook, so that it knows no keys and no fields (--casebook)")
        if self._open_target is None:
            raise InputError("the bridge", "has nothing to send with (--target)")
        saying = self._saying(order, handset)
        target = self._open_target()
        try:
            for sent in say([(saying, 0.0)], target, self._stopping.is_set):
                self._answer(as_json(step_document(sent)))
        finally:
            target.close()

    def _saying(self, order: Order, handset: Handset) -> Saying:
        if order.fields is not None:
            what = ", ".join(f"{name} {value}" for name, value in order.fields.items())
            saying = handset.fields(what, order.fields)
        else:
            saying = handset.key(order.key)
        return saying.times(order.times)


def bridge(
    open_source: Callable[[], AbstractContextManager[LiveDevice]],
    sheets: Sequence[Sheet],
    told: Callable[[Heard], None],
    stopped: Callable[[], bool],
    tell: Callable[[str], None],
) -> None:
    """Listen until it is stopped; each press is told. A source that goes away is waited for, once it was there.

    Raises InputError where the source cannot be opened at first.
    """
    heard: Queue[Floats | None] = Queue(MOST_WAITING)
    failed: list[InputError] = []
    ear = Thread(target=_listen, args=(open_source, heard, stopped, tell, failed), name="ear", daemon=True)
    ear.start()
    hearing = Hearing(sheets)
    while True:
        try:
            durations = heard.get(timeout=LOOK_S)
        except Empty:
            durations = np.empty(0)
        if durations is None:
            break
        try:
            for press in hearing.feed(durations, time.monotonic()):
                told(press)
        except Exception:  # it runs for days: one fault must not end it
            log.exception("reading met a fault")
            tell("Something went wrong in reading, which begins anew; the log says more.")
            hearing = Hearing(sheets)
    for press in hearing.finish(time.monotonic()):
        told(press)
    if failed:
        raise failed[0]


def _listen(
    open_source: Callable[[], AbstractContextManager[LiveDevice]],
    heard: Queue[Floats | None],
    stopped: Callable[[], bool],
    tell: Callable[[str], None],
    failed: list[InputError],
) -> None:
    """Durations into the queue until it is stopped, then None. What finds no room there is let go, and that is said."""
    back_off, ever = LEAST_BACK_OFF_S, False
    while not stopped():
        try:
            with open_source() as device:
                if ever:
                    tell(f"{device.device} is there again")
                ever, back_off = True, LEAST_BACK_OFF_S
                while not stopped():
                    received = device.poll()
                    if received.news:
                        tell(received.news)
                    for durations in received.durations:
                        _put(heard, durations, tell)
        except Exception as error:
            if not ever:
                failed.append(error if isinstance(error, InputError) else InputError("the source", str(error)))
                break
            tell(f"{error}; it is tried again in {back_off:.0f} s")
            wait(back_off, stopped)
            back_off = min(2 * back_off, MOST_BACK_OFF_S)
    heard.put(None)


def _put(heard: Queue[Floats | None], durations: Floats, tell: Callable[[str], None]) -> None:
    try:
        heard.put_nowait(durations)
    except Full:
        with suppress(Empty):
            heard.get_nowait()
        heard.put(durations)
        tell("The source says more than can be read; some of it was let go.")
