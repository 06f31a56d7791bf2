"""Packets of bits without an edge in each, and what else lasts whole bits without being characters."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.take import TakeRead, read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import IDLE_US, join, nec, record
from tests.strangers import a_stranger, take_of

SHEETS = library()
PREAMBLE = [1, 0] * 6
SYNC = [1, 1, 0, 1, 0, 0, 1, 1]
LETTERS = (
    ".-",
    "-...",
    "-.-.",
    "-..",
    "..-.",
    "--.",
    "....",
    ".---",
    "-.-",
    ".-..",
    "--",
    "-.",
    "---",
    ".--.",
    "...",
    "-",
)


def levels(bits: list[int]) -> list[float]:
    return [1.0 if bit else -1.0 for bit in bits]


def packet(rng: np.random.Generator) -> list[int]:
    """Preamble, sync word and data that end with a mark, as a chip for small radios sends them."""
    return [*PREAMBLE, *SYNC, *rng.integers(0, 2, 47).tolist(), 1]


def word(rng: np.random.Generator) -> list[float]:
    """Six letters in Morse: dots of one unit, dashes of three, three between letters."""
    sent: list[float] = []
    for letter in rng.choice(LETTERS, 6):
        for sign in letter:
            sent += [1.0 if sign == "." else 3.0, -1.0]
        sent[-1] = -3.0
    return sent[:-1]


def heard(rng: np.random.Generator, frames: list[list[float]], unit_us: float, copies: int = 2) -> TakeRead:
    excess = rng.uniform(-40, 40)
    signed: list[float] = [-IDLE_US]
    for frame in frames:
        us = np.array(join(frame)) * unit_us
        for _ in range(copies):
            signed += [*(us + excess + rng.normal(0, 12, us.size)), -15_000.0]
        signed[-1] = -IDLE_US
    return read_pulses(pulses_from_signed(np.array(signed)), SHEETS)


@pytest.mark.parametrize("seed", range(4))
def test_packets_of_bits_are_read_as_they_are(seed: int) -> None:
    rng = np.random.default_rng(seed)
    sent = [packet(rng) for _ in range(4)]
    take = heard(rng, [levels(bits) for bits in sent], rng.uniform(250, 800))
    assert [frame.reading.bits.tolist() for frame in take.frames] == [bits for bits in sent for _ in range(2)]
    assert {(frame.reading.protocol, frame.reading.code) for frame in take.frames} == {("unknown", "unknown")}
    assert len(take.presses) == len(sent)


def test_a_single_packet_is_not_claimed() -> None:
    """Noise that was polled looks the same."""
    rng = np.random.default_rng(2)
    assert heard(rng, [levels(packet(rng))], 500.0, copies=1).frames == []


def test_what_lasts_whole_units_is_seldom_taken_for_characters() -> None:
    """Random bits and letters in Morse: each alone could be bytes; few are believed to be."""
    frames = sure = 0
    for seed in range(40):
        rng = np.random.default_rng(seed)
        some = [word(rng) for _ in range(2)] if seed % 2 else [levels([1, *rng.integers(0, 2, 45).tolist(), 1])]
        for frame in heard(rng, some, rng.uniform(250, 800), copies=1).frames:
            frames += 1
            sure += frame.reading.protocol == "async-serial" and frame.reading.confidence > 0.5
    assert frames > 10
    assert sure <= 3


@pytest.mark.parametrize("poll_us", [100.0, 200.0])
def test_noise_that_was_polled_is_no_packet(poll_us: float) -> None:
    rng = np.random.default_rng(5)
    lengths = 30 + rng.exponential(250, 1600)
    rests = rng.random(800) < 0.06
    lengths[1::2][rests] = rng.uniform(6000, 60_000, rests.sum())
    ticks = np.maximum(np.diff(np.floor(np.cumsum(lengths) / poll_us)), 1.0)
    signed = poll_us * ticks * np.where(np.arange(ticks.size) % 2 == 0, 1, -1)
    take = read_pulses(pulses_from_signed(np.concatenate(([-IDLE_US], signed))), SHEETS)
    assert not any(frame.reading.code == "unknown" for frame in take.frames)


def test_damage_among_other_frames_is_no_packet() -> None:
    good = nec(0x5B, 0x16)
    hurt = list(good)
    hurt[4:7] = [sum(map(abs, hurt[4:7]))]  # a space was filled
    signed = np.concatenate([[-IDLE_US], *[[*frame[:67], -IDLE_US] for frame in (hurt, good, good)]])
    take = read_pulses(pulses_from_signed(signed), SHEETS)
    assert not any(frame.reading.code == "unknown" for frame in take.frames)


@pytest.mark.parametrize(("code", "size"), [("duty", 2), ("biphase", 3)])
def test_sections_with_long_leaders_are_no_packets_of_bits(rng: np.random.Generator, code: str, size: int) -> None:
    for _ in range(4):
        stranger = a_stranger(rng, code, "run-in", size)
        signed, sent = take_of(rng, stranger)
        read = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=10)), SHEETS)
        leads = [press.lead.reading for press in read.presses if press.lead.readings]
        assert [(lead.sections, lead.bits.tolist()) for lead in leads] == [(stranger.sections, s.bits) for s in sent]


@pytest.mark.parametrize("baud", [1200, 2400, 4800])
def test_a_packet_without_copies_is_no_row_of_characters(rng: np.random.Generator, baud: int) -> None:
    """Its run-in alone could be some, and is regular."""
    for number in range(2):
        sync = rng.integers(0, 2, 16).tolist() if number else [0, 0, 1, 0, 1, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 0]
        packets = [[*[1, 0] * 16, *sync, *rng.integers(0, 2, 55).tolist(), 1] for _ in range(8)]
        read = heard(rng, [levels(packet) for packet in packets], 1e6 / baud, copies=1)
        assert not any(f.reading.protocol == "async-serial" and f.reading.confidence > 0.5 for f in read.frames)


@pytest.mark.parametrize("unit_us", [833.3, 416.7, 208.3])
def test_morse_at_a_usual_speed_is_no_row_of_characters(rng: np.random.Generator, unit_us: float) -> None:
    """Its marks and spaces have two lengths, which explain them with fewer bits."""
    for _ in range(4):
        read = heard(rng, [word(rng) for _ in range(4)], unit_us)
        assert not any(f.reading.protocol == "async-serial" and f.reading.confidence > 0.5 for f in read.frames)


@pytest.mark.parametrize("seed", [10, 11])
def test_run_ins_that_stand_apart_are_no_packets_of_bits(seed: int) -> None:
    rng, signed = np.random.default_rng(seed), [-IDLE_US]
    for _ in range(2):
        frame = [540, -540] * 31 + [540, -5400]
        for symbol in rng.permutation([0, 1, 2] * 7):
            frame += [540 * (1 + int(symbol)), -540]
        for _ in range(3):
            signed += [*frame[:-1], -38_000]
        signed[-1] = -IDLE_US
    frames = read_pulses(pulses_from_signed(np.array(signed) + rng.normal(0, 12, len(signed))), SHEETS).frames
    assert [(frame.reading.code, frame.reading.symbols) for frame in frames] == [("pulse-width", 3)] * 6
