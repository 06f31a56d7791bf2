"""Publishing while listening: each press that is caught goes to an MQTT broker."""

from __future__ import annotations

import time
from datetime import UTC, datetime

from msgspec import Struct

from eager_tern.bridge.bridging import press_messages
from eager_tern.bridge.broker import Broker, address_of
from eager_tern.bridge.hearing import QUIET_S
from eager_tern.bridge.messages import PREFIX, topics_of
from eager_tern.errors import InputError
from eager_tern.export.names import spelled
from eager_tern.protocol.presses import Press
from eager_tern.session.events import Event
from eager_tern.session.session import Session
from eager_tern.texts import tr


class Hearer(Struct, frozen=True):
    """A broker as somebody names it. The password is known only as long as the window is open."""

    address: str
    password: str = ""
    prefix: str = PREFIX


class Publishing:
    """Nothing that comes is obeyed here; the bridge does that. ``changed`` tells that the broker hears, or no more."""

    def __init__(self, session: Session) -> None:
        self.changed: Event[[]] = Event()
        self.troubled: Event[[str]] = Event()
        self.told = 0  # presses since it was turned on
        self._session = session
        self._hearer: Hearer | None = None
        self._broker: Broker | None = None
        session.caught.connect(self._caught)

    @property
    def on(self) -> bool:
        return self._hearer is not None

    @property
    def words(self) -> str:
        """Whether the broker hears, in a line; empty where nothing is published."""
        if self._hearer is None:
            return ""
        where = self._hearer.address.rpartition("@")[2].rpartition("/")[2]
        if self._broker is None:
            return tr("Publishing: {where} is asked …", where=where)
        if self._broker.connected:
            return tr("Publishing: {where} hears · {told} told", where=where, told=self.told)
        return tr("Publishing: {where} does not hear · {waiting} wait", where=where, waiting=self._broker.waiting)

    def start(self, hearer: Hearer) -> None:
        """Connect. What fails is told, and nothing is published then. Raises InputError for what is no address."""
        self.stop()
        address, topics = address_of(hearer.address), topics_of(hearer.prefix, "any")
        self._hearer, self.told = hearer, 0
        inbox = self._session.inbox

        def connect() -> Broker:
            tell = lambda words: inbox.post(lambda: self._tell(hearer, words))  # noqa: E731
            broker = Broker(address, topics.status, topics.send, password=hearer.password, tell=tell)
            broker.start()
            return broker

        def connected(found: Broker | Exception) -> None:
            if self._hearer is not hearer:
                if isinstance(found, Broker):
                    inbox.in_thread(found.close, lambda _: None)
                return
            if isinstance(found, Exception):
                self._hearer = None
                self.troubled.emit(tr("Nothing is published: {found}.", found=found))
            else:
                self._broker = found
            self.changed.emit()

        inbox.in_thread(connect, connected)
        self.changed.emit()

    def stop(self) -> None:
        """Publish no more; what waits may still arrive."""
        broker, self._broker, self._hearer = self._broker, None, None
        if broker is not None:
            self._session.inbox.in_thread(broker.close, lambda _: None)
        self.changed.emit()

    def _tell(self, hearer: Hearer, words: str) -> None:
        if self._hearer is hearer:
            self.changed.emit()

    def _caught(self, press_id: int) -> None:
        """A press has begun; it is told when it is over."""
        if self._broker is not None:
            at = datetime.now(UTC).astimezone()
            self._session.inbox.in_thread(lambda: time.sleep(QUIET_S), lambda _: self._publish(press_id, at))

    def _publish(self, press_id: int, at: datetime) -> None:
        caught, gadget, hearer = self._session.press(press_id), self._session.gadget, self._hearer
        if self._broker is None or hearer is None or caught is None or gadget is None or caught.stray:
            return
        try:
            frame = self._session.frame(caught)
        except InputError as error:
            self.troubled.emit(str(error))
            return
        press = Press((frame,) * (caught.repeats + 1), caught.reading.first_missed)
        topics = topics_of(hearer.prefix, spelled(gadget.name))
        self._broker.publish(*press_messages(topics, press, self.told, caught.label or None, at))
        self.told += 1
        self.changed.emit()
