"""Gadgets that say things otherwise than remotes do are read and made as well."""

from __future__ import annotations

import numpy as np
import pytest
from msgspec.structs import replace

from eager_tern.compare.asking import press_to_tell
from eager_tern.compare.comparison import compare, settled
from eager_tern.compare.field import Linear, Table
from eager_tern.compare.seeded import find_seeded
from eager_tern.compare.stack import Stack
from eager_tern.compare.writing import sheet_of
from eager_tern.protocol.checks import evaluate
from eager_tern.protocol.making import make_bits
from eager_tern.protocol.reading import field_values
from tests.compare.test_setters import LATER, caught, later
from tests.messages import (
    Bath,
    Clock,
    Feeder,
    Guard,
    Lantern,
    Mast,
    Meter,
    Panel,
    Sender,
    Shutters,
    Slats,
    Station,
    Words,
)

GADGETS = 2  # of each kind


@pytest.mark.parametrize("mistakes", [False, True])
@pytest.mark.parametrize("kind", [Station, Panel, Clock, Shutters, Feeder, Bath, Meter])
def test_presses_never_seen_are_read_and_made(kind: type[Sender], mistakes: bool) -> None:
    rng = np.random.default_rng([31, mistakes, 0])
    gadget = kind(rng)
    assert later(gadget, caught(gadget, rng, 40, 2 * mistakes, mistakes)) == (LATER, LATER, 0)


@pytest.mark.parametrize("kind", [Words, Guard])
def test_few_bits_are_enough_for_a_check_where_checks_usually_are(kind: type[Sender]) -> None:
    """Words bear each other's parity out; a CRC of four bits behind all that it is of is what one tries first."""
    for number in range(GADGETS):
        rng = np.random.default_rng([14, number])
        gadget = kind(rng)
        rows = 20 if kind is Words else 40
        found = caught(gadget, rng, rows)
        assert later(gadget, found) == (LATER, LATER, 0)
        frame = gadget.frame(gadget.draw(), 0)
        checks = sheet_of(settled(found)).sheet.checks
        for at in range(frame.size):
            frame[at] ^= 1
            assert not all(evaluate(check, frame).ok for check in checks)
            frame[at] ^= 1


def test_where_all_else_is_told_few_presses_are_enough_for_a_bit() -> None:
    for number in range(6):
        rng = np.random.default_rng([16, number])
        found = settled(caught(Slats(rng), rng, 16))
        assert [field.name for field in found.fields] == ["command", "position", "tilt", "speed"]


def test_a_mast_whose_messages_take_turns() -> None:
    """The sum of a message goes along with what is counted in it; a step of 0.4 is no tenth, that could freeze."""
    for number in (0, 2, 6, 8):
        mast = Mast(np.random.default_rng([18, number]))
        found = caught(mast, np.random.default_rng(number), 45)
        read, _, failing = later(mast, found)
        assert (read, failing, [check.kind for check in found.checks]) == (LATER, 0, ["sum"])


def test_messages_that_take_turns_say_of_which_kind_they_are(rng: np.random.Generator) -> None:
    """A bit that turns with each press could be a toggle; but nothing else tells which of its fields a frame has."""
    for number in range(4):
        station = Station(rng)
        said = []
        while len(said) < 40:
            values = station.draw()
            said += [values] if values["kind"] == ("air", "wind")[len(said) % 2] else []
        bits = np.array([station.frame(values, number) for values in said])
        found = compare(Stack(bits, {name: tuple(values[name] for values in said) for name in said[0]}))
        sheet = sheet_of(settled(found)).sheet
        for _ in range(20):
            values = station.draw()
            read = field_values(sheet, station.frame(values, 0))
            assert read == {name: value for name, value in values.items() if value is not None}


def test_fields_in_the_same_bits_are_left_out_of_a_sheet_that_cannot_tell_them_apart(rng: np.random.Generator) -> None:
    found = caught(Station(rng), rng, 40)
    unsure = replace(found, fields=tuple(replace(f, chance=0.0) if f.name == "kind" else f for f in found.fields))
    left = {field.name for field in settled(unsure).fields}
    assert left.isdisjoint({"kind", "temperature", "speed"})


def test_half_a_degree_that_is_sent_apart_was_not_rounded(rng: np.random.Generator) -> None:
    """31 − n and a half beside it: no line of these bits, but a table of all that they can say."""
    halves = rng.integers(0, 31, 24)
    rows = [[0x88, int(rng.integers(256)), (31 - 16 - half // 2) << 4 | int(half % 2) << 3 | 5] for half in halves]
    bits = np.unpackbits(np.array(rows, np.uint8), axis=1)
    (field,) = settled(compare(Stack(bits, {"temperature": tuple((16 + halves / 2).tolist())}))).fields
    assert isinstance(field.map, Table)
    assert {field.map.words[(31 - 16 - half // 2) << 1 | half % 2] - half / 2 for half in range(32)} == {16.0}


def test_a_sign_beside_a_magnitude(rng: np.random.Generator) -> None:
    """Most numbers are pressed never, and are in the table."""
    steps = rng.permutation(np.arange(-31, 32))[:16]
    rows = [[0x42, int(rng.integers(256)), int(step < 0) << 5 | abs(int(step))] for step in steps]
    bits = np.unpackbits(np.array(rows, np.uint8), axis=1)
    (field,) = settled(compare(Stack(bits, {"steer": tuple((2.0 * steps).tolist())}))).fields
    assert isinstance(field.map, Table)
    assert field.positions == tuple(range(18, 24))
    assert all(field.map.words[(step < 0) << 5 | abs(step)] == 2 * step for step in range(-31, 32))


def test_one_damaged_frame_hides_no_digest() -> None:
    """A key turned in a shift register and exclusive-ored for each 1: some presses are the same, one frame is not."""
    rng = np.random.default_rng(9)
    data = rng.integers(0, 2, (44, 28)).astype(np.uint8)
    data[20:24] = data[3]
    keys = rng.integers(1, 256, 28)
    digests = [int(np.bitwise_xor.reduce(keys[row == 1], initial=0x35)) for row in data]
    bits = np.concatenate([data, np.array(digests)[:, None] >> np.arange(7, -1, -1) & 1], axis=1).astype(np.uint8)
    bits[31, 5] ^= 1
    (digest,) = [each for each in settled(compare(Stack(bits))).checks if each.kind == "linear"]
    assert np.flatnonzero(~digest.holds).tolist() == [31]


def test_a_word_pressed_once_keeps_its_number_beside_a_slip(rng: np.random.Generator) -> None:
    """Seven words, one of which was set once, and once more by mistake for another."""
    numbers = np.concatenate([np.tile(np.arange(6), 6), [6]])
    rows = [[0x31, int(rng.integers(256)), number << 5 | 3] for number in numbers.tolist()]
    bits = np.unpackbits(np.array(rows, np.uint8), axis=1)
    words = [f"scene {number}" for number in numbers.tolist()]
    words[7] = "scene 6"
    (field,) = settled(compare(Stack(bits, {"scene": tuple(words)}))).fields
    assert isinstance(field.map, Table)
    assert field.contradicting.tolist() == [7]


def test_a_count_has_room_in_a_nibble_that_was_never_set(rng: np.random.Generator) -> None:
    counts = 150 + np.cumsum(rng.integers(0, 3, 40))
    rows = [[0x51, int(rng.integers(16)) << 4, count] for count in counts.tolist()]
    bits = np.unpackbits(np.array(rows, np.uint8), axis=1)
    (field,) = settled(compare(Stack(bits, {"rain": tuple((0.25 * counts).tolist())}))).fields
    assert field.positions == tuple(range(12, 24))


def test_a_line_found_by_trying_all_says_no_more_than_the_order_of_the_presses(rng: np.random.Generator) -> None:
    """Labels that rise with every press, over bits that do: by any line, it is only possible."""
    bits = (np.arange(30)[:, None] * 3 + 7 >> np.arange(7, -1, -1) & 1).astype(np.uint8)
    found = compare(Stack(bits, {"level": tuple((0.7 * np.arange(30)).tolist())}))
    assert not settled(found).fields


def test_a_byte_above_what_counts_is_no_part_of_the_header() -> None:
    rng = np.random.default_rng(15)
    counts = 0x13A0 + np.arange(40)
    rows = [[0xAC, 0x35, count >> 8, count & 255, int(rng.integers(256))] for count in counts.tolist()]
    bits = np.unpackbits(np.array(rows, np.uint8), axis=1)
    header = next(c for c in sheet_of(settled(compare(Stack(bits, {})))).sheet.checks if c.name == "header")
    assert sorted(header.at.index.tolist()) == list(range(16))


def test_a_check_begins_with_a_number_for_each_kind_of_message() -> None:
    rng = np.random.default_rng(5)
    station = Station(rng)
    (check,) = caught(station, rng, 40).checks
    assert sorted(check.check.seeds.values()) == sorted(station.seeds)
    assert check.check.by is not None
    assert check.check.by.width == 4


def test_what_one_message_says_is_not_read_in_the_other() -> None:
    rng = np.random.default_rng(6)
    station = Station(rng)
    found = caught(station, rng, 40)
    assert all(not press_to_tell(field, found) for field in found.fields)  # no press has both
    sheet = sheet_of(settled(found)).sheet
    for _ in range(LATER):
        values = station.draw()
        said = field_values(sheet, station.frame(values, 0))
        assert said.keys() == {name for name, value in values.items() if value is not None}


def test_a_label_left_out_now_and_then_is_no_condition() -> None:
    rng = np.random.default_rng(7)
    clock = Clock(rng)
    presses = [clock.draw() for _ in range(40)]
    labels = {name: tuple(p[name] if rng.random() < 0.5 else None for p in presses) for name in presses[0]}
    labels["season"] = tuple(rng.choice(["winter", "summer"], 40).tolist())
    found = compare(Stack(np.array([clock.frame(p, 0) for p in presses]), labels))
    assert all(not field.when for field in found.fields)


def test_seeds_are_not_claimed_where_there_is_no_check() -> None:
    for number in range(60):
        rng = np.random.default_rng([8, number])
        bits = rng.integers(0, 2, (40, 40), dtype=np.uint8)
        bits[:, 8:12] = np.where(rng.random((40, 1)) < 0.5, [[0, 0, 0, 1]], [[0, 0, 1, 0]])
        stack = Stack(bits, {})
        assert find_seeded(stack, stack.varies, []) == []


def test_an_hour_in_six_bits_is_a_decimal_number() -> None:
    rng = np.random.default_rng(9)
    clock = Clock(rng)
    hour = next(field for field in caught(clock, rng, 40).fields if field.name == "hour")
    assert len(hour.positions) == 6
    assert hour.map == Linear(1, 0, "bcd")


@pytest.mark.parametrize("mistakes", [False, True])
def test_what_is_rounded_is_read_as_near_as_it_was_sent(mistakes: bool) -> None:
    """A per cent is said by two or three numbers of 255, and comes back whole; a hue by fewer than there are."""
    for number in range(GADGETS):
        rng = np.random.default_rng([12, mistakes, number])
        lantern = Lantern(rng)
        sheet = sheet_of(settled(caught(lantern, rng, 40, 2 * mistakes, mistakes))).sheet
        for _ in range(LATER):
            values = lantern.draw()
            frame = lantern.frame(values, 0)
            said = field_values(sheet, frame)
            assert (said["light"], said["on"]) == (values["light"], values["on"])
            assert abs(float(str(said["hue"])) - float(str(values["hue"]))) <= 1
            assert field_values(sheet, make_bits(sheet, said)) == said


def test_labels_finer_than_what_is_sent_are_a_number_in_steps() -> None:
    rng = np.random.default_rng(13)
    light = rng.integers(0, 101, 40)
    bits = np.zeros((40, 24), np.uint8)
    bits[:, 8:13] = np.rint(light * 31 / 100).astype(int)[:, None] >> np.arange(4, -1, -1) & 1
    bits[:, 16:24] = rng.integers(0, 2, (40, 8))
    (field,) = compare(Stack(bits, {"light": tuple(light.tolist())})).fields
    assert field.positions == (8, 9, 10, 11, 12)
    assert field.map == Linear(round(100 / 31, 9), 0, "binary", 0)
