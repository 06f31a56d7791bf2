"""Readings: ranked, doubted, and grouped into presses."""

from __future__ import annotations

import gc

import numpy as np
import pytest
from msgspec.structs import replace

from eager_tern.protocol.layout import bit_groups
from eager_tern.protocol.loading import library, parse_sheet
from eager_tern.protocol.making import frames_of_bits
from eager_tern.protocol.reading import read_frame, read_frames
from eager_tern.protocol.take import read_edges, read_pulses
from eager_tern.signal.bursts import split_bursts
from eager_tern.signal.values import Edges, Pulses, pulses_from_signed
from tests.handsets import (
    ALL_PROTOCOLS,
    evening,
    fixed_code,
    lsb_first,
    nec,
    nec_frame,
    random_press,
    rc5,
    record,
    sony,
)
from tests.radio import code_24


def read(signed: list[float] | np.ndarray) -> list[tuple[str, dict[str, int], int, bool]]:
    take = read_pulses(pulses_from_signed(np.array(signed)), library())
    return [
        (press.lead.best.protocol, press.lead.best.fields, len(press.frames), press.first_missed)
        for press in take.presses
        if press.lead.best is not None
    ]


IMPAIRMENTS = [
    {"jitter_us": jitter, "excess_us": excess, "clock": clock}
    for jitter in (0.0, 30.0)
    for excess in (-100.0, 0.0, 100.0)
    for clock in (0.9, 1.0, 1.1)
]


@pytest.mark.parametrize("impairment", IMPAIRMENTS)
def test_presses_are_read_through_every_impairment(rng: np.random.Generator, impairment: dict[str, float]) -> None:
    recording = evening(rng, 30, **impairment)
    found = [(protocol, fields, frames) for protocol, fields, frames, _ in read(recording.signed)]
    right = sum(f == (s.protocol, s.fields, s.frames) for f, s in zip(found, recording.presses, strict=True))
    assert right >= 0.98 * len(found)


@pytest.mark.parametrize("protocol", ALL_PROTOCOLS)
@pytest.mark.parametrize("impairment", [{}, {"jitter_us": 30.0, "excess_us": 60.0, "clock": 1.08}])
def test_every_protocol_is_read(rng: np.random.Generator, protocol: str, impairment: dict[str, float]) -> None:
    recording = evening(rng, 12, (protocol,), **impairment)
    found = [(name, fields, frames) for name, fields, frames, _ in read(recording.signed)]
    assert sum((s.protocol, s.fields, s.frames) in found for s in recording.presses) >= 12
    assert len(found) == 12


def test_a_stray_pulse_in_a_frame_is_left_out(rng: np.random.Generator) -> None:
    """Of up to 150 µs, in frames whose checks tell, though no repeat does."""
    right = 0
    for _ in range(20):
        address, command = (int(v) for v in rng.integers(0, 256, 2))
        signed = record([*nec(address, command)], rng, jitter_us=30).tolist()
        at, stray = int(rng.integers(3, 65)), float(rng.uniform(60, 150))
        rest = (abs(signed[at]) - stray) / 2
        sign = np.sign(signed[at])
        signed[at : at + 1] = [sign * rest, -sign * stray, sign * rest]
        right += [f[:2] for f in read(signed)] == [("nec", {"address": address, "command": command})]
    assert right >= 18


@pytest.mark.parametrize("protocol", ["jvc", "denon", "sirc12", "rc5"])
def test_a_stray_pulse_is_left_out_as_the_repeat_shows(rng: np.random.Generator, protocol: str) -> None:
    """In protocols without a check, or with a small one."""
    right = 0
    for number in range(20):
        signed, sent = random_press(rng, protocol, number % 2)
        if sent.frames < 2:
            signed, sent = signed * 2, replace(sent, frames=2 * sent.frames)
        noisy = record(signed, rng, jitter_us=25).tolist()
        at, stray = int(rng.integers(2, 20)), float(rng.uniform(40, 110))
        rest, sign = (abs(noisy[at]) - stray) / 2, np.sign(noisy[at])
        noisy[at : at + 1] = [sign * rest, -sign * stray, sign * rest]
        right += [f[:3] for f in read(noisy)] == [(sent.protocol, sent.fields, sent.frames)]
    assert right >= 18


def test_the_sheets_are_ranked_by_what_their_checks_are_worth() -> None:
    sheets = library()
    readings = read_frame(pulses_from_signed(np.array(nec(0x5B, 0x16)[:-1])), sheets)
    assert [r.protocol for r in readings[:2]] == ["nec", "nec-ext"]
    # Eight more bits of check: the runner-up would need an accident of 1 in 256.
    assert readings[0].confidence / readings[1].confidence == pytest.approx(256, rel=0.05)
    assert readings[0].confidence + readings[1].confidence == pytest.approx(1.0, abs=0.01)
    ext = read_frame(pulses_from_signed(np.array(nec(0x1234, 0x16, extended=True)[:-1])), sheets)
    assert ext[0].protocol == "nec-ext"


def test_a_check_that_fails_is_told_and_costs_confidence() -> None:
    bits = lsb_first(0x5B, 8) + lsb_first(0xA4, 8) + lsb_first(0x16, 8) + lsb_first(0xE9 ^ 0x10, 8)
    best = read_frame(pulses_from_signed(np.array(nec_frame(bits))), library())[0]
    assert best.protocol == "nec"
    assert [check.ok for check in best.checks] == [True, False]
    assert best.confidence < 0.5


def test_a_held_key_is_one_press() -> None:
    assert read(nec(1, 2, 5)) == [("nec", {"address": 1, "command": 2}, 6, False)]
    assert read(sony(3, 4, 7)) == [("sirc12", {"command": 3, "address": 4}, 7, False)]
    assert read(rc5(5, 6, 1, 4)) == [("rc5", {"toggle": 1, "address": 5, "command": 6}, 4, False)]


def test_a_toggle_that_turns_is_the_next_press() -> None:
    found = read([*rc5(5, 6, 1, 2), *rc5(5, 6, 0, 3)])
    assert [(fields["toggle"], frames) for _, fields, frames, _ in found] == [(1, 2), (0, 3)]


def test_silence_parts_presses_of_one_key() -> None:
    first = [*nec(1, 2), -60_000.0]
    assert len(read([*first, *nec(1, 2)])) == 1
    assert len(read([*first, -60_000.0, *nec(1, 2)])) == 2


def test_another_code_is_another_press_however_soon() -> None:
    assert [f[2] for f in read([*nec(1, 2), *nec(1, 3)])] == [1, 1]


def test_repeats_without_their_first_frame_are_said_to_be_that() -> None:
    only = nec(1, 2, 3)[68:]
    assert read(only) == [("nec", {}, 3, True)]
    # A new full frame behind them is a press of its own.
    assert [f[3] for f in read([*only, *nec(1, 2)])] == [True, False]


def test_strays_and_chatter_are_no_frames(rng: np.random.Generator) -> None:
    lamp = [float(v) for v in rng.uniform(50, 400, 40)]
    signed = [d for pulse in lamp for d in (pulse, -float(rng.uniform(20_000, 90_000)))]
    take = read_pulses(pulses_from_signed(np.array(signed)), library())
    assert take.presses == ()
    assert len(take.noise) == 40
    chatter = rng.exponential(350, 10_001) + 30
    chatter[1::2] = np.where(rng.random(5_000) < 0.02, 25_000, chatter[1::2])
    assert read_pulses(Pulses(chatter), library()).presses == ()


def test_without_a_rest_the_polarity_that_reads_is_taken(rng: np.random.Generator) -> None:
    times = np.cumsum(np.abs(record(nec(0x5B, 0x16)[:-1], rng)))[:-1]
    for starts_high, polarity in ((True, "mark-high"), (False, "mark-low")):
        edges = Edges(times, starts_high, 0.0, float(times[-1]) + 560.0)
        found, take = read_edges(edges, library())
        assert found == polarity
        assert take.presses[0].lead.best is not None
        assert take.presses[0].lead.best.fields == {"address": 0x5B, "command": 0x16}


def test_groups_cover_every_bit_in_order() -> None:
    for signed in (nec(1, 2), rc5(5, 70, 1), sony(3, 4, 1)):
        reading = read_frame(pulses_from_signed(np.array(signed)), library())[0]
        groups = bit_groups(reading)
        covered = [i for group in groups for i in range(group.first, group.last + 1)]
        assert covered == list(range(reading.bits.size))
        values = {group.name: group.value for group in groups if group.role == "field"}
        assert values == reading.fields
    plain = bit_groups(replace(reading, sheet=None))
    assert [(g.first, g.last) for g in plain] == [(0, 7), (8, 11)]


def test_frames_read_together_read_as_they_do_alone() -> None:
    rng = np.random.default_rng(31)
    frames = []
    for protocol in ("nec", "rc5", "sirc12", "denon", "rc6", "async-serial"):
        for _ in range(3):
            signed = record(random_press(rng, protocol, 0)[0], rng, jitter_us=40.0, clock=rng.uniform(0.9, 1.1))
            pulses = pulses_from_signed(np.array(signed))
            frames += [pulses.part(first, last) for first, last in split_bursts(pulses)]
    for pulses, together in zip(frames, read_frames(frames, library()), strict=True):
        alone = read_frame(pulses, library())
        assert [(r.protocol, r.bits.tolist(), r.fields) for r in together] == [
            (r.protocol, r.bits.tolist(), r.fields) for r in alone
        ]
        assert [r.confidence for r in together] == pytest.approx([r.confidence for r in alone])


@pytest.mark.parametrize("protocol", ["rc5", "rc6", "sirc20", "kaseikyo"])
def test_errors_that_add_up_from_pulse_to_pulse(rng: np.random.Generator, protocol: str) -> None:
    """A handset that times each pulse anew drifts from any ruler by more than a unit along its frame."""
    right = 0
    for number in range(20):
        signed, sent = random_press(rng, protocol, number % 2)
        exact = record([-3e5, *signed], rng, excess_us=(-80, 80)[number % 2])
        wandering = np.sign(exact) * np.maximum(np.abs(exact) + rng.normal(0, 50, exact.size), 40)
        presses = read_pulses(pulses_from_signed(wandering), library()).presses
        right += any(p.lead.best is not None and p.lead.best.fields == sent.fields for p in presses)
    assert right >= 19


@pytest.mark.parametrize("unit", [215.0, 250.0, 500.0, 570.0])
def test_a_fixed_code_is_known_whatever_its_resistor(rng: np.random.Generator, unit: float) -> None:
    noisy = record([-3e5, *fixed_code(0x5A0FF1, unit, 4)], rng, jitter_us=15)
    (press,) = read_pulses(pulses_from_signed(noisy), library()).presses
    assert press.lead.best is not None
    assert (press.lead.best.protocol, press.lead.best.fields["code"]) == ("fixed-code", 0x5A0FF1)


@pytest.mark.parametrize("lost", range(4, 40, 4))
def test_a_frame_that_lost_a_pulse_is_not_sure_of_its_bits(rng: np.random.Generator, lost: int) -> None:
    """A mark swallowed by the receiver leaves one long space, and a frame of a bit less that still fits a sheet."""
    signed = code_24(rng.integers(0, 2, 24).tolist(), 350.0)[:-1]
    signed[lost - 1 : lost + 2] = [sum(-abs(d) for d in signed[lost - 1 : lost + 2])]
    read = read_pulses(pulses_from_signed(np.array([-3e5, *signed, -3e5])), library())
    assert all(not r.known or r.confidence < 0.5 for frame in read.frames for r in frame.readings)


@pytest.mark.parametrize(("gap_us", "presses"), [(200_000, 2), (40_000, 6)])
def test_a_press_is_told_by_its_repeats_however_far_apart_its_sheet_says_they_are(gap_us: int, presses: int) -> None:
    sheet = parse_sheet(
        'id = "slow"\nname = "Slow"\nunit_us = 500\nzero = [1, -1]\none = [1, -3]\n'
        f'[press]\nfirst = "full"\nheld = "full"\ncount = 3\ngap_us = {gap_us}\n'
        '[[frames]]\nname = "full"\nparts = [{ pulses = [16, -8] }, { bits = 16 }, { pulses = [1] }]\n',
        "test",
    )
    (frame, *_) = frames_of_bits(sheet, np.array([1, 0] * 8, np.uint8))
    press = [*frame[:-1], -200_000.0] * 3
    signed = np.array([*press[:-1], -700_000.0, *press])
    take = read_pulses(pulses_from_signed(signed), (sheet,))
    assert len(take.presses) == presses


def test_what_a_long_take_has_many_of_is_not_tracked_by_the_garbage_collector(rng: np.random.Generator) -> None:
    take = read_pulses(pulses_from_signed(np.array(evening(rng, 3).signed)), library())
    frames = [frame for press in take.presses for frame in press.frames]
    values = [*take.presses, *frames, *(r for f in frames for r in f.readings), *(f.reading.clock for f in frames)]
    assert not any(map(gc.is_tracked, values))
