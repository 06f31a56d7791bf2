"""A thermostat whose presses vary one thing at a time, as somebody in front of it would press them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from eager_tern.compare.comparison import Comparison, compare, settled
from eager_tern.compare.field import Linear
from eager_tern.compare.proof import made_bits
from eager_tern.compare.stack import Stack
from eager_tern.compare.writing import sheet_of
from eager_tern.protocol.checks import evaluate
from eager_tern.protocol.reading import field_values
from eager_tern.reports.comparison import describe_comparison
from tests.gadgets import Value

MODES = {"auto": 1, "cool": 4, "dry": 2, "fan": 3, "heat": 6}
FANS = {"auto": 0, "low": 5, "mid": 2, "high": 1}
USUAL: dict[str, Value] = {"mode": "cool", "fan": "auto", "temperature": 24, "power": "on", "swing": "off"}
DEGREES = range(16, 31)


def frame(chosen: dict[str, Value], check: Callable[[list[int]], int], forced: bool) -> list[int]:
    """Degrees Fahrenheit are sent; in the mode "fan" the same ones always, if ``forced``."""
    celsius = 25 if forced and chosen["mode"] == "fan" else int(str(chosen["temperature"]))
    data = [
        0xA3, 0x10 * (chosen["power"] == "on"), MODES[str(chosen["mode"])] | FANS[str(chosen["fan"])] << 4,
        round(celsius * 1.8 + 32), 0x04 * (chosen["swing"] == "on"),
    ]  # fmt: skip
    return [byte >> at & 1 for byte in (*data, check(data) & 255) for at in range(8)]


def presses(times: int) -> list[dict[str, Value]]:
    """Each degree once, each word a few times."""
    plan = [USUAL, *({**USUAL, "temperature": degree} for degree in DEGREES), USUAL]
    for name, words in (("mode", MODES), ("fan", FANS), ("power", ["off"]), ("swing", ["on"])):
        plan += [{**USUAL, name: word} for word in words for _ in range(times)]
    return [plan[at] for at in np.random.default_rng(4).permutation(len(plan))]


def compared(plan: list[dict[str, Value]], check: Callable[[list[int]], int], forced: bool = False) -> Comparison:
    bits = np.array([frame(chosen, check, forced) for chosen in plan], np.uint8)
    return compare(Stack(bits, {name: tuple(chosen[name] for chosen in plan) for name in USUAL}))


@pytest.mark.parametrize("forced", [False, True])
def test_degrees_that_are_sent_as_others(forced: bool) -> None:
    """A line in longer steps would say every second degree, and the bits below it would stay unexplained."""
    found = compared(presses(3), sum, forced)
    (degrees,) = [field for field in found.fields if field.name == "temperature"]
    assert isinstance(degrees.map, Linear)
    assert (degrees.positions, degrees.map.scale, degrees.map.decimals) == (tuple(range(30, 23, -1)), 0.555555556, 0)
    assert dict(degrees.when) == ({"mode": ("auto", "cool", "dry", "heat")} if forced else {})
    assert found.unexplained == ()
    # What it may as well be takes no bits of the mode below.
    assert all(min(other.positions) > 20 for other in degrees.also)
    sheet = sheet_of(settled(found)).sheet
    for degree in DEGREES:
        chosen = {**USUAL, "temperature": degree, "power": "off", "swing": "on", "fan": "high"}
        truth = np.array(frame(chosen, sum, forced), np.uint8)
        assert field_values(sheet, truth) == chosen
        assert np.array_equal(made_bits(sheet, chosen, {}), truth)


def test_degrees_beyond_a_border_that_was_never_crossed() -> None:
    """From 18 °C, 64 °F, on the highest bit stays; where degrees Fahrenheit begin, it is one of theirs."""
    warm = [chosen for chosen in presses(3) if int(str(chosen["temperature"])) >= 18]
    (degrees,) = [field for field in compared(warm, sum).fields if field.name == "temperature"]
    assert degrees.positions == tuple(range(30, 23, -1))
    cold = np.array([frame({**USUAL, "temperature": degree}, sum, forced=False) for degree in (16, 17)], np.uint8)
    assert degrees.says(cold) == [16, 17]


def test_degrees_of_few_presses_as_they_come() -> None:
    """A line in longer steps holds but for the presses of one mode; the true one only under a condition."""
    rng = np.random.default_rng(2)
    names = {"mode": list(MODES), "fan": list(FANS), "power": ["on", "off"], "swing": ["on", "off"]}
    plan = [
        {**{name: str(rng.choice(words)) for name, words in names.items()}, "temperature": int(rng.choice(DEGREES))}
        for _ in range(24)
    ]
    found = compared(plan, sum, forced=True)
    (degrees,) = [field for field in found.fields if field.name == "temperature"]
    assert degrees.positions == tuple(range(30, 23, -1))
    assert degrees.holds.all()
    assert "mode" in degrees.when


def test_the_number_of_ones() -> None:
    """Few bits of it change, of which one is nearly a parity of some others."""
    found = compared(presses(2), lambda data: sum(byte.bit_count() for byte in data))
    assert [(each.kind, each.positions, each.holds.all()) for each in found.checks] == [
        ("ones", tuple(range(47, 39, -1)), True)
    ]
    assert found.unexplained == ()


def test_a_remainder_is_no_sum_with_a_seed() -> None:
    """All sums lie between 255 and 510: a seed of 1 would say the same of them, and another sum of others."""
    found = compared(presses(3), lambda data: sum(data) % 255)
    (check,) = found.checks
    assert check.check.init == 0
    told = describe_comparison(found, [str(row) for row in range(found.stack.rows)])
    assert any("are the sum of bits 0–39, modulo 255." in words for words in told)
    sheet = sheet_of(settled(found)).sheet
    other = np.array(frame(USUAL, lambda data: sum(data) % 255, forced=False), np.uint8)
    other[8:16] = 1  # beyond what was pressed, and a sum over 510
    other[-8:] = [sum(np.packbits(other[:-8], bitorder="little").tolist()) % 255 >> at & 1 for at in range(8)]
    assert all(evaluate(check, other).ok for check in sheet.checks)


@pytest.mark.parametrize("check", [sum, lambda data: 0x5C], ids=["sum", "none"])
def test_what_was_pressed_once_is_no_part_of_the_header(check: Callable[[list[int]], int]) -> None:
    """One press without power makes its bit possible, not proven: frames without power are no damaged ones."""
    found = settled(compared(presses(1), check))
    sheet = sheet_of(found).sheet
    off = np.array(frame({**USUAL, "power": "off"}, check, forced=False), np.uint8)
    assert "power" not in field_values(sheet, off)
    assert all(evaluate(check, off).ok for check in sheet.checks)
    (header,) = [check for check in sheet.checks if check.kind == "constant"]
    assert header.at.width == 8


@pytest.mark.parametrize(
    ("name", "labels", "said"),
    [
        ("key", ("up", "down", "left", "right"), "Each key was pressed once"),
        ("clock", ("7:30", "8:15", "7:30", "12:00"), "label its hours and minutes apart"),
        ("level", (1.0, 2.0, 3.0, 5.0), "No bits follow level in 4 presses"),
        ("mode", ("dry", "dry", "dry", "dry"), "mode is the same in every press"),
    ],
)
def test_a_label_that_no_bits_follow_is_told_with_what_to_do(name: str, labels: tuple[Value, ...], said: str) -> None:
    bits = np.random.default_rng(3).integers(0, 2, (4, 24)).astype(np.uint8)
    told = describe_comparison(compare(Stack(bits, {name: labels})), ["", "", "", ""])
    assert any(said in words for words in told)


@pytest.mark.parametrize("sign", [1, -1])
def test_a_byte_whose_upper_half_never_changed(sign: int) -> None:
    """Words of the lowest bits alone: half of the last byte stays, and follows from the plain sum of bytes too."""
    words = {"0": 0, "1": 1, "2": 2, "3": 3}
    rng = np.random.default_rng(6)
    chosen = [(str(rng.choice(list(words))), str(rng.choice(list(words)))) for _ in range(24)]
    data = [[0x31, 0x40 | words[a], 0x02, words[b]] for a, b in chosen]
    rows = [[*row, sign * sum(row) & 255] for row in data]
    bits = np.array([[byte >> at & 1 for byte in row for at in range(8)] for row in rows], np.uint8)
    found = compare(Stack(bits, {"a": tuple(a for a, _ in chosen), "b": tuple(b for _, b in chosen)}))
    (check,) = found.checks
    assert (check.kind, check.check.at.width, check.covers, check.check.negate) == ("sum", 8, ((0, 31),), sign < 0)
    # Only the half that changes bears witness.
    assert check.chance > -8 * np.log10(2) * len({row[-1] for row in rows}) / 2
