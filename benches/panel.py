"""A panel of takes as receivers give them at their worst, and by how many nats their readings miss the truth.

Small enough to be read anew for each change of a number (`make mutants`). Signals are made without the code under test.
"""

from __future__ import annotations

from collections.abc import Iterator
from math import log
from typing import Any

import numpy as np
from msgspec import Struct, field
from tests.bad_days import DAMAGE, bad_days
from tests.handsets import ALL_PROTOCOLS, distance_frame, join, random_press, record, serial
from tests.state_frames import KINDS, state_frame
from tests.strangers import CODES, LEADERS, a_stranger, take_of

from eager_tern.protocol.loading import library
from eager_tern.protocol.reading import Reading
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed

IDLE_US = 400_000.0
MISSED, SURELY_WRONG = log(0.02), 0.99  # a frame that was not read; more certainty than this is punished no more


class Take(Struct):
    """Signed durations, and what was sent: each thing as ``said`` tells it."""

    kind: str
    signed: list[float] = field(default_factory=lambda: [-IDLE_US])
    sent: list[Any] = field(default_factory=list)


def said(reading: Reading) -> Any:
    """What a reading says, in the terms that the generators have."""
    if reading.protocol == "unknown":
        return reading.code, reading.sections, reading.bits.tolist()
    if reading.protocol.startswith("state-"):
        return reading.protocol, reading.bits.tolist()
    return reading.protocol, {name: value for name, value in reading.fields.items() if name != "text"}


def panel() -> Iterator[Take]:
    """The takes, the same each time."""
    yield from _known()
    yield from _strangers()
    yield from _characters()
    yield from _in_chatter()
    yield from _damaged()
    yield from _bad_days()
    yield from _levels()
    yield from _states()
    yield from _many()


def _known() -> Iterator[Take]:
    for number, protocol in enumerate(ALL_PROTOCOLS * 3):
        rng = np.random.default_rng([1, number])
        take = Take("known")
        for toggle in (0, 1):
            signed, sent = random_press(rng, protocol, toggle)
            clock, excess = float(rng.uniform(0.86, 1.14)), float(rng.uniform(-140, 140))
            take.signed += [*_heard(record(signed, rng, jitter_us=60, excess_us=excess, clock=clock)), -IDLE_US]
            take.sent.append((sent.protocol, sent.fields))
        yield take


def _heard(signed: np.ndarray) -> np.ndarray:
    """No receiver gives a pulse of no length."""
    return np.where(np.abs(signed) < 20, np.sign(signed) * 20, signed)


def _strangers() -> Iterator[Take]:
    for number, (code, leader) in enumerate((c, each) for c in CODES for each in LEADERS):
        rng = np.random.default_rng([2, number])
        stranger = a_stranger(rng, code, leader, 1 + number % 3)
        signed, sent = take_of(rng, stranger, 2)
        clock, excess = float(rng.uniform(0.92, 1.08)), float(rng.uniform(-60, 60))
        noisy = record(signed, rng, jitter_us=45, excess_us=excess, clock=clock)
        sections = stranger.sections if len(stranger.sections) > 1 else ()
        yield Take("strangers", noisy.tolist(), [(stranger.code, sections, each.bits) for each in sent])


def _characters() -> Iterator[Take]:
    for number in range(14):
        rng = np.random.default_rng([3, number])
        take = Take("characters")
        baud = float(rng.choice([300, 600, 1200, 2400]))
        bits, parity = [(8, "none"), (8, "even"), (7, "even"), (8, "none")][number % 4]
        for _ in range(1 + number % 3):
            data = rng.integers(0, 1 << bits, int(rng.integers(2, 8))).tolist()
            signed = serial(data, baud, bits, str(parity), 1)
            jitter = float(rng.uniform(0.02, 0.12)) * 1e6 / baud
            noisy = record(signed, rng, jitter_us=min(jitter, 80), excess_us=float(rng.uniform(-60, 60)))
            take.signed += [*_heard(noisy), -IDLE_US]
            take.sent.append(("async-serial", {"bytes": tuple(data)}))
        yield take


def _chatter(rng: np.random.Generator, length_us: float) -> list[float]:
    """Full-swing noise; ends in a mark or a space as it comes."""
    d = 30 + rng.exponential(float(rng.uniform(120, 300)), int(length_us / 150))
    d = d[: int(np.searchsorted(np.cumsum(d), length_us))]
    return [length if at % 2 else -length for at, length in enumerate(d)]


def _in_chatter() -> Iterator[Take]:
    for number in range(6):
        rng = np.random.default_rng([4, number])
        take = Take("chatter")
        for protocol in ("fixed-code", "nec", "stranger", "fixed-code"):
            take.signed += _chatter(rng, 120_000)
            if protocol == "stranger":
                bits = rng.integers(0, 2, 40).tolist()
                frame = [*distance_frame([3100.0, -1500.0], 450.0, (1, 3), bits), -9_000.0]
                take.signed += record(frame * 3, rng, jitter_us=25, excess_us=20).tolist()
                take.sent.append(("pulse-distance", (), bits))
            else:
                signed, sent = random_press(rng, protocol, 0)
                take.signed += record(signed, rng, jitter_us=25, excess_us=20).tolist()
                take.sent.append((sent.protocol, sent.fields))
        take.signed += _chatter(rng, 120_000)
        yield take
    for number in range(3):
        rng = np.random.default_rng([5, number])
        yield Take("nothing sent", _chatter(rng, 900_000))


def _damaged() -> Iterator[Take]:
    """Strays, lost pulses and hum, in frames of which there are repeats and in lone ones."""
    for number in range(36):
        rng = np.random.default_rng([6, number])
        protocol = ("nec", "rc5", "sirc12", "fixed-code", "kaseikyo", "samsung32")[number % 6]
        signed, sent = random_press(rng, protocol, 0)
        d = record(signed, rng, jitter_us=30, excess_us=float(rng.uniform(-50, 80))).tolist()
        for _ in range(1 + number // 12):
            at = int(rng.integers(2, min(len(d), 60) - 2))
            if number % 3 == 0:  # a stray pulse
                part = float(rng.uniform(0.2, 0.8)) * (abs(d[at]) - 90)
                d[at : at + 1] = [np.sign(d[at]) * max(part, 20), -np.sign(d[at]) * 60, d[at] - np.sign(d[at]) * part]
            elif number % 3 == 1:  # a pulse that was not seen
                d[at - 1 : at + 2] = [d[at - 1] + np.sign(d[at - 1]) * abs(d[at]) + d[at + 1]]
            else:  # edges drawn out of place
                d[at] += np.sign(d[at]) * 170
                d[at + 1] -= np.sign(d[at + 1]) * 170
        yield Take("damaged", [-IDLE_US, *join(d), -IDLE_US], [(sent.protocol, sent.fields)])


def _bad_days() -> Iterator[Take]:
    """Fades, interference, cut beginnings and ends: of presses, some of which are sent once only."""
    for damage in DAMAGE:
        for known in (True, False):
            for day in bad_days(damage, known, 3, 10):
                yield Take("bad days", day.signed.tolist(), [what for _, _, what in day.sent])


def _levels() -> Iterator[Take]:
    """Symbols of two bits, and of three levels, in marks or in spaces."""
    for number in range(8):
        rng = np.random.default_rng([7, number])
        count, unit = (3, 4)[number % 2], float(rng.uniform(300, 500))
        take = Take("levels")
        for _ in range(2):
            symbols = rng.integers(0, count, 24)
            symbols[:count] = np.arange(count)
            pairs = [(unit, unit * (1 + s)) if number % 4 < 2 else (unit * (1 + s), unit) for s in symbols]
            frame = [8 * unit, -5 * unit, *(d for mark, space in pairs for d in (mark, -space))]
            frame = [*frame, unit] if number % 4 < 2 else frame[:-1]  # a mark ends the last space, if that tells
            take.signed += [*record(frame, rng, jitter_us=25, excess_us=30), -IDLE_US]
            bits = [int(b) for s in symbols for b in f"{s:02b}"]
            take.sent.append(("pulse-distance" if number % 4 < 2 else "pulse-width", (), bits))
        yield take


def _states() -> Iterator[Take]:
    """Long state frames."""
    for number, kind in enumerate(KINDS):
        rng = np.random.default_rng([8, number])
        signed, bits = state_frame(rng, kind)
        noisy = record(signed, rng, jitter_us=40, excess_us=float(rng.uniform(-60, 60)))
        yield Take("states", [-IDLE_US, *noisy, -IDLE_US], [(kind, bits)])


def _many() -> Iterator[Take]:
    """Twenty presses of one gadget, some damaged, others read a little unevenly: what is clear teaches the rest."""
    for number in range(3):
        rng = np.random.default_rng([9, number])
        stranger = a_stranger(rng, CODES[number], "mark-space", 1)
        signed, sent = take_of(rng, stranger, 20)
        noisy = record(signed, rng, jitter_us=50, excess_us=50).tolist()
        for at in rng.integers(10, len(noisy) - 10, 4).tolist():
            noisy[at - 1 : at + 2] = [noisy[at - 1] + noisy[at + 1] - noisy[at]]
        yield Take("many", join(noisy).tolist(), [(stranger.code, (), each.bits) for each in sent])


def missed() -> dict[str, float]:
    """For each kind of take, the nats of ``each_missed`` together."""
    total: dict[str, float] = {}
    for kind, nats in each_missed():
        total[kind] = total.get(kind, 0.0) + nats
    return total


def each_missed() -> Iterator[tuple[str, float]]:
    """Kind of each take, and the log probability (nats, at most 0) that its readings give to the truth: a proper
    score, that of being right as much as of knowing how sure to be (Good 1952, "Rational decisions").
    """
    for take in panel():
        presses = read_pulses(pulses_from_signed(np.array(take.signed)), library()).presses
        leads = [press.lead.reading for press in presses if press.lead.readings]
        left = list(take.sent)
        nats = 0.0
        for lead in leads:
            if (what := said(lead)) in left:
                left.remove(what)
                nats += log(max(lead.confidence, 0.02))
            else:
                nats += log(1 - min(lead.confidence, SURELY_WRONG))
        yield take.kind, nats + len(left) * MISSED
