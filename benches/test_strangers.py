"""How right unknown frames are read, and how sure: held against what was measured before.

The signals are of gadgets that the code was not written for (tests/strangers.py).
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from msgspec import Struct
from tests.handsets import record
from tests.state_frames import KINDS, state_frame
from tests.strangers import CODES, LEADERS, a_stranger, take_of

from benches.baseline import held
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import TakeRead, read_pulses
from eager_tern.signal.values import pulses_from_signed


class Tally(Struct):
    right: int = 0
    asked: int = 0
    false: int = 0  # frames taken for a known protocol or for characters
    sure: int = 0
    sure_wrong: int = 0  # of confidence 0.94 and more: an unknown frame has 0.95 at the most


def takes(hard: bool, seed: int) -> Iterator[tuple[TakeRead, list[tuple[str, tuple[int, ...], list[int]]]]]:
    for code in CODES:
        for leader in LEADERS:
            for number in range(6):
                rng = np.random.default_rng([seed, CODES.index(code), LEADERS.index(leader), number])
                stranger = a_stranger(rng, code, leader, 1 + number % 3)
                signed, sent = take_of(rng, stranger)
                worst = {"jitter_us": 10.0}
                if hard:
                    clock, excess = float(rng.uniform(0.92, 1.08)), float(rng.uniform(-60, 60))
                    worst = {"jitter_us": 40.0, "excess_us": excess, "clock": clock}
                noisy = pulses_from_signed(record(signed, rng, **worst))
                sections = stranger.sections if len(stranger.sections) > 1 else ()
                yield read_pulses(noisy, library()), [(stranger.code, sections, each.bits) for each in sent]


def tally(hard: bool, seed: int = 5) -> Tally:
    total = Tally()
    for take, sent in takes(hard, seed):
        leads = [press.lead.reading for press in take.presses if press.lead.readings]
        said = [(lead.code, lead.sections, lead.bits.tolist()) for lead in leads]
        total.right += sum(each in said for each in sent)
        total.asked += len(sent)
        total.false += sum(lead.protocol != "unknown" and lead.confidence > 0.5 for lead in leads)
        sure = [each for each, lead in zip(said, leads, strict=True) if lead.confidence >= 0.94]
        total.sure += len(sure)
        total.sure_wrong += sum(each not in sent for each in sure)
    return total


def test_clean() -> None:
    """Aim: 98 %."""
    found = tally(False)
    held("strangers, clean", found.right, found.asked)
    held("strangers, clean, none false", found.asked - found.false, found.asked)


def test_impaired() -> None:
    """Aim: 95 % at 40 µs of jitter, 60 µs of excess, 8 % of clock; at most 1 in 500 false."""
    found = tally(True)
    held("strangers, impaired", found.right, found.asked)
    held("strangers, impaired, none false", found.asked - found.false, found.asked)
    held("strangers, impaired, right where sure", found.sure - found.sure_wrong, found.sure)


def test_state_frames() -> None:
    """Aim: 99 % named, their checks right."""
    right = asked = 0
    for kind in KINDS:
        for number in range(12):
            rng = np.random.default_rng([3, KINDS.index(kind), number])
            signed, bits = state_frame(rng, kind)
            noisy = record([-4e5, *signed, -4e5], rng, jitter_us=30, excess_us=float(rng.uniform(-60, 60)))
            best = read_pulses(pulses_from_signed(noisy), library()).presses[0].lead.reading
            right += best.protocol == kind and best.bits.tolist() == bits and best.checks_hold
            asked += 1
    held("state frames", right, asked)
