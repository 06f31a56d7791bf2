"""What is said of a source that does not do well."""

from __future__ import annotations

import numpy as np

from eager_tern.devices.line_protocol import Hello
from eager_tern.devices.serial_port import Received
from eager_tern.intake.arming import Ring
from eager_tern.intake.health import Health

FRAME = np.array([9000.0, -4500.0] + [560.0, -560.0] * 32 + [560.0, -40_000.0])


def test_a_source_that_says_nothing() -> None:
    health = Health(since=100.0)
    assert health.troubles(102.0) == []
    assert "does not answer" in health.troubles(104.0)[0].what
    health.take_in(Received(hello=Hello(1, 4, "tern-recorder")), 104.0)
    assert health.troubles(105.0) == []
    assert health.state(105.0) == "tern-recorder, tick 4 µs · nothing heard yet"
    assert "No signal" in health.troubles(140.0)[0].what
    health.take_in(Received((FRAME,)), 140.0)
    assert health.troubles(141.0) == []
    assert "last pulse 2 s ago" in health.state(142.0)


def test_scrambled_lost_coarse_and_chattering() -> None:
    health = Health(since=0.0)
    health.take_in(Received(scrambled=5, lost_lines=2), 1.0)
    assert [trouble.what for trouble in health.troubles(2.0)] == ["5 lines came scrambled", "2 lines were lost"]
    assert "scrambled" not in str(health.troubles(20.0))
    health = Health(since=0.0)
    health.take_in(Received((FRAME,), hello=Hello(1, 300, "slow")), 1.0)
    assert health.troubles(2.0)[0].what == "Too coarse: about 2 ticks a pulse"
    chatter = np.tile([120.0, -150.0], 400)
    health = Health(since=0.0)
    for n in range(10):
        health.take_in(Received((chatter,)), float(n))
    assert "Chatter" in health.troubles(9.5)[0].what
    health.caught(9.0)
    assert health.troubles(9.5) == []


def test_the_ring_keeps_the_last_of_what_was_heard() -> None:
    ring = Ring(longest_us=300_000)
    ring.keep(np.array([-1e6]))
    assert not ring.heard
    for _ in range(6):
        ring.keep(FRAME)
    assert ring.heard
    kept = ring.empty()
    assert 300_000 <= np.abs(kept).sum() <= 300_000 + np.abs(FRAME).sum()
    assert kept[0] == 9000.0
    assert not ring.heard
    assert ring.empty().size == 0
