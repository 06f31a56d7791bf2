"""Which line code a frame is in, found from the frame alone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from eager_tern.linecode.clock import CLEAN
from eager_tern.linecode.hypotheses import (
    biphase,
    pulse_distance,
    pulse_width,
    two_bits_in_marks,
    two_bits_in_spaces,
)
from eager_tern.linecode.likelihood import noise_score, probabilities
from eager_tern.linecode.serial import FEWEST_PULSES as FEWEST_SERIAL
from eager_tern.linecode.serial import async_serial
from eager_tern.linecode.values import Code, LineReading
from eager_tern.signal.values import Floats, Pulses

FEWEST_PULSES = 17  # eight bits and a trailer: with less, chatter looks like a code too often
COARSEST = 0.4  # of a unit: with more than this between ruler and edges, nothing is known
LEADERS = (0, 2)
# By line code and the bits that a symbol stands for.
HYPOTHESES: dict[tuple[Code, int], Callable[[Floats, int], LineReading | None]] = {
    ("pulse-distance", 1): pulse_distance,
    ("pulse-width", 1): pulse_width,
    ("biphase", 1): biphase,
    ("pulse-distance", 2): two_bits_in_spaces,
    ("pulse-width", 2): two_bits_in_marks,
}
NOISE_HEAD_START = 10.0  # nats: what a structure must be better by before it is worth a word


def identify(pulses: Pulses) -> tuple[LineReading, ...]:
    """The line codes that fit, most probable first; empty where random pulses explain the frame as well."""
    d = pulses.durations_us
    if d.size < FEWEST_SERIAL:
        return ()
    codes = HYPOTHESES.values() if d.size >= FEWEST_PULSES else ()
    tried = [hypothesis(d, leader) for hypothesis in codes for leader in LEADERS]
    fitting = [r for r in tried if r is not None and r.clock.rms_us < COARSEST * r.clock.unit_us]
    # Serial characters are sought at length, and only where no other code is clean.
    clean = any(r.clock.rms_us < CLEAN * r.clock.unit_us for r in fitting)
    if not clean and (characters := async_serial(d)) is not None:
        fitting.append(characters)
    scores = [r.score for r in fitting] + [noise_score(d) + NOISE_HEAD_START]
    chances = probabilities(scores)
    ranked = sorted(zip(fitting, chances, strict=False), key=lambda pair: -pair[1])
    best_of: dict[tuple[Code, int], LineReading] = {}
    for reading, chance in ranked:
        best_of.setdefault((reading.code, reading.symbol_bits), replace(reading, probability=chance))
    known = tuple(best_of.values())
    return known if known and known[0].probability > 0.5 else ()


def read_as(
    pulses: Pulses,
    code: Code | None = None,
    leader: int | None = None,
    unit_us: float | None = None,
    symbol_bits: int | None = None,
) -> LineReading | None:
    """The likeliest reading in a line code, with so many pulses before the data, however badly it fits.

    ``symbol_bits`` is how many bits a symbol stands for (serial characters find that out). What is None is found out; a
    unit is asked for only by the codes that are read on a grid. None where the frame cannot be read so at all.
    """
    d = pulses.durations_us
    if code == "async-serial":
        return async_serial(d, unit_us)
    tried = [
        biphase(d, before, unit_us) if name == "biphase" else hypothesis(d, before)
        for (name, bits), hypothesis in HYPOTHESES.items()
        for before in (LEADERS if leader is None else (leader,))
        if code in (None, name) and symbol_bits in (None, bits)
    ]
    return max((reading for reading in tried if reading is not None), key=lambda r: r.score, default=None)
