"""Handsets that no sheet describes: sections, and sheets begun from the evidence."""

from __future__ import annotations

import numpy as np
import pytest
from msgspec.structs import replace

from eager_tern.protocol.describing import Assumed, assumed_by, describe
from eager_tern.protocol.draft import Draft
from eager_tern.protocol.loading import library, parse_sheet
from eager_tern.protocol.reading import symbol_numbers
from eager_tern.protocol.take import TakeRead, read_pulses
from eager_tern.protocol.unknown import keep_time, unknown_frames
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import distance_frame, nec, record, serial


def long_frame(
    rng: np.random.Generator, sections: int, unit: float, leader: tuple[float, ...], spaces: tuple[float, float]
) -> tuple[list[float], list[int]]:
    """A frame as air conditioners send it, and its bits."""
    signed: list[float] = []
    bits: list[int] = []
    for _ in range(sections):
        own = rng.integers(0, 2, 8 * int(rng.integers(5, 14))).tolist()
        signed += [*distance_frame([part * unit for part in leader], unit, spaces, own), -float(rng.uniform(8e3, 3e4))]
        bits += own
    return signed[:-1], bits


def written(draft: Draft | None) -> str:
    assert draft is not None
    return draft.text


def read(signed: list[float], rng: np.random.Generator, sheets: tuple = ()) -> TakeRead:
    noisy = record(signed, rng, jitter_us=25, excess_us=float(rng.uniform(-70, 70)))
    return read_pulses(pulses_from_signed(noisy), (*sheets, *library()))


@pytest.mark.parametrize("sections", [1, 2, 3])
@pytest.mark.parametrize("repeats", [1, 2])
def test_sections_are_one_frame_and_repeats_are_repeats(rng: np.random.Generator, sections: int, repeats: int) -> None:
    right = 0
    for _ in range(8):
        frame, bits = long_frame(rng, sections, float(rng.uniform(380, 600)), (8, -4), (1, 3))
        press = [*frame, -36_000.0] * repeats
        take = read([-3e5, *press[:-1], -4e5, *press[:-1], -4e5], rng)
        right += len(take.presses) == 2 and all(
            p.lead.best is not None and p.lead.best.bits.tolist() == bits and len(p.frames) == repeats
            for p in take.presses
        )
        if sections > 1 and len(take.presses) == 2 and take.presses[0].lead.best is not None:
            assert sum(take.presses[0].lead.best.sections) == len(bits)
    assert right >= 7


@pytest.mark.parametrize("leader", [(8, -4), (16, -8), ()])
@pytest.mark.parametrize("spaces", [(1, 3), (1, 2), (2, 4)])
def test_a_sheet_begun_from_the_evidence_reads_what_it_was_begun_from(
    rng: np.random.Generator, leader: tuple[float, ...], spaces: tuple[float, float]
) -> None:
    right = 0
    for sections in (1, 1, 2, 2, 3):
        unit = float(rng.uniform(380, 600))
        frame, bits = long_frame(rng, sections, unit, leader, spaces)
        press = [*frame, -4e5]
        text = written(describe(read([-3e5, *press, *press], rng).frames, "Climate cabinet"))
        if text is None:
            continue
        sheet = parse_sheet(text, "test")
        assert sheet.id == "climate-cabinet"
        again = read([-3e5, *press], rng, (sheet,)).presses[0].lead.best
        right += again is not None and again.protocol == sheet.id and again.bits.tolist() == bits
    assert right >= 4


def test_nothing_is_described_where_nothing_is_clear() -> None:
    assert describe([], "x") is None


@pytest.mark.parametrize("kind", ["distance", "duty"])
def test_what_is_unclear_in_a_take_is_read_as_the_clear_frames_are(rng: np.random.Generator, kind: str) -> None:
    right = total = 0
    for _ in range(6):
        unit, base = float(rng.uniform(380, 620)), rng.integers(0, 2, 28)
        signed, sent = [-3e5], []
        for _ in range(8):
            bits = np.concatenate((base[:20], rng.integers(0, 2, 8))).tolist()
            if kind == "distance":
                frame = distance_frame([8 * unit, -4 * unit], unit, (1, 3), bits)
            else:
                frame = [u for bit in bits for u in ((3 * unit, -unit) if bit else (unit, -3 * unit))][:-1]
            signed += [*frame, -2e5]
            sent.append(bits)
        take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=45, excess_us=80)), library())
        read_bits = [f.best.bits.tolist() for f in take.frames if f.best is not None]
        total += len(sent)
        right += sum(bits in read_bits for bits in sent)
    assert right >= 0.9 * total


def test_what_is_said_by_hand_holds_against_whatever_else_fits(rng: np.random.Generator) -> None:
    take = read([-3e5, *nec(0x5B, 0x16)], rng)
    found = take.presses[0].lead.best
    assert found is not None
    assert found.sheet is not None
    said = replace(assumed_by(found.sheet), turned=True, highest_first=True, tolerance=0.3)
    text = written(describe(take.frames[:1], "By hand", said, overrules=True))
    assert text is not None
    sheet = parse_sheet(text, "test")
    assert assumed_by(sheet) == replace(said, unit_us=sheet.unit_us)
    again = read_pulses(take.pulses, (sheet, *library())).presses[0].lead.best
    assert again is not None
    assert again.protocol == "by-hand"
    assert again.bits.tolist() == (1 - found.bits).tolist()


@pytest.mark.parametrize(("leader", "bits"), [(0, 33), (2, 32), (4, 31)])
def test_the_data_begin_where_somebody_says(rng: np.random.Generator, leader: int, bits: int) -> None:
    take = read([-3e5, *nec(0x5B, 0x16)], rng)
    text = written(describe(take.frames[:1], "By hand", Assumed(code="pulse-distance", leader=leader), overrules=True))
    assert text is not None
    assert parse_sheet(text, "test").bit_count == bits


@pytest.mark.parametrize("in_marks", [False, True])
def test_symbols_of_two_bits_are_found_and_described(rng: np.random.Generator, in_marks: bool) -> None:
    unit, sent = 310.0, []
    signed = [-3e5]
    for _ in range(6):
        bits = rng.integers(0, 2, 32)
        signed += [8 * unit, -4 * unit]
        for value in (bits.reshape(-1, 2) @ [2, 1]).tolist():
            signed += [(1 + value) * unit, -unit] if in_marks else [unit, -(1 + value) * unit]
        signed += [] if in_marks else [unit, -3e5]
        signed[-1] = -3e5
        sent.append(bits.tolist())
    take = read(signed, rng)
    readings = [frame.best for frame in take.frames]
    assert [r.bits.tolist() for r in readings if r is not None] == sent
    assert {(r.protocol, r.symbol_bits) for r in readings if r is not None} == {("unknown", 2)}
    text = written(describe(take.frames, "Two bits"))
    assert text is not None
    again = read(signed, rng, (parse_sheet(text, "test"),))
    assert [f.best.bits.tolist() for f in again.frames if f.best is not None and f.best.known] == sent


def test_the_last_of_four_symbols_is_no_sync_where_it_completes_a_byte(rng: np.random.Generator) -> None:
    first = ["102010013112100023010220", "102010013112100022010220"]  # a short one ends it
    second, third = "22213300322311112221", ["3102200331330001", "0000003113110003"]
    signed = [-3e5]
    for key in zip(first, (second, second), third, strict=True):
        parts = [[d for n in part for d in (541.0 * (1 + int(n)), -541.0)][:-1] for part in key]
        frame = [5000.0, -3000.0, *parts[0], -14_000.0, *parts[1], -14_000.0, *parts[2]]
        signed += [*frame, -23_000.0, *frame, -3e5]
    readings = [frame.reading for frame in read(signed, rng).frames]
    said = ["".join(map(str, symbol_numbers(each))) for each in readings]
    assert said == [a + second + b for a, b in zip(first, third, strict=True) for _ in range(2)]
    assert {each.sections for each in readings} == {(48, 40, 32)}


@pytest.mark.parametrize(
    ("baud", "bits", "parity", "stop"), [(300, 8, "even", 2), (600, 7, "even", 1), (1200, 7, "odd", 2)]
)
def test_characters_of_a_take_have_one_framing_and_are_not_parted(
    rng: np.random.Generator, baud: int, bits: int, parity: str, stop: int
) -> None:
    sent = [[2**bits - 1, 0, *rng.integers(0, 2**bits, 4).tolist(), 2**bits - 1, 0, 9] for _ in range(6)]
    signed = [-5e5, *(part for data in sent for part in [*serial(data, baud, bits, parity, stop), -5e5])]
    frames = read(signed, rng).frames
    found = [list(frame.best.fields["bytes"]) for frame in frames if frame.best is not None]
    assert found == sent


def test_a_mark_excess_said_by_hand_holds(rng: np.random.Generator) -> None:
    """One that no receiver should have, so that it is not looked for."""
    signed = [-3e5, *distance_frame([8 * 400, -4 * 400], 400, (1, 3), [1, 0, 0, 1] * 6), -3e5]
    pulses = pulses_from_signed(record(signed, rng, jitter_us=10, excess_us=300))
    text = written(describe(read(signed, rng).frames, "By hand", Assumed(unit_us=400, excess_us=300), overrules=True))
    assert text is not None
    assert "mark_excess_us = 300" in text
    said = parse_sheet(text.replace("zero = ", "zero = [1, -1] # ").replace("one = ", "one = [1, -3] # "), "test")
    best = read_pulses(pulses, (said, *library())).frames[0].best
    assert best is not None
    assert best.protocol == "by-hand"
    assert best.bits.tolist() == [1, 0, 0, 1] * 6
    assert (best.clock.excess_us, best.clock.unit_us) == (300.0, pytest.approx(400, abs=3))


def test_sections_are_joined_whatever_unit_each_finds_for_itself(rng: np.random.Generator) -> None:
    """With much excess, 1 to 1 and 1 to 3 looks like 2 to 1 and 2 to 4 of a shorter unit in some of them."""
    right = 0
    for _ in range(4):
        frame, bits = long_frame(rng, 3, float(rng.uniform(480, 600)), (8, -4), (1, 3))
        noisy = record([-3e5, *[*frame, -4e5] * 4], rng, jitter_us=60, excess_us=140, clock=0.85)
        presses = read_pulses(pulses_from_signed(noisy), library()).presses
        right += sum(p.lead.best is not None and p.lead.best.bits.tolist() == bits for p in presses)
    assert right >= 15


def test_a_sync_mark_behind_a_fixed_period_code_is_no_bit(rng: np.random.Generator) -> None:
    for count in (20, 28, 32):
        bits = rng.integers(0, 2, count).tolist()
        frame = [d for bit in bits for d in ((1200.0, -400.0) if bit else (400.0, -1200.0))]
        with_sync, without = ([*frame, 400.0, -12_400.0] * 3, [*frame[:-1], -13_000.0] * 3)
        for signed in (with_sync, without):
            (press,) = read([-3e5, *signed], rng).presses
            assert press.lead.best is not None
            assert press.lead.best.bits.tolist() == bits


def test_a_run_in_of_equal_pulses_is_no_row_of_bits_of_a_fixed_period(rng: np.random.Generator) -> None:
    for _ in range(40):
        unit, bits = 290.0, rng.integers(0, 2, 32).tolist()
        data = [length * unit for bit in bits for length in ((2, -1) if bit else (1, -2))]
        frame = record([*[unit, -unit] * 7, unit, -8 * unit, *data[:-1]], rng, jitter_us=28, excess_us=50)
        take = read_pulses(pulses_from_signed(np.array([-3e5, *frame, -3e5])), library())
        assert [frame.reading.bits.tolist() for frame in take.frames] == [bits]


def test_a_short_mark_is_given_back_where_the_copies_have_it(rng: np.random.Generator) -> None:
    for _ in range(30):
        unit, bits = 250.0, rng.integers(0, 2, 28).tolist()
        copy = [*distance_frame([8 * unit, -4 * unit] * 2, unit, (1, 3), bits), -20_000.0]
        signed = record([-3e5, *(copy * 5)[:-1], -3e5], rng, jitter_us=28, excess_us=-60)
        take = read_pulses(pulses_from_signed(np.array(signed)), library())
        assert {frame.reading.bits.size for frame in take.frames} == {28}


def test_confidence_in_bits_falls_where_pulses_lie_between_two_lengths(rng: np.random.Generator) -> None:
    read = []
    for _ in range(150):
        unit, bits = float(rng.uniform(200, 300)), rng.integers(0, 2, 24).tolist()
        frame = record(distance_frame([8 * unit, -4 * unit], unit, (1, 2), bits), rng, jitter_us=36)
        take = read_pulses(pulses_from_signed(np.array([-3e5, *frame, -3e5])), library())
        read += [(each.reading.confidence, each.reading.bits.tolist() == bits) for each in take.frames]
    sure = [right for confidence, right in read if confidence > 0.9]
    unsure = [(confidence, right) for confidence, right in read if confidence <= 0.9]
    assert len(sure) > 50
    assert np.mean(sure) > 0.94
    assert len(unsure) > 25
    assert np.mean([right for _, right in unsure]) < 0.8


def test_copies_that_say_the_same_are_surer_than_one(rng: np.random.Generator) -> None:
    unit, bits = 250.0, rng.integers(0, 2, 24).tolist()
    copy = [*distance_frame([8 * unit, -4 * unit], unit, (1, 2), bits), -15_000.0]

    def least(copies: int) -> float:
        found = []
        for _ in range(12):
            signed = record([-3e5, *(copy * copies)[:-1], -3e5], rng, jitter_us=40)
            take = read_pulses(pulses_from_signed(np.array(signed)), library())
            found += [f.reading.confidence for f in take.frames if f.reading.bits.tolist() == bits]
        return float(np.quantile(found, 0.1))

    assert least(4) > least(1) + 0.1


@pytest.mark.parametrize("copies", [1, 2])
@pytest.mark.parametrize("code", ["pulse-distance", "pulse-width"])
def test_a_frame_that_lost_a_mark_is_believed_only_where_a_copy_shows_what_it_was(
    rng: np.random.Generator, copies: int, code: str
) -> None:
    wrong = right = 0
    for _ in range(20):
        unit, bits = float(rng.uniform(350, 600)), rng.integers(0, 2, 28).tolist()
        symbols = ((1, -1), (1, -4)) if code == "pulse-distance" else ((1, -1), (2, -1))
        pairs = [symbols[bit] for bit in bits]
        frame = [8 * unit, -4 * unit, *(length * unit for pair in pairs for length in pair), unit]
        damaged, *others = (record(frame, rng, jitter_us=20).tolist() for _ in range(copies))
        at = 2 * int(rng.integers(4, 14))
        damaged[at - 1 : at + 2] = [-sum(map(abs, damaged[at - 1 : at + 2]))]
        signed = [-3e5, *damaged, *(d for other in others for d in (-20_000.0, *other)), -3e5]
        for each in read_pulses(pulses_from_signed(np.array(signed)), library()).frames:
            said = each.reading.bits.tolist()
            right += said[: len(bits)] == bits
            wrong += said[: len(bits)] != bits and each.reading.confidence > 0.5
    assert wrong <= 6
    assert right >= 13 * (copies - 1)


def test_copies_keep_time_together_that_would_not_by_themselves() -> None:
    rng = np.random.default_rng(4)
    bits = rng.integers(0, 2, 40).tolist()
    frame = [*distance_frame([3000.0, -1500.0], 300.0, (1, 3), bits), -9_000.0]
    noisy = record(frame * 4, rng, jitter_us=70)
    found = unknown_frames(pulses_from_signed(noisy), 0)
    assert found is not None
    assert len(found.frames) == 4
    assert all(keep_time(found.frames))
    assert not all(keep_time([each])[0] for each in found.frames)


@pytest.mark.parametrize("at", [0, 1])
def test_a_section_without_a_zero_does_not_bend_what_a_zero_is(rng: np.random.Generator, at: int) -> None:
    sections = [rng.integers(0, 2, 32).tolist(), [1] * 16]
    sections = sections[::-1] if at == 0 else sections
    frame = distance_frame([6100.0, -3500.0], 683.0, (1, 2), sections[0])
    frame += [-6400.0, *distance_frame([6100.0, -3500.0], 683.0, (1, 2), sections[1])]
    take = read([-6e5, *frame, -5e5, *frame, -5e5], rng)
    draft = describe(take.frames, "Perch")
    assert draft is not None
    assert draft.sheet.alphabet == ((1.0, -1.0), (1.0, -2.0))


def test_a_long_space_before_all_symbols_is_no_symbol(rng: np.random.Generator) -> None:
    keys = ["0212222222", "2212222222", "2212222220", "2012202202"]
    signed = [-6e5]
    for key in keys:
        frame = [571.0, -5060.0, *(d for n in key for d in (571.0, -571.0 * (1 + int(n)))), 571.0]
        signed += [*frame, -24_000.0, *frame, -6e5]
    take = read(signed, rng)
    assert ["".join(map(str, symbol_numbers(press.lead.reading))) for press in take.presses] == keys


def test_the_last_of_three_symbols_is_no_sync_without_a_fixed_period(rng: np.random.Generator) -> None:
    signed = [-6e5]
    for key in ("101211202110", "112112100120", "111101201020"):
        frame = [5571.0, -660.0, *(d for n in key for d in (660.0 * (1 + int(n)), -660.0))][:-1]
        signed += [*frame, -9400.0, *frame, -6e5]
    take = read(signed, rng)
    assert [press.lead.reading.bits.size for press in take.presses] == [24] * 3
