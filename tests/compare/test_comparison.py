"""Stacks of made-up gadgets compared: what is found holds for frames that were never shown."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.compare.asking import next_shots, press_to_tell, said_in_full
from eager_tern.compare.comparison import STAGES, Comparison, compare
from eager_tern.compare.field import Field, Linear, Table
from eager_tern.compare.proof import left_out, prove
from eager_tern.compare.stack import Stack
from eager_tern.compare.writing import sheet_of
from eager_tern.protocol.checks import holds_in
from eager_tern.session.comparison_cards import cards_for_comparison
from tests.gadgets import CHECKS, Gadget, climate, sensor, switch

SHOWN = 40


def compared(gadget: Gadget, rng: np.random.Generator, rows: int = SHOWN) -> Comparison:
    bits, labels = gadget.frames(rng, rows)
    return compare(Stack(bits, labels, gadget.sections))


def field(found: Comparison, name: str) -> Field:
    return next(field for field in found.fields if field.name == name)


@pytest.mark.parametrize("check", CHECKS)
def test_checks_are_found_and_hold_for_new_frames(rng: np.random.Generator, check: str) -> None:
    gadget = climate(rng, check)
    found = compared(gadget, rng)
    new, _ = gadget.frames(rng, 30)
    holding = [c for c in found.checks if holds_in(c.check, new).all()]
    assert len(holding) == len(found.checks)
    assert bool(holding) == (check != "none")
    if check == "none":
        return
    # A wrong bit in the part that changes is noticed.
    damaged = new.copy()
    changing = rng.choice(found.stack.varying, len(new))
    damaged[np.arange(len(new)), changing] ^= 1
    noticed = ~np.all([holds_in(c.check, damaged) for c in holding], axis=0)
    assert noticed.mean() > (0.6 if check == "complements" else 0.95)


@pytest.mark.parametrize("make", [climate, sensor, switch])
def test_labels_of_new_frames_are_read_off(rng: np.random.Generator, make: object) -> None:
    right = total = 0
    for _ in range(6):
        gadget = make(rng)  # type: ignore[operator]
        found = compared(gadget, rng, 50)
        new, labels = gadget.frames(rng, 40)
        for name, values in labels.items():
            says = next((f.says(new) for f in found.fields if f.name == name), [None] * 40)
            seen = set(found.stack.labels[name])
            told = [i for i, value in enumerate(values) if value in seen and _means(found, name, labels, i)]
            total += 1
            right += sum(says[i] != values[i] for i in told) <= 1
    assert right >= 0.92 * total


def _means(found: Comparison, name: str, labels: dict, row: int) -> bool:
    """Where a mode overrides a label, its bits do not say it."""
    conditional = name == "blower" and labels.get("mode", ("",) * 99)[row] == "fan"
    return not conditional and any(f.name == name for f in found.fields)


def test_wrong_labels_and_a_damaged_frame_are_pointed_out(rng: np.random.Generator) -> None:
    gadget = climate(np.random.default_rng(12), "crc8")
    bits, labels = gadget.frames(rng, SHOWN)
    values = list(labels["mode"])
    wrong = next(i for i in range(SHOWN) if values[i] != values[0])
    values[wrong] = values[0]
    bits[30, -20] ^= 1
    found = compare(Stack(bits, labels | {"mode": tuple(values)}, gadget.sections))
    assert field(found, "mode").contradicting.tolist() in ([wrong], sorted([wrong, 30]))
    assert field(found, "mode").says(bits)[wrong] == labels["mode"][wrong]
    (check,) = found.checks
    assert np.flatnonzero(~check.holds).tolist() == [30]


def test_a_counter_read_backwards_is_a_counter(rng: np.random.Generator) -> None:
    bits = rng.integers(0, 2, (1, 32)).repeat(24, axis=0).astype(np.uint8)
    for row in range(24):
        for place in range(4):
            bits[row, 8 + place] = row >> place & 1
        bits[row, 20] = row % 2
    found = compare(Stack(bits))
    assert [(c.kind, c.positions) for c in found.counters] == [("counter", (11, 10, 9, 8)), ("toggle", (20,))]
    assert found.unexplained == ()


@pytest.mark.parametrize(("encoding", "scale"), [("binary", 0.5), ("binary", -1.0), ("gray", 1.0), ("bcd", 1.0)])
def test_numbers_of_every_kind(rng: np.random.Generator, encoding: str, scale: float) -> None:
    values = rng.integers(0, 40, SHOWN) * abs(scale) + 10
    bits = rng.integers(0, 2, (SHOWN, 8)).astype(np.uint8)
    bits = np.hstack((bits, np.zeros((SHOWN, 16), np.uint8)))
    for row, value in enumerate(values):
        raw = round((value - 10) / abs(scale)) if scale > 0 else 63 - round(value - 10)
        raw = {"gray": raw ^ raw >> 1, "bcd": int(value) // 10 * 16 + int(value) % 10}.get(encoding, raw)
        for place in range(8):
            bits[row, 9 + place] = raw >> place & 1
    found = field(compare(Stack(bits, {"degrees": tuple(values.tolist())})), "degrees")
    assert isinstance(found.map, Linear)
    assert (found.map.encoding, found.map.scale) == (encoding, scale)
    assert found.says(bits) == values.tolist()


def test_labels_rounded_on_a_display_and_signed_numbers(rng: np.random.Generator) -> None:
    tenths = rng.integers(-120, 300, 50)
    bits = np.array([[value >> place & 1 for place in range(11, -1, -1)] for value in tenths], np.uint8)
    exact = field(compare(Stack(bits, {"t": tuple((tenths / 10).tolist())})), "t")
    assert isinstance(exact.map, Linear)
    assert (exact.map.encoding, exact.map.scale, exact.map.offset) == ("signed", 0.1, 0)
    rounded = field(compare(Stack(bits, {"t": tuple(np.rint(tenths / 10).tolist())})), "t")
    assert isinstance(rounded.map, Linear)
    assert np.abs(np.array(rounded.says(bits), float) - tenths / 10).max() < 0.6


def test_what_cannot_be_told_is_not_claimed(rng: np.random.Generator) -> None:
    bits = rng.integers(0, 2, (30, 24)).astype(np.uint8)
    words = tuple(rng.choice(["a", "b", "c"], 30).tolist())
    found = compare(Stack(bits, {"mood": words, "same": (1.0,) * 30, "none": (None,) * 30}))
    assert (found.fields, found.checks) == ((), ())
    assert compare(Stack(bits[:1], {"mood": ("a",)})).fields == ()
    assert compare(Stack(np.repeat(bits[:1], 9, axis=0), {"mood": words[:9]})).unexplained == ()


def test_the_sheet_makes_frames_never_shown_and_the_proof_says_so(rng: np.random.Generator) -> None:
    made = total = 0
    for _ in range(4):
        gadget = climate(rng)
        found = compared(gadget, rng, 50)
        proof = prove(found, left_out(found.stack, 2))
        assert proof.made.mean() >= proof.predicted.mean()
        made, total = made + int(proof.predicted.sum()), total + 50
        sheet = sheet_of(found).sheet
        assert sheet.bit_count == gadget.columns
    assert made >= 0.8 * total


def test_a_table_of_numbers_comes_back_as_numbers(rng: np.random.Generator) -> None:
    codes = {17.0: 5, 18.0: 2, 19.0: 7, 20.0: 0}
    values = rng.choice(list(codes), 24)
    bits = np.array([[codes[v] >> place & 1 for place in range(3)] + [1] * 9 for v in values], np.uint8)
    found = compare(Stack(bits, {"level": tuple(values.tolist())}))
    assert isinstance(field(found, "level").map, Table)
    sheet = sheet_of(found).sheet
    assert sheet.fields[0].read(bits[0]) == values[0]
    assert sheet.fields[0].raw(19) == 7


def test_presses_that_would_settle_something_are_asked_for(rng: np.random.Generator) -> None:
    bits = np.zeros((24, 16), np.uint8)
    level = np.arange(24) % 4
    bits[:, 0], bits[:, 1] = level >> 1, level & 1
    lamp = ["off"] * 23 + ["on"]
    bits[23, 8] = 1
    labels = {"level": tuple(level.astype(float).tolist()), "lamp": tuple(lamp), "tone": ("low",) * 24}
    asked = next_shots(compare(Stack(bits, labels)))
    assert asked[0].labels == {"lamp": "on"}
    assert "lamp" in asked[0].why
    assert "tone" in asked[0].why
    assert not any("level" in ask.why for ask in asked)
    assert next_shots(compare(Stack(bits))) == []


def test_of_a_few_presses_anything_new_tells_most(rng: np.random.Generator) -> None:
    level = rng.permutation(8)[:3]
    bits = np.zeros((3, 16), np.uint8)
    bits[:, 4:7] = level[:, None] >> np.arange(2, -1, -1) & 1
    labels = {"level": tuple(map(float, level)), "mode": ("dry", "dry", "cool")}
    asked = next_shots(compare(Stack(bits, labels)))
    assert 3 <= len(asked) <= 6
    assert all(ask.labels == {} for ask in asked)
    assert "level" in asked[0].why
    assert "mode" in asked[0].why
    full = said_in_full(asked, compare(Stack(bits, labels)).stack)
    assert all(each.keys() == labels.keys() for each in full)
    assert len({tuple(each.values()) for each in full}) > 1


def test_a_press_that_said_otherwise_is_asked_for_again(rng: np.random.Generator) -> None:
    """In one mode the level means nothing: that is asked before it is taken for a slip."""
    level, mode = rng.integers(0, 8, 40), np.array(["dry", "cool"] * 19 + ["dry", "fan"])
    bits = np.zeros((40, 16), np.uint8)
    sent = np.where(mode == "fan", 7 - level, level)
    bits[:, 4:7] = sent[:, None] >> np.arange(2, -1, -1) & 1
    bits[:, 10:12] = np.array([["dry", "cool", "fan"].index(m) for m in mode])[:, None] >> np.array([1, 0]) & 1
    found = compare(Stack(bits, {"level": tuple(map(float, level)), "mode": tuple(mode.tolist())}))
    assert any(ask.labels == {"mode": "fan"} and "said otherwise" in ask.why for ask in next_shots(found))


def test_what_cannot_be_told_apart_is_listed_with_the_press_that_would(rng: np.random.Generator) -> None:
    level = np.array([*range(8), *rng.integers(0, 8, 16)])
    bits = np.zeros((24, 24), np.uint8)
    bits[:, 4:7] = level[:, None] >> np.arange(2, -1, -1) & 1
    values = tuple(level.astype(float).tolist())
    alone = compare(Stack(bits, {"level": values, "water": values}))
    assert "water follows them as well: press level" in cards_for_comparison(alone, [""] * 24)[0].text
    bits[:, 17:21] = (level + 3)[:, None] >> np.arange(3, -1, -1) & 1
    found = compare(Stack(bits, {"level": values, "water": values}))
    tell = press_to_tell(field(found, "level"), found)
    assert set(tell) == {"level", "water"}
    assert tell["level"] != tell["water"]
    assert any(ask.labels == tell for ask in next_shots(found))
    cards = {card.title: card.text for card in cards_for_comparison(found, [""] * 24)}
    assert "explain it as well: press level" in cards["a · level"]
    assert "explain it as well." not in cards["a · level"]
    other = compare(Stack(bits, {"level": values, "water": tuple(rng.permutation(values).tolist())}))
    assert press_to_tell(field(other, "level"), other) == {}


def test_each_stage_of_the_search_is_told_once(rng: np.random.Generator) -> None:
    bits, labels = climate(rng, "sum").frames(rng, 12)
    told: list[str] = []
    compare(Stack(bits, labels), told.append)
    assert tuple(told) == STAGES
