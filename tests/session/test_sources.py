"""What can be listened to."""

from __future__ import annotations

import pytest

from eager_tern.devices.serial_port import Port
from eager_tern.session.inbox import Inbox
from eager_tern.session.sources import Sources


def test_what_is_plugged_in_is_told_once(monkeypatch: pytest.MonkeyPatch) -> None:
    there: list[Port] = []
    monkeypatch.setattr("eager_tern.session.sources.live_devices", lambda: list(there))
    inbox = Inbox()
    sources = Sources(inbox)
    told: list[int] = []
    sources.changed.when(lambda: told.append(len(sources.devices or ())))
    assert all(choice.simulated is not None for choice in sources.choices(""))  # those are there before any look
    for _ in range(2):
        sources.look()
        inbox.settle()
    assert told == [0]
    there.append(Port("/dev/ttyEAGER0", "recorder"))
    for _ in range(2):
        sources.look()
        inbox.settle()
    assert told == [0, 1]
    assert sources.choices("")[0].device == "/dev/ttyEAGER0"


def test_the_simulated_gadget_that_is_open_comes_first() -> None:
    sources = Sources(Inbox())
    last = sources.choices("")[-1].simulated
    assert last is not None
    assert sources.choices(last.name)[0].simulated == last
