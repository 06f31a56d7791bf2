"""Gadgets laid out as their makers lay them: what is found in a take still holds a month later."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.compare.asking import next_shots
from eager_tern.compare.comparison import Comparison, accepting, compare, is_possible, named, settled
from eager_tern.compare.field import Linear
from eager_tern.compare.proof import is_settled, made_bits, unproved
from eager_tern.compare.stack import Stack
from eager_tern.compare.wording import all_findings
from eager_tern.compare.writing import by_itself, field_names, sheet_of
from eager_tern.errors import InputError
from eager_tern.protocol.making import make_bits
from eager_tern.protocol.reading import field_values
from tests.gadgets import same_value
from tests.makers import KINDS, Made, meter, rain_gauge, roller, stepper, take, thermometer

LATER = 20


def found_in(gadget: Made, rng: np.random.Generator, rows: int = 40, known: float = 1.0) -> Comparison:
    bits, labels = take(gadget, rng, rows, known)
    return compare(Stack(bits, labels, gadget.sections))


def later(gadget: Made, found: Comparison) -> tuple[int, int]:
    """Of frames a month later, how many are read right and how many made bit for bit from their labels."""
    sheet, names, own_bits = sheet_of(settled(found)).sheet, field_names(found), by_itself(settled(found))
    read = made = 0
    for number in range(LATER):
        values, own = gadget.draw(60 + number, True)
        frame = np.array(gadget.write(values, own), np.uint8)
        said = field_values(sheet, frame)
        read += all(same_value(said.get(names[name]), value) for name, value in values.items())
        given = {name: int("".join(map(str, frame[list(run)])), 2) for name, run in own_bits.items()}
        bits = made_bits(sheet, {names[name]: value for name, value in values.items()}, given)
        made += bits is not None and bool((bits == frame).all())
    return read, made


@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: kind.__name__)
@pytest.mark.parametrize("check", ["crc8", "nibbles-neg", "xor4", "sum-less-id"])
def test_what_is_found_holds_a_month_later(kind: type[Made], check: str) -> None:
    rng = np.random.default_rng([3, len(check)])
    gadget = kind(rng, check)
    assert later(gadget, found_in(gadget, rng, 60)) == (LATER, LATER)


@pytest.mark.parametrize("check", ["ones", "rotating", "sum-rotating", "mod255", "crc4", "sum", "nibbles", "crc16"])
def test_unusual_checks_are_found(check: str) -> None:
    rng = np.random.default_rng(5)
    gadget = thermometer(rng, check)
    found = found_in(gadget, rng, 60)
    assert any(set(each.positions) == set(gadget.check) for each in found.checks)
    assert later(gadget, found)[1] == LATER


def test_a_count_that_stands_high_is_one_number_without_an_offset() -> None:
    """Where a border is crossed, its upper bits turn together: as scattered bits it would read wrong later."""
    rng = np.random.default_rng(12)
    for gadget in (rain_gauge(rng, "crc8"), meter(rng, "sum")):
        found = found_in(gadget, rng, 30, 0.7)
        for field in found.fields:
            assert isinstance(field.map, Linear)
            assert field.map.offset == 0
            assert set(field.positions[-8:]) <= set(gadget.fields[field.name])
    assert any("never changed" in each for each in unproved(found))


@pytest.mark.parametrize("stands_at", [3_000, 40_000, 65_000])
def test_a_count_under_a_byte_of_zeros_has_room_to_grow(stands_at: int) -> None:
    """Nearly full, 16 bits are rather a part of 24; far from that, nothing says so."""
    rng = np.random.default_rng(stands_at)
    counts = stands_at + np.cumsum(rng.integers(1, 9, 30))
    data = np.column_stack((np.full(30, 0x5A), np.zeros(30, int), counts >> 8, counts & 255))
    bits = np.unpackbits(data.astype(np.uint8), axis=1)
    (field,) = compare(Stack(bits, {"energy": tuple(map(float, counts))}, (32,))).fields
    assert len(field.positions) == (16 if stands_at < 16_384 else 24)


def test_an_id_that_a_new_battery_changed_is_made_as_it_is_now() -> None:
    rng = np.random.default_rng(4)
    level = rng.integers(0, 100, 40)
    data = np.column_stack((np.where(np.arange(40) < 30, 0x31, 0xC4), level, np.full(40, 7)))
    found = compare(Stack(np.unpackbits(data.astype(np.uint8), axis=1), {"level": tuple(map(float, level))}, (24,)))
    made = made_bits(sheet_of(settled(found)).sheet, {"level": 3.0})
    assert made is not None
    assert np.packbits(made).tolist() == [0xC4, 3, 7]


def test_a_value_beyond_what_was_seen_is_read_with_a_doubt() -> None:
    rng = np.random.default_rng(1)
    gadget = meter(rng, "crc8")
    sheet = sheet_of(found_in(gadget, rng)).sheet
    energy = next(field for field in sheet.fields if field.name == "energy")
    assert energy.seen is not None
    assert not energy.is_beyond(energy.seen[0])
    assert energy.is_beyond(energy.seen[1] + 1)


def test_a_rolling_code_is_called_one_and_not_made_up() -> None:
    rng = np.random.default_rng(2)
    gadget = roller(rng, "xor")
    found = found_in(gadget, rng, 24)
    (code,) = [each for each in found.counters if each.kind == "rolling"]
    assert set(code.positions) == set(gadget.moving["rolling"])
    assert not is_possible(code)
    told = next(each for each in all_findings(found, [""] * 24) if each.title == "A rolling code")
    assert "the xor follows them" in told.claim
    sheet = sheet_of(found).sheet
    with pytest.raises(InputError, match="new with each press"):
        make_bits(sheet, {"button": "open"})
    assert make_bits(sheet, {"button": "open", "rolling": 5}).size == gadget.columns


def test_random_settings_are_no_rolling_code(rng: np.random.Generator) -> None:
    """All of two bytes that is set anew with every press, but as it is set again when that is said again."""
    set_to = rng.integers(0, 1 << 16, 12)
    bits = (np.tile(set_to, 3)[:, None] >> np.arange(16) & 1).astype(np.uint8)
    assert not [each for each in compare(Stack(bits)).counters if each.kind == "rolling"]


@pytest.mark.parametrize("often", [1.0, 0.4])
def test_counters_that_step_always_or_now_and_then(often: float) -> None:
    for seed in range(20):
        rng = np.random.default_rng([8, seed])
        gadget = stepper(rng, "crc8")
        if f", {often}," in gadget.name:
            found = found_in(gadget, rng, 60)
            (counter,) = [each for each in found.counters if each.kind in ("counter", "toggle")]
            assert set(counter.positions) >= set(gadget.moving["counter"]) & set(found.stack.varying.tolist())
            return
    pytest.fail("no gadget like this")


def test_what_went_up_with_every_press_is_only_possible() -> None:
    """The bits may count by themselves: it is said, asked for once more, and kept out of the sheet until accepted."""
    bits = (np.arange(16)[:, None] >> np.arange(7, -1, -1) & 1).astype(np.uint8)
    found = compare(Stack(bits, {"level": tuple(map(float, range(16)))}))
    (field,) = found.fields
    assert is_possible(field)
    assert not settled(found).fields
    assert not sheet_of(settled(found)).sheet.fields
    assert next_shots(found)[0].again
    assert settled(found, {accepting(named(field))}).fields == (field,)
    shuffled = np.random.default_rng(1).permutation(16)
    sure = compare(Stack(bits[shuffled], {"level": tuple(shuffled.astype(float).tolist())}))
    assert not is_possible(sure.fields[0])


@pytest.mark.parametrize("kind", ["shuffled", "walk", "steps", "block", "flag"])
def test_labels_that_the_bits_know_nothing_of_are_not_proven(kind: str) -> None:
    for seed in range(5):
        rng = np.random.default_rng([77, seed])
        gadget = KINDS[seed % len(KINDS)](rng, "sum")
        rows = int(rng.choice([6, 10, 16, 30]))
        bits, labels = take(gadget, rng, rows)
        other = {
            "shuffled": rng.permutation(np.array(next(iter(labels.values())), object)),
            "walk": np.cumsum(rng.integers(-1, 2, rows)).astype(float), "steps": np.arange(rows, dtype=float),
            "block": np.array(["a", "b", "c"], object)[np.arange(rows) * 3 // rows],
            "flag": (np.arange(rows) >= rng.integers(1, rows)).astype(float),
        }[kind]  # fmt: skip
        found = compare(Stack(bits, {"other": tuple(other.tolist())}, gadget.sections))
        assert not settled(found).fields


def test_what_was_set_once_is_possible_where_nothing_else_accounts_for_a_bit() -> None:
    """A battery that was low once: some bit or other turns with it anyway, but all others are told by then."""
    rng = np.random.default_rng(11)
    rows = 12
    levels, low = rng.permutation(rows) * 20, np.arange(rows) == 8
    bits = np.zeros((rows, 24), np.uint8)
    bits[:, 8:16] = levels[:, None] >> np.arange(7, -1, -1) & 1
    bits[:, 4] = low
    labels = {"level": tuple(levels.astype(float).tolist()), "battery": tuple(np.where(low, "low", "ok").tolist())}
    found = compare(Stack(bits, labels))
    battery = next(field for field in found.fields if field.name == "battery")
    assert battery.positions == (4,)
    assert is_possible(battery)
    assert "battery" not in {field.name for field in settled(found).fields}
    (card,) = [each for each in all_findings(found, [""] * rows) if each.title.endswith("battery")]
    assert "Press battery low once more to settle it." in card.text
    bits[3, 4] = 1
    assert "battery: not found" in {each.title for each in all_findings(compare(Stack(bits, labels)), [""] * rows)}


def test_every_description_that_fits_is_kept_with_its_odds() -> None:
    rng = np.random.default_rng([0, 4])
    found = found_in(rain_gauge(rng, "crc8"), rng, 30)
    (rain,) = found.fields
    assert rain.odds == sorted(rain.odds, reverse=True)
    assert sum(rain.odds) == pytest.approx(1)
    for each in rain.also:
        assert each.says(found.stack.bits) == pytest.approx(rain.says(found.stack.bits))
    (card,) = [each for each in all_findings(found, [""] * 30) if "rain" in each.title]
    assert "It may as well be" in card.text


def test_where_bits_are_unexplained_settings_are_asked_for_together(rng: np.random.Generator) -> None:
    """Nothing is said to be settled before all bits are accounted for and all that could be seen was."""
    one, other = rng.integers(0, 2, 12), rng.integers(0, 4, 12)
    bits = np.zeros((12, 16), np.uint8)
    bits[:, 3], bits[:, 6:8] = one, other[:, None] >> np.array([1, 0]) & 1
    labels = {"lamp": tuple(one.astype(float).tolist()), "level": tuple(other.astype(float).tolist())}
    assert is_settled(compare(Stack(bits, labels)))
    bits[:, 12] = rng.integers(0, 2, 12)
    open_still = compare(Stack(bits, labels))
    assert not is_settled(open_still)
    assert any("nothing accounts for them" in ask.why for ask in next_shots(open_still))
    assert not is_settled(compare(Stack(bits)))
