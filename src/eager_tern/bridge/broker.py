"""A connection to an MQTT broker: nothing is lost while the broker is away, and it is told when we are."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from threading import Condition, Event, Thread
from typing import TYPE_CHECKING
from urllib.parse import urlsplit

from msgspec import Struct

from eager_tern.bridge.messages import OFFLINE, ONLINE
from eager_tern.errors import InputError

if TYPE_CHECKING:
    import paho.mqtt.client as mqtt
    from paho.mqtt.properties import Properties
    from paho.mqtt.reasoncodes import ReasonCode


PORTS = {"mqtt": 1883, "mqtts": 8883}
KEPT = 10_000  # presses and answers that wait for a broker, the last ones
ON_THE_WAY = 20  # messages that the broker has not acknowledged: more is of no use
KEEP_ALIVE_S = 20  # a broker that is gone without a word is missed within half a minute
LEAST_BACK_OFF_S, MOST_BACK_OFF_S = 1, 60
FAREWELL_S = 5.0  # for what is on the way when we go
QOS = 1


class Address(Struct, frozen=True):
    host: str
    port: int
    user: str = ""
    tls: bool = False

    @property
    def words(self) -> str:
        return f"{self.host}:{self.port}"


def address_of(text: str) -> Address:
    """``mqtt://[USER@]HOST[:PORT]``, or ``mqtts://`` for TLS. Raises InputError, which never repeats a password."""
    try:
        parts = urlsplit(text)
        port, host = parts.port, parts.hostname
    except ValueError:
        raise InputError("--broker", "is no address: its port is a number up to 65535") from None
    if parts.password is not None:
        where = "put it into EAGER_TERN_BROKER_PASSWORD or a file for --password-file"
        raise InputError("--broker", f"holds a password, which others can see in the list of processes: {where}")
    if parts.scheme not in PORTS or not host or parts.path.strip("/") or parts.query or parts.fragment:
        raise InputError("--broker", "is an address like mqtt://user@host:1883, or mqtts:// for TLS")
    return Address(host, port or PORTS[parts.scheme], parts.username or "", parts.scheme == "mqtts")


def password_in(path: Path) -> str:
    """The first line of a file. Raises InputError."""
    try:
        return path.read_text(encoding="utf-8").partition("\n")[0].rstrip("\r")
    except (OSError, UnicodeDecodeError) as error:
        raise InputError(path, f"cannot be read: {getattr(error, 'strerror', None) or 'it is no text'}") from None


class Message(Struct, frozen=True):
    topic: str
    payload: str
    retain: bool = False


class Broker:
    """``tell`` is called with sentences for the user, ``ordered`` with each message to ``orders``: its payload, and
    whether the broker had kept it. Both are called in a thread of the connection.
    """

    def __init__(
        self,
        address: Address,
        status: str,
        orders: str,
        *,
        password: str = "",
        ca_file: Path | None = None,
        tell: Callable[[str], None] = lambda _: None,
        ordered: Callable[[bytes, bool], None] = lambda *_: None,
    ) -> None:
        self.address = address
        self.refused = ""  # why the broker does not want us
        self.connected = False
        self.lost = 0  # messages that there was no room for
        self._status, self._orders = status, orders
        self._tell, self._ordered = tell, ordered
        self._turn = Condition()
        self._waiting: deque[tuple[Message, ...]] = deque()
        self._on_the_way = 0  # messages that the broker has not acknowledged
        self._leaving = False
        self._settled = Event()  # whether the first connection was answered
        self._ever = False
        import paho.mqtt.client as mqtt  # what most windows never need
        from paho.mqtt.enums import CallbackAPIVersion

        client = self._client = mqtt.Client(CallbackAPIVersion.VERSION2, protocol=mqtt.MQTTv311)
        if address.user or password:
            client.username_pw_set(address.user, password or None)
        if address.tls:
            import ssl

            try:
                client.tls_set(ca_certs=str(ca_file) if ca_file is not None else None, cert_reqs=ssl.CERT_REQUIRED)
            except (OSError, ssl.SSLError):
                raise InputError(ca_file or "TLS", "holds no certificate that can be read") from None
        client.will_set(status, OFFLINE, QOS, retain=True)
        client.reconnect_delay_set(LEAST_BACK_OFF_S, MOST_BACK_OFF_S)
        client.max_inflight_messages_set(ON_THE_WAY)
        client.on_connect, client.on_disconnect = self._on_connect, self._on_disconnect
        client.on_subscribe = self._on_subscribe
        client.on_publish, client.on_message = self._on_publish, self._on_message

    def start(self) -> None:
        """Connect, and again whenever the connection is lost. A broker that is not there yet is waited for.

        Raises InputError where its certificate is not to be trusted, and where it refuses us.
        """
        import ssl  # what most windows never need

        there = True
        try:
            self._client.connect(self.address.host, self.address.port, KEEP_ALIVE_S)
        except ssl.SSLError as error:
            why = getattr(error, "verify_message", "") or error.reason or "TLS fails"
            raise InputError(self.address.words, f"is not to be trusted: {why}") from None
        except OSError as error:
            self._tell(f"{self.address.words}: no broker there yet ({error.strerror or error}); it is waited for")
            there = False
            self._client.connect_async(self.address.host, self.address.port, KEEP_ALIVE_S)
        self._client.loop_start()
        Thread(target=self._hand_over, name="publishing", daemon=True).start()
        if there:
            self._settled.wait(FAREWELL_S)
        if self.refused:
            self._client.loop_stop()
            raise InputError(self.address.words, self.refused)

    def publish(self, *messages: Message) -> None:
        """Send messages in this order, all of them one after the other; kept while the broker is away."""
        with self._turn:
            full = len(self._waiting) >= KEPT
            if full:
                self._waiting.popleft()
                self.lost += 1
            self._waiting.append(messages)
            self._turn.notify_all()
        if full and self.lost == 1:
            self._tell(f"More than {KEPT:,} presses wait for the broker: the oldest are let go.")

    @property
    def waiting(self) -> int:
        """How many are kept for the broker."""
        return len(self._waiting)

    def close(self) -> None:
        """Say goodbye: what is on the way may arrive first."""
        until = time.monotonic() + FAREWELL_S
        while self.connected and (self._waiting or self._on_the_way) and time.monotonic() < until:
            time.sleep(0.02)
        with self._turn:
            self._leaving = True
            self._turn.notify_all()
        if self.connected:
            self._client.publish(self._status, OFFLINE, QOS, retain=True).wait_for_publish(FAREWELL_S)
        self._client.disconnect()
        self._client.loop_stop()

    def _hand_over(self) -> None:
        """What waits to the client, in its order. The client is never called while others wait for their turn: it has
        locks of its own.
        """
        while True:
            with self._turn:
                self._turn.wait_for(lambda: self._leaving or self._may_go())
                if self._leaving:
                    return
                messages = self._waiting.popleft()
                self._on_the_way += len(messages)
            for message in messages:
                self._client.publish(message.topic, message.payload, QOS, message.retain)

    def _may_go(self) -> bool:
        return self.connected and bool(self._waiting) and self._on_the_way < ON_THE_WAY

    # Called by the connection's thread

    def _on_connect(
        self, client: mqtt.Client, data: object, flags: mqtt.ConnectFlags, code: ReasonCode, more: Properties | None
    ) -> None:
        if code.is_failure:
            words = f"refuses us: {str(code).lower()}"
            if not self._ever:
                self.refused = words
            else:
                self._tell(f"{self.address.words} {words}; it is asked again")
            self._settled.set()
            return
        self._ever = True
        with self._turn:
            self._on_the_way += 1
        client.publish(self._status, ONLINE, QOS, retain=True)
        client.subscribe(self._orders, QOS)

    def _on_subscribe(
        self, client: mqtt.Client, data: object, mid: int, codes: object, more: Properties | None
    ) -> None:
        """Only now, since what was on the way when the connection was lost is sent again before this is answered."""
        self._tell(f"{self.address.words} hears us" + (f"; {self.waiting} wait for it" if self.waiting else ""))
        with self._turn:
            self.connected = True
            self._turn.notify_all()
        self._settled.set()

    def _on_disconnect(
        self,
        client: mqtt.Client,
        data: object,
        flags: mqtt.DisconnectFlags,
        code: ReasonCode,
        more: Properties | None,
    ) -> None:
        with self._turn:
            was, self.connected = self.connected, False
        if was and code.is_failure:
            self._tell(f"{self.address.words} is gone; presses wait for it, the last {KEPT:,}")

    def _on_publish(
        self, client: mqtt.Client, data: object, mid: int, code: ReasonCode, more: Properties | None
    ) -> None:
        with self._turn:
            self._on_the_way -= 1
            self._turn.notify_all()

    def _on_message(self, client: mqtt.Client, data: object, message: mqtt.MQTTMessage) -> None:
        self._ordered(bytes(message.payload), bool(message.retain))
