"""Recording from the first edge on."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.intake.arming import Arming


def test_nothing_is_recorded_before_the_first_edge() -> None:
    arming = Arming(before_us=50_000, quiet_us=1e6)
    for _ in range(100):
        assert arming.let_through(np.array([-20_000.0])).size == 0
    assert not arming.recording
    assert arming.let_through(np.array([-700.0, 500.0, -600.0, 500.0])).tolist() == [-50_000, 500, -600, 500]
    assert arming.recording
    assert arming.let_through(np.array([-20_000.0])).tolist() == [-20_000]
    assert not arming.quiet


def test_it_waits_again_after_a_quiet_time() -> None:
    arming = Arming(quiet_us=100_000)
    arming.let_through(np.array([500.0, -60_000.0]))
    assert not arming.quiet
    arming.let_through(np.array([-60_000.0]))
    assert arming.quiet
    arming.rest()
    assert not arming.recording
    assert arming.let_through(np.array([-5.0, 500.0])).tolist() == [-5, 500]


@given(st.lists(st.lists(st.integers(-50_000, 50_000).filter(bool), min_size=1, max_size=6), max_size=20))
def test_no_mark_is_lost(parts: list[list[int]]) -> None:
    arming = Arming()
    heard = [np.array(part, dtype=float) for part in parts]
    recorded = [arming.let_through(part) for part in heard]
    marks = [d for part in heard for d in part.tolist() if d > 0]
    assert [d for part in recorded for d in part.tolist() if d > 0] == marks
