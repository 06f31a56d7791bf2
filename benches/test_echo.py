"""How right the echo of what was sent is judged, how well clock and mark excess are measured, and how long it takes."""

from __future__ import annotations

import time

import numpy as np
from tests.sending.echoing import at_worst
from tests.sending.test_echo import meant

from benches.baseline import held
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.sending.echo import echoes
from eager_tern.signal.values import pulses_from_signed

ECHOES = 500


def test_verdicts() -> None:
    """Aim: all right, with jitter up to 60 µs, ±150 µs, ±10 %, a bit turned in a fifth, a frame missing in a tenth."""
    rng = np.random.default_rng(7)
    right, clocks, excesses, took, bare = 0, [], [], 0.0, 0.0
    for _ in range(ECHOES):
        r = at_worst(rng, jitter_us=60)
        take = read_pulses(pulses_from_signed(r.heard), library())
        begun = time.process_time()
        (echo,) = echoes([meant(r.meant, r.bits)], take, library())
        took += time.process_time() - begun
        begun = time.process_time()
        np.cumsum(np.abs(r.heard))
        bare += time.process_time() - begun
        if echo is not None and echo.heard == r.frames and echo.same_bits != r.turned:
            right += 1
            clocks.append(abs(echo.clock - r.clock))
            excesses.append(abs(echo.mark_excess_us - r.excess_us))
    held("echoes, verdicts", right, ECHOES)
    print(
        f"clock within {np.median(clocks):.3%} ({np.quantile(clocks, 0.95):.3%} in 95 of 100), excess within "
        f"{np.median(excesses):.1f} µs ({np.quantile(excesses, 0.95):.1f}); {took / ECHOES * 1e3:.1f} ms an echo, "
        f"{took / bare:.0f} times a running sum"
    )
