"""Asynchronous serial characters, of which neither speed nor framing is known."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.linecode.serial import async_serial, read_at
from eager_tern.linecode.values import Clock, Framing
from eager_tern.protocol.loading import library, parse_sheet
from eager_tern.protocol.making import make_frame
from eager_tern.protocol.reading import read_frame
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import Floats, pulses_from_signed
from tests.handsets import record, serial


@pytest.mark.parametrize("baud", [100, 300, 600, 1200, 2400, 4800, 9600])
def test_bytes_are_read_at_any_speed(rng: np.random.Generator, baud: int) -> None:
    right, jitter_us = 0, min(20.0, 0.1 * 1e6 / baud)
    for _ in range(10):
        data = rng.integers(0, 256, 7).tolist()
        line = [-300_000.0, *serial(data, baud * rng.uniform(0.95, 1.05))]
        signed = record(line, rng, jitter_us=jitter_us, excess_us=1.5 * jitter_us)
        presses = read_pulses(pulses_from_signed(signed), library()).presses
        best = presses[0].lead.best if len(presses) == 1 else None
        right += best is not None and best.protocol == "async-serial" and best.fields == {"bytes": tuple(data)}
    assert right >= 9


@pytest.mark.parametrize("rests", [0.0, 4.0])
def test_characters_that_repeat_themselves_or_rest_as_they_like_are_believed(
    rng: np.random.Generator, rests: float
) -> None:
    """Nine bytes at 1,200 baud: noughts look like one long pulse sent again and again."""
    confidence = []
    for _ in range(4):
        line, sent = [-300_000.0], list[tuple[int, ...]]()
        for _ in range(4):
            some = rng.integers(0, 256, 9)
            some[:7] = some[:7] if rests else [255, 0, 0, 0, 0, 0, 0]
            sent.append(tuple(some.tolist()))
            for byte in sent[-1]:
                line += [*serial([byte], 1200)[:-1], -rests * rng.random() * 1e6 / 1200]
            line.append(-300_000.0)
        presses = read_pulses(pulses_from_signed(record(line, rng, jitter_us=20)), library()).presses
        readings = {press.lead.reading.fields.get("bytes"): press.lead.reading.confidence for press in presses}
        confidence += [readings.get(data, 0.0) for data in sent]
    assert np.mean(confidence) > 0.76


def test_a_bit_made_short_is_no_stray_pulse(rng: np.random.Generator) -> None:
    """Without a bit the rest would still be characters: nothing in them speaks against it."""
    right = 0
    for n in range(20):
        data = rng.integers(0, 256, 7).tolist()
        signed = record(serial(data, 2400), rng, jitter_us=40, excess_us=(-140, 140)[n % 2])
        presses = read_pulses(pulses_from_signed(np.array([-300_000.0, *signed])), library()).presses
        right += any(p.lead.best is not None and p.lead.best.fields == {"bytes": tuple(data)} for p in presses)
    assert right >= 18


@pytest.mark.parametrize(
    ("bits", "parity", "stop"), [(8, "none", 1), (7, "even", 1), (8, "odd", 1), (8, "none", 2), (5, "none", 1)]
)
def test_the_framing_is_found(rng: np.random.Generator, bits: int, parity: str, stop: int) -> None:
    data = rng.integers(0, 1 << bits, 24).tolist()
    signed = record(serial(data, 1200, bits, parity, stop), rng, jitter_us=15)
    found = async_serial(pulses_from_signed(signed).durations_us)
    assert found is not None
    assert found.framing == (bits, parity, stop)
    assert found.clock.unit_us == pytest.approx(1e6 / 1200, rel=0.01)


def test_characters_with_pauses_between(rng: np.random.Generator) -> None:
    signed: list[float] = []
    data = rng.integers(0, 256, 8).tolist()
    for value in data:
        signed += [*serial([value], 2400)[:-1], -float(rng.uniform(300, 3000))]
    found = async_serial(pulses_from_signed(record(signed, rng)).durations_us)
    assert found is not None
    assert np.packbits(found.bits.reshape(-1, 8), axis=1, bitorder="little").ravel().tolist() == data


def test_a_sheet_of_characters_makes_and_reads(rng: np.random.Generator) -> None:
    sheet = parse_sheet(
        'id = "gauge"\nname = "Tide gauge"\nunit_us = 833.3\nserial = { parity = "even" }\n'
        'press = { first = "full", held = "full", gap_us = 500000 }\n'
        'frames = [{ name = "full", parts = [{ bits = 32 }] }]\n'
        '[[fields]]\nname = "level"\nbits = "15-0"\nscale = 0.01\n'
        '[[checks]]\nname = "start"\nkind = "constant"\nat = "23-16"\nvalue = 85\n'
        '[[checks]]\nname = "sum"\nkind = "sum"\nat = "31-24"\ncovers = [[0, 23]]\n',
        "test",
    )
    for level in (0.0, 1.27, 655.35):
        made = make_frame(sheet, {"level": level})
        signed = record(
            np.where(np.arange(made.pulses.durations_us.size) % 2, -1, 1) * made.pulses.durations_us, rng, jitter_us=30
        )
        best = read_frame(pulses_from_signed(signed), (sheet,))[0]
        assert best.protocol == "gauge"
        assert best.fields == {"level": pytest.approx(level)}
        assert best.checks_hold


def test_bytes_whose_shortest_mark_and_space_are_not_one_bit_each() -> None:
    for data in ([228, 156, 255, 99], [216, 142, 188, 155, 7]):
        (press,) = read_pulses(pulses_from_signed(np.array([-3e5, *serial(data, 600)])), library()).presses
        assert press.lead.best is not None
        assert press.lead.best.fields == {"bytes": tuple(data)}


@pytest.mark.parametrize(("baud", "length", "least"), [(1200, 6, 19), (1200, 40, 19), (2400, 7, 15)])
def test_bytes_in_a_row_bear_what_a_receiver_does(
    rng: np.random.Generator, baud: float, length: int, least: int
) -> None:
    right = 0
    for n in range(20):
        data = rng.integers(0, 256, length).tolist()
        noisy = record(serial(data, baud), rng, jitter_us=60, excess_us=(-140, 140)[n % 2], clock=(0.9, 1.15)[n // 10])
        found = async_serial(pulses_from_signed(np.array([-3e5, *noisy])).durations_us)
        right += found is not None and np.packbits(found.bits, bitorder="little").tolist() == data
    assert right >= least


def test_a_byte_that_its_sheet_says_is_wrong_is_not_mended(rng: np.random.Generator) -> None:
    """Without one of its bits, what is left would be characters, and the check could hold by chance."""
    text = """
id = "turnstile"
name = "Turnstile"
unit_us = 1666.7
serial = { data_bits = 8 }
[press]
first = "full"
held = "full"
gap_us = 100000
[[frames]]
name = "full"
parts = [{ bits = 48 }]
[[checks]]
name = "sum"
kind = "xor"
at = "47-40"
covers = [[0, 39]]
unit = 8
order = "lsb"
"""
    sheet = parse_sheet(text, "")
    for _ in range(14):
        data = rng.integers(0, 256, 5).tolist()
        whole = [*data, int(np.bitwise_xor.reduce(data))]
        whole[int(rng.integers(6))] ^= 1 << int(rng.integers(8))
        noisy = record([-3e5, *serial(whole, 600)], rng, jitter_us=20, excess_us=50)
        for frame in read_pulses(pulses_from_signed(noisy), (sheet, *library())).frames:
            assert frame.best is not None
            assert not (frame.best.protocol == "turnstile" and frame.best.checks_hold)


def test_frames_that_could_each_be_noise_are_read_by_each_other(rng: np.random.Generator) -> None:
    """Fast characters under much jitter: one frame alone says too little, six of one speed and framing enough."""
    right = sent = 0
    for n in range(8):
        data = [rng.integers(0, 256, int(rng.integers(4, 9))).tolist() for _ in range(6)]
        signed = [d for each in data for d in (-3e5, *serial(each, 2400)[:-1])]
        noisy = record(signed, rng, jitter_us=60, excess_us=(-140, 140)[n % 2])
        read = [p.lead.best.fields.get("bytes") for p in read_pulses(pulses_from_signed(noisy), library()).presses]
        right, sent = right + sum(tuple(each) in read for each in data), sent + 6
    assert right >= 0.88 * sent


@pytest.mark.parametrize("rest_bits", [0.0, 1.0, 2.4])
def test_frames_are_read_together_as_by_themselves(rng: np.random.Generator, rest_bits: float) -> None:
    """Characters begin elsewhere in each; between some of them stand rests, of whole bits or not."""
    unit = 1e6 / 1200
    alike: dict[int, list[Floats]] = {}
    for _ in range(60):
        sent = [serial(rng.integers(0, 256, 2).tolist(), 1200) for _ in range(2)]
        rested = [*sent[0][:-1], -rest_bits * unit, *sent[1]]
        d = pulses_from_signed(np.array([-3e5, *record(rested, rng, jitter_us=20, excess_us=40)])).durations_us
        alike.setdefault(d.size, []).append(d)
    framing: Framing = (8, "none", 1)
    clock = Clock(unit, 0.0, 0.0)
    read = 0
    for rows in map(np.array, alike.values()):
        for together, d in zip(read_at(rows, clock, framing), rows, strict=True):
            (alone,) = read_at(d[None], clock, framing)
            assert (together is None) == (alone is None)
            if together is not None and alone is not None:
                read += 1
                assert np.array_equal(together.bits, alone.bits)
                assert together.score == pytest.approx(alone.score)
                np.testing.assert_allclose(together.bit_spans_us, alone.bit_spans_us)
                np.testing.assert_allclose(together.expected_us, alone.expected_us)
    assert read >= 55


def test_a_run_in_does_not_speak_for_characters_again_and_again(rng: np.random.Generator) -> None:
    """A run-in and four lengths of space: each character of the run-in has its stop and parity bit, if one has."""
    signed = [-600_000.0]
    for key in ("303003", "303000", "303011", "303100"):
        symbols = [d for n in key for d in (707.0, -707.0 * (1 + int(n)))]
        signed += [*[707.0, -707.0] * 31, 2121.0, -2121.0, *symbols, 707.0, -600_000.0]
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=5, excess_us=18)), library())
    assert not [f for f in take.frames if f.reading.protocol == "async-serial" and f.reading.confidence > 0.5]
