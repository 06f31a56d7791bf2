"""Several gadgets on one frequency: each sends when it likes, now and then into what another one says."""

from __future__ import annotations

from collections.abc import Callable
from itertools import groupby

import numpy as np
import pytest

from eager_tern.linecode.values import Bits
from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Press
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import Floats, pulses_from_signed

PRESSES = 40
SURE = 0.95
JITTER_US = 35


def socket(bits: Bits, unit: float) -> list[float]:
    """Pulse distance without a leader; copies follow after eight units, which is no more than many a leader's space."""
    return [length * unit for bit in bits for length in (1, -4 if bit else -2)] + [unit, -8 * unit]


def bell(bits: Bits, unit: float) -> list[float]:
    """A fixed code's symbols, with its sync behind them."""
    return [length * unit for bit in bits for length in ((3, -1) if bit else (1, -3))] + [unit, -31 * unit]


def gate(bits: Bits, unit: float) -> list[float]:
    """Bi-phase behind twelve ones and a nought to synchronise with."""
    halves = [level for bit in [*[1] * 12, 0, *bits] for level in ((1, -1) if bit else (-1, 1))]
    signed = [level * len(list(alike)) * unit for level, alike in groupby(halves)]
    return [*(signed if signed[-1] > 0 else signed[:-1]), -20 * unit]


def sensor(bits: Bits, unit: float) -> list[float]:
    """Pulse distance behind a run-in and a leader as long in marks as in spaces."""
    lead = [1, -1] * 4 + [8, -8]
    return [length * unit for length in [*lead, *(n for bit in bits for n in (1, -3 if bit else -1)), 1, -40]]


Kind = tuple[Callable[[Bits, float], list[float]], int, float, int]  # how it says bits, how many, unit (µs), copies
KINDS: dict[str, Kind] = {
    "socket": (socket, 40, 480, 6),
    "bell": (bell, 24, 350, 5),
    "gate": (gate, 64, 500, 2),
    "sensor": (sensor, 48, 250, 3),
}
Sent = tuple[float, float, Bits]  # when a press began and ended (µs), and its bits


def evening(rng: np.random.Generator, names: list[str], excess_us: float) -> tuple[Floats, list[Sent]]:
    """What a receiver makes of some presses: signed durations, and what was sent."""
    clocks, own = {name: rng.uniform(0.95, 1.05) for name in names}, {name: rng.integers(0, 2, 64) for name in names}
    marks, sent, now = [], [], 2e5
    for _ in range(PRESSES):
        name = str(rng.choice(names))
        says, count, unit, copies = KINDS[name]
        bits = np.concatenate((own[name][: count // 2], rng.integers(0, 2, count - count // 2))).astype(np.uint8)
        signed = np.array(says(bits, unit * clocks[name]) * copies)
        edges = now + np.concatenate(([0.0], np.cumsum(np.abs(signed))))
        heard = edges + rng.normal(0, JITTER_US / np.sqrt(2), edges.size)
        marks += [(heard[at], heard[at + 1] + excess_us) for at in np.flatnonzero(signed > 0).tolist()]
        sent.append((now, float(edges[-1]), bits))
        into = rng.random() < 0.08  # another one sends before this one has ended
        now = edges[-1] - rng.uniform(0, 0.5) * (edges[-1] - now) if into else edges[-1] + 3e4 + rng.exponential(2e6)
    line: list[tuple[float, float]] = []
    for begin, end in sorted(marks):
        if line and begin <= line[-1][1]:
            line[-1] = line[-1][0], max(end, line[-1][1])
        else:
            line.append((begin, end))
    ends = np.array([0.0, *(edge for mark in line for edge in mark)])
    return np.diff(ends) * np.resize([-1, 1], ends.size - 1), sent


def says(press: Press, bits: Bits) -> bool:
    """Whether a press says these bits; a gate's run-in is in its symbols, and may be read as bits."""
    best = press.lead.best
    return best is not None and best.bits.size - bits.size in (0, 13) and np.array_equal(best.bits[-bits.size :], bits)


# Evenings in which what collided was taken for characters, for symbols of two and three bits, or for one long frame.
EVENINGS = [(["socket", "gate"], (3, 8)), (["bell", "sensor"], (0,)), (list(KINDS), (6,))]


@pytest.mark.parametrize(("names", "seeds"), EVENINGS, ids=("two", "two others", "all"))
@pytest.mark.parametrize("excess_us", [-50, 60])
def test_each_is_read_beside_the_others(names: list[str], seeds: tuple[int, ...], excess_us: float) -> None:
    """What nobody disturbed is read to the last bit, and of what collided nothing is said surely and wrongly."""
    read = undisturbed = wrong = 0
    for seed in seeds:
        signed, sent = evening(np.random.default_rng([seed, len(names)]), names, excess_us)
        presses = read_pulses(pulses_from_signed(signed), library()).presses
        for at, (begin, end, bits) in enumerate(sent):
            if all(e + 2e4 < begin or b - 2e4 > end for b, e, _ in sent[:at] + sent[at + 1 :]):
                undisturbed += 1
                read += any(says(press, bits) for press in presses if begin - 5e3 <= press.start_us <= end)
        for press in presses:
            near = [bits for begin, end, bits in sent if begin - 5e3 <= press.start_us <= end]
            best = press.lead.best
            wrong += best is not None and best.confidence > SURE and not any(says(press, bits) for bits in near)
    assert undisturbed > len(seeds) * PRESSES / 2
    assert (read, wrong) == (undisturbed, 0)
