"""Frames in a receiver's chatter, frames with stray pulses, and repeats that repair one another."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from eager_tern.protocol.damaged import mend
from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.take import TakeRead, read_edges, read_pulses
from eager_tern.signal.by_hand import ByHand, without_short
from eager_tern.signal.values import Edges, Pulses, pulses_from_signed
from tests.handsets import join, nec, record, sony
from tests.radio import code_24

KINDS = {
    "exponential": lambda rng, n: 30 + rng.exponential(150, n),
    "even": lambda rng, n: rng.uniform(50, 600, n),
    "log-normal": lambda rng, n: rng.lognormal(np.log(200), 0.8, n),
    "polled": lambda rng, n: np.maximum(1, rng.poisson(5, n)) * 50.0,
}


def chatter(rng: np.random.Generator, kind: str, length_us: float) -> list[float]:
    """Full-swing pulses of random lengths, beginning and ending with a mark."""
    d = KINDS[kind](rng, int(length_us / 40))
    d = d[: int(np.searchsorted(np.cumsum(d), length_us)) | 1]
    return (d * np.where(np.arange(d.size) % 2 == 0, 1, -1)).tolist()


def bits_of(frame: Frame) -> str:
    return "".join(map(str, frame.best.bits)) if frame.best is not None else ""


def read(signed: list[float]) -> TakeRead:
    return read_pulses(pulses_from_signed(np.array(signed)), library())


@pytest.mark.parametrize("kind", KINDS)
def test_chatter_alone_holds_no_frame(rng: np.random.Generator, kind: str) -> None:
    assert read(chatter(rng, kind, 6e6)).frames == []


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("glitch", [False, True])
def test_frames_are_found_in_chatter(rng: np.random.Generator, kind: str, glitch: bool) -> None:
    signed: list[float] = []
    sent = []
    for _ in range(10):
        signed += [*chatter(rng, kind, 150e3), -300.0]
        bits = rng.integers(0, 2, 24).tolist()
        sent.append("".join(map(str, bits)))
        once = code_24(bits, rng.uniform(250, 480))
        for number in range(4):
            frame = [d + rng.normal(0, 10) for d in once]
            if glitch and number == 0:
                at = int(rng.integers(6, 40))
                part = frame[at]
                rest = np.sign(part) * (abs(part) - 60) / 2
                frame[at : at + 1] = [rest, -np.sign(part) * 60, rest]
            signed += frame
    found = read(signed)
    right = sum(bits_of(frame) in sent for frame in found.frames)
    assert right >= 39
    assert len(found.frames) - right <= 1
    if not glitch:
        assert [bits_of(press.lead) for press in found.presses] == sent
        assert all(len(press.frames) == 4 for press in found.presses)


def sensor(bits: list[int], unit: float) -> list[float]:
    """Pulse distance of 2 and 4 units; a space of 8 parts the copies, and is no gap beside its spaces."""
    data = [d for bit in bits for d in (unit, -(4 if bit else 2) * unit)]
    return [*data, unit, -8 * unit]


def garage(bits: list[int], unit: float) -> list[float]:
    """Bi-phase behind a run-in and a sync of three half bits each way, and six half bits' rest."""
    data = [d for bit in bits for d in ((unit, -unit) if bit else (-unit, unit))]
    return [*[unit, -unit] * 12, 3 * unit, -3 * unit, *data, -6 * unit]


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize(("copy", "size", "least"), [(sensor, 36, 0.95), (garage, 40, 0.85)])
def test_copies_that_follow_each_other_closely_are_found_in_chatter(
    rng: np.random.Generator, kind: str, copy: Callable[[list[int], float], list[float]], size: int, least: float
) -> None:
    sent, signed = [], []
    for _ in range(8):
        bits = rng.integers(0, 2, size).tolist()
        sent.append("".join(map(str, bits)))
        copies = join(copy(bits, rng.uniform(330, 550)) * 4)
        signed += [*chatter(rng, kind, 150e3), -40.0, *record(copies.tolist(), rng, jitter_us=12, excess_us=30)]
    found = [bits_of(frame) for frame in read(join(signed).tolist()).frames]
    right = sum(bits in sent for bits in found)
    assert right >= least * 4 * len(sent) - 1  # the first bits of a first copy may be lost in the chatter
    assert len(found) - right <= 1
    assert set(sent) <= set(found)


@pytest.mark.parametrize("kind", KINDS)
def test_copies_of_a_sheet_that_follow_each_other_closely_are_named(rng: np.random.Generator, kind: str) -> None:
    signed: list[float] = []
    for _ in range(5):
        bits = rng.integers(0, 2, 36)
        bits[9], bits[12:16], bits[24:28] = 0, 0, 1  # a sensor-36, between 0 and 25 degrees
        copies = join(sensor(bits.tolist(), 500.0) * 5)
        signed += [*chatter(rng, kind, 150e3), -40.0, *record(copies.tolist(), rng, jitter_us=12, excess_us=30)]
    frames = read(join(signed).tolist()).frames
    assert sum(frame.reading.protocol == "sensor-36" and frame.reading.confidence > 0.9 for frame in frames) >= 24


@pytest.mark.parametrize("high", [False, True])
def test_a_line_that_never_rests_shows_its_polarity_by_what_parts_its_frames(
    rng: np.random.Generator, high: bool
) -> None:
    signed: list[float] = []
    for _ in range(6):
        copies = garage(rng.integers(0, 2, 40).tolist(), 400.0) * 4
        signed += [*chatter(rng, "exponential", 300e3), -40.0, *copies]
    d = np.abs(record(join(signed).tolist(), rng, jitter_us=12))
    edges = Edges(np.cumsum(d)[:-1], high, 0.0, float(d.sum()))
    polarity, found = read_edges(edges, library())
    assert polarity == ("mark-high" if high else "mark-low")
    assert len(found.frames) >= 20


def with_glitch(signed: list[float], at: int, length: float = 80.0) -> list[float]:
    part = signed[at]
    rest = float(np.sign(part)) * (abs(part) - length) / 2
    return [*signed[:at], rest, -float(np.sign(part)) * length, rest, *signed[at + 1 :]]


@pytest.mark.parametrize("at", [0, 1, 2, 9, 30, 65])
def test_a_stray_pulse_in_a_frame_is_left_out_and_said(rng: np.random.Generator, at: int) -> None:
    signed = with_glitch(join(nec(0x5B, 0x16))[:-1].tolist(), at)
    found = read(record(signed, rng, jitter_us=15, excess_us=40).tolist())
    (frame,) = found.frames
    assert frame.best is not None
    assert frame.best.fields == {"address": 0x5B, "command": 0x16}
    assert frame.mended
    assert frame.pulses.durations_us.size == 69  # as measured, with nothing taken out
    assert frame.as_read.durations_us.size == 67


def test_a_stray_pulse_before_a_frame_is_left_out(rng: np.random.Generator) -> None:
    signed = [90.0, -3000.0, *join(nec(0x5B, 0x16))[:-1].tolist()]
    mended = mend(pulses_from_signed(np.array(signed)), library())
    assert mended is not None
    assert mended.readings[0].fields == {"address": 0x5B, "command": 0x16}
    assert mended.pulses.start_us == pytest.approx(3090, abs=100)


def test_repeats_repair_one_another(rng: np.random.Generator) -> None:
    frame = join(sony(50, 21, 1)).tolist()
    covered = -sum(map(abs, frame[7:10]))  # a mark that a hand covered
    damaged = [*frame[:7], covered, *frame[10:]]
    found = read([*damaged, *frame, *frame])
    (press,) = found.presses
    assert [bits_of(f) for f in press.frames] == [bits_of(press.frames[1])] * 3
    assert press.frames[0].mended
    assert press.frames[1].mended == ""


def test_two_keys_in_quick_succession_are_not_made_one(rng: np.random.Generator) -> None:
    found = read([*nec(1, 2), *nec(1, 3)])
    assert [p.lead.best.fields["command"] for p in found.presses if p.lead.best is not None] == [2, 3]
    assert not any(frame.mended for frame in found.frames)


def test_a_frame_cut_by_the_start_of_the_recording_is_no_frame_of_its_own() -> None:
    whole = np.abs(join(nec(0x5B, 0x16, 1)))
    rest = whole[20:]  # begins within a mark
    edges = Edges(np.cumsum(rest)[:-1], True, 0.0, float(rest.sum()))
    _, found = read_edges(edges, library(), ByHand(polarity="mark-high"))
    assert [frame.best.kind for frame in found.frames if frame.best is not None] == ["repeat code"]
    assert found.presses[0].first_missed
    assert found.noise[0][0] == 0


def test_short_pulses_can_be_left_out() -> None:
    pulses = Pulses(np.array([500.0, 40.0, 300.0, 600.0, 30.0, 700.0, 400.0]), 100.0)
    assert without_short(pulses, 50).durations_us.tolist() == [840.0, 1330.0, 400.0]
    assert without_short(pulses, 50).start_us == 100.0
    assert without_short(Pulses(np.array([10.0])), 50).durations_us.size == 0


def test_a_stray_pulse_in_the_rest_between_two_frames_does_not_join_them(rng: np.random.Generator) -> None:
    frames = sony(0x15, 7, 3)
    first_rest = next(i for i, d in enumerate(frames) if d < -5000)
    rest = abs(frames[first_rest])
    frames[first_rest : first_rest + 1] = [-0.5 * rest, 90.0, -0.5 * rest + 90.0]
    (press,) = read(record([-3e5, *frames], rng, jitter_us=30).tolist()).presses
    assert [frame.best.fields for frame in press.frames if frame.best] == [{"command": 0x15, "address": 7}] * 3


def test_a_stray_mark_no_shorter_than_many_a_space_is_left_out(rng: np.random.Generator) -> None:
    """The receiver makes marks longer, stray ones too."""
    right = 0
    for _ in range(20):
        signed = with_glitch(nec(0x5B, 0x16, 1)[:-1], 2 * int(rng.integers(2, 30)) + 1)
        found = read(record([-3e5, *signed], rng, jitter_us=60, excess_us=140, clock=0.85).tolist())
        fields = [p.lead.best.fields for p in found.presses if p.lead.best]
        right += fields == [{"address": 0x5B, "command": 0x16}]
    assert right >= 18


def test_a_run_in_behind_a_copy_is_no_part_of_it(rng: np.random.Generator) -> None:
    """The first copy's run-in is lost in the chatter before it, so that nothing shows how many pulses it has."""
    for kind in ("exponential", "log-normal"):
        unit, bits = 420.0, rng.integers(0, 2, 48).tolist()
        data = [d for bit in bits for d in ((unit, -unit) if bit else (-unit, unit))]
        copy = [*[unit, -unit] * 12, unit, -10 * unit, *data, -20 * unit]
        signed = [*chatter(rng, kind, 300e3), -30.0, *copy * 3, *chatter(rng, kind, 300e3)]
        noisy = record(join(signed).tolist(), rng, jitter_us=12)
        frames = [frame for frame in read(noisy.tolist()).frames if frame.reading.confidence > 0.5]
        assert len(frames) >= 2
        assert {tuple(frame.reading.bits.tolist()) for frame in frames} == {tuple(bits)}


def test_equal_pulses_of_a_code_without_leader_and_checks_are_hardly_told() -> None:
    signed = [-3e5, *[500.0, -2000.0] * 10, 500.0, -3e5]
    assert all(frame.reading.confidence <= 0.3 for frame in read(signed).frames)
