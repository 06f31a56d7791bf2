"""What the command prints, and how it ends."""

from __future__ import annotations

import json
import signal
import sys
import threading
from collections.abc import Callable, Iterable
from typing import Any

from eager_tern.errors import TernError


def complain(error: object) -> None:
    print(f"eager-tern: {error}", file=sys.stderr)


def or_complain(work: Callable[[], Any]) -> Any:
    """The result of some work; where it fails, the reason on standard error and exit status 1."""
    try:
        return work()
    except TernError as error:
        complain(error)
        raise SystemExit(1) from None


def stopped_by_signals() -> threading.Event:
    """Set by Ctrl-C or SIGTERM."""
    stopped = threading.Event()
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: stopped.set())
    return stopped


def print_list(kind: str, found: Iterable[Any], as_json: bool) -> None:
    """Sources or targets, with what each is."""
    if as_json:
        listed = [{"id": one.id, "description": one.description} for one in found]
        print_json({"schema": f"eager-tern/{kind}/1", kind: listed})
    else:
        for one in found:
            print(f"{one.id}\t{one.description}")


def print_json(document: object) -> None:
    say(json.dumps(document, ensure_ascii=False, allow_nan=False))


def say(text: str) -> None:
    """To standard output, file names included that are no UTF-8."""
    print(text.encode("utf-8", "replace").decode())
