"""What is said to a broker and what it may ask: topics and JSON, as HEADLESS.md has them."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from msgspec import Struct

from eager_tern.errors import InputError
from eager_tern.protocol.documents import frame_document
from eager_tern.protocol.fields import Value
from eager_tern.protocol.presses import Press

PREFIX = "eager-tern"
ONLINE, OFFLINE = "online", "offline"
LONGEST_ORDER = 16_384  # bytes: some hundred fields
MOST_TIMES = 100  # frames that one message may ask for: half a minute of a handset that is held


class Topics(Struct, frozen=True):
    """Those of one gadget, whose name is an identifier."""

    prefix: str
    gadget: str

    @property
    def status(self) -> str:
        return f"{self.prefix}/status"

    @property
    def press(self) -> str:
        return f"{self.prefix}/{self.gadget}/press"

    @property
    def state(self) -> str:
        return f"{self.prefix}/{self.gadget}/state"

    @property
    def send(self) -> str:
        return f"{self.prefix}/{self.gadget}/send"

    @property
    def sent(self) -> str:
        return f"{self.prefix}/{self.gadget}/sent"


def topics_of(prefix: str, gadget: str) -> Topics:
    """Raises InputError for a prefix that no topic can have."""
    whole = prefix.strip("/")
    if not whole or any(c in whole for c in "+#\0") or whole.startswith("$") or len(whole.encode()) > 200:
        raise InputError(f"--prefix {prefix!r}", "cannot begin a topic: it has no +, # or $ and is not empty")
    return Topics(whole, gadget)


class Order(Struct, frozen=True):
    """A key by its label, or the values of fields. ``times``: frames in all; 0: as many as it has."""

    key: str = ""
    fields: Mapping[str, Value] | None = None
    times: int = 0


def press_message(press: Press, number: int, label: str | None, at: datetime, with_pulses: bool) -> str:
    """A press: its first frame's keys as in ``read``, what the casebook calls it, and when it began."""
    document = frame_document(press.lead, number, press.first_missed)
    if not with_pulses:
        del document["pulses_us"]
    document |= {"frames": len(press.frames), "label": label, "time": at.isoformat(timespec="milliseconds")}
    return as_json(document)


def error_message(words: str) -> str:
    return as_json({"error": words})


def order_of(payload: bytes) -> Order:
    """What a message asks to be sent. Raises InputError saying what is wrong with it."""
    if len(payload) > LONGEST_ORDER:
        raise InputError("the message", f"is longer than {LONGEST_ORDER:,} bytes")
    try:
        text = payload.decode("utf-8").strip()
    except UnicodeDecodeError:
        raise InputError("the message", "is no text in UTF-8") from None
    if not text:
        raise InputError("the message", "is empty; it names a key, or is a JSON object")
    if not text.startswith("{"):
        return Order(key=text)
    try:
        said = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise InputError("the message", f"is no JSON that can be read ({error})") from None
    return _checked(said)


def _checked(said: dict[str, Any]) -> Order:
    if unknown := set(said) - {"key", "fields", "times"}:
        raise InputError("the message", f'has "{sorted(unknown)[0]}"; known are key, fields and times')
    key, fields, times = said.get("key"), said.get("fields"), said.get("times", 0)
    if (key is None) == (fields is None):
        raise InputError("the message", 'has either "key" or "fields"')
    if key is not None and (not isinstance(key, str) or not key):
        raise InputError("the message", '"key" is a label, as text')
    if fields is not None:
        plain = isinstance(fields, dict) and all(_is_value(value) for value in fields.values())
        if not plain or not fields:
            raise InputError("the message", '"fields" is an object of numbers and words')
    if not isinstance(times, int) or isinstance(times, bool) or not 0 <= times <= MOST_TIMES:
        raise InputError("the message", f'"times" is a whole number from 0 to {MOST_TIMES}')
    return Order(key or "", fields, times)


def _is_value(value: object) -> bool:
    return isinstance(value, int | float | str) and not isinstance(value, bool) and value == value


def as_json(document: Mapping[str, Any]) -> str:
    """A message: the latest fields, a step that was sent."""
    return json.dumps(document, ensure_ascii=False, allow_nan=False)
