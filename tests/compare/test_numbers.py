"""Fields found bit by bit: wherever they stand, in whichever order, whatever the offset."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from eager_tern.compare.comparison import compare
from eager_tern.compare.counters import find_counters, find_ids
from eager_tern.compare.field import Linear
from eager_tern.compare.fields import find_fields
from eager_tern.compare.number import decoded
from eager_tern.compare.numbers import find_number
from eager_tern.compare.stack import Stack, numbers
from eager_tern.compare.words import find_words

COLUMNS = 40


def written(rng: np.random.Generator, raw: np.ndarray, places: list[int]) -> np.ndarray:
    """Random columns, with numbers at some places, the most significant first."""
    bits = rng.integers(0, 2, (len(raw), COLUMNS)).astype(np.uint8)
    for shift, place in enumerate(reversed(places)):
        bits[:, place] = raw >> shift & 1
    return bits


@given(
    width=st.integers(3, 8), first=st.integers(0, 28), turned=st.booleans(), low=st.integers(-30, 200),
    down=st.booleans(), seed=st.integers(0, 1 << 16),
)  # fmt: skip
def test_any_linear_field_is_found(width: int, first: int, turned: bool, low: int, down: bool, seed: int) -> None:
    rng = np.random.default_rng(seed)
    raw = rng.integers(0, 1 << width, 60)
    assume(len({raw.min(), raw.max()} & {0, (1 << width) - 1}) == 2)
    places = list(range(first, first + width))[:: -1 if turned else 1]
    values = (low - raw if down else low + raw).astype(float)
    bits = written(rng, raw, places)
    best = find_number(bits, np.arange(COLUMNS), values, 0)[0]
    assert best.holds.all()
    assert best.positions == tuple(places)
    assert best.scale == (-1 if down else 1)
    assert best.chance < -20


@given(split=st.integers(1, 5), seed=st.integers(0, 1 << 16))
def test_a_field_in_two_pieces_is_found(split: int, seed: int) -> None:
    rng = np.random.default_rng(seed)
    raw = rng.integers(0, 64, 60)
    places = [*range(4, 4 + split), *range(20, 26 - split)]
    best = find_number(written(rng, raw, places), np.arange(COLUMNS), raw + 100.0, 0)[0]
    assert best.positions == tuple(places)
    assert best.offset == 100


def test_a_number_with_a_step_of_its_own_is_on_a_line(rng: np.random.Generator) -> None:
    raw = rng.integers(0, 200, 50)
    bits = written(rng, raw, list(range(10, 18)))
    best = find_number(bits, np.arange(COLUMNS), raw * 0.4 - 7, 0)[0]
    assert best.positions[-1] == 17
    assert best.scale == pytest.approx(0.4)
    assert best.holds.all()


def test_a_code_that_only_a_table_explains_is_none(rng: np.random.Generator) -> None:
    codes = np.array([5, 2, 7, 0, 6, 1, 3, 4])
    values = rng.integers(0, 8, 60)
    bits = written(rng, codes[values], [8, 9, 10])
    assert not any(n.holds.all() for n in find_number(bits, np.arange(COLUMNS), values.astype(float), 2))
    (field,) = find_fields(Stack(bits, {"level": tuple(values.astype(float).tolist())}))
    assert not isinstance(field.map, Linear)
    assert field.says(bits) == values.tolist()


def shown(rng: np.random.Generator, kind: str) -> tuple[int, list[int], list[float]]:
    """How many bits a number has that a sensor sends, the numbers, and what its display shows of them."""
    low, high = {"below zero": (-200, 400), "tenths": (350, 900)}.get(kind, (0, 120))
    sent = rng.integers(low, high, 30).tolist()
    match kind:
        case "below zero":
            return 12, [abs(n) | (n < 0) << 11 for n in sent], [n / 10 for n in sent]
        case "tenths":  # of a degree Fahrenheit, shown as tenths of one Celsius
            return 12, [n + 900 for n in sent], [round((n / 10 - 32) / 1.8, 1) for n in sent]
        case "celsius":
            return 8, sent, [float(round(n * 1.8 + 32)) for n in sent]
        case "wind":
            return 8, sent, [round(n * 0.34, 1) for n in sent]
        case _:  # volts, of a converter
            return 8, sent, [round(n / 16, 2) for n in sent]


@pytest.mark.parametrize("beside", [1, 12])
@pytest.mark.parametrize("kind", ["below zero", "tenths", "celsius", "wind", "volts"])
def test_numbers_that_were_never_shown_are_read_to_the_last_digit(
    rng: np.random.Generator, kind: str, beside: int
) -> None:
    """``beside``: how high the number may be that follows; its highest bits seldom change."""
    right = 0
    for _ in range(5):
        width, raw, values = shown(rng, kind)
        after = rng.integers(0, beside, len(raw))
        bits = np.zeros((len(raw), 8 + width + 8), np.uint8)
        bits[:, 8 : 8 + width] = np.array(raw)[:, None] >> np.arange(width)[::-1] & 1
        bits[:, -8:] = after[:, None] >> np.arange(8)[::-1] & 1
        (field,) = find_fields(Stack(bits[:20], {"shown": tuple(values[:20])}))
        right += field.says(bits) == pytest.approx(values, abs=1e-9)
        assert field.map.encoding == ("magnitude" if kind == "below zero" else "binary")  # type: ignore[union-attr]
    assert right == 5


@pytest.mark.parametrize(
    ("encoding", "width", "raw", "says"),
    [
        ("signed", 4, [7, 8, 15], [7, -8, -1]),
        ("magnitude", 4, [7, 8, 15], [7, 0, -7]),
        ("gray", 3, [0, 1, 3, 2, 6], [0, 1, 2, 3, 4]),
        ("bcd", 8, [0x42, 0x09], [42, 9]),
        ("binary", 3, [5], [5]),
    ],
)
def test_numbers_are_decoded(encoding: str, width: int, raw: list[int], says: list[int]) -> None:
    assert decoded(np.array(raw), encoding, width).tolist() == says  # type: ignore[arg-type]


def test_words_have_all_their_neighbours_and_no_others(rng: np.random.Generator) -> None:
    codes = {"up": 1, "down": 2, "stop": 4, "light": 7}
    words = rng.choice(list(codes), 50).tolist()
    bits = written(rng, np.array([codes[word] for word in words]), [12, 13, 14])
    best = find_words(bits, np.arange(COLUMNS), words, 0)[0]
    assert sorted(best.positions) == [12, 13, 14]
    assert sorted(best.table.values()) == sorted(codes)
    assert find_words(bits, np.arange(COLUMNS), [f"word {n}" for n in range(50)], 0) == []
    assert find_words(bits, np.arange(COLUMNS), ["same"] * 50, 0) == []


def test_a_bit_that_goes_along_with_many_words_belongs_to_none(rng: np.random.Generator) -> None:
    """Each key twice: one in a hundred bits of a rolling code is the same both times, for all of ten keys."""
    claimed = 0
    for _ in range(12):
        keys = rng.permutation(np.repeat(np.arange(10), 2))
        bits = np.hstack([keys[:, None] * 7 >> np.arange(7) & 1, rng.integers(0, 2, (20, 17))]).astype(np.uint8)
        bits[:, 20] = rng.integers(0, 2, 10)[keys]
        found = compare(Stack(bits, {"key": tuple(f"key {key}" for key in keys.tolist())}))
        claimed += any(max(field.positions) > 7 for field in found.fields)
    assert claimed == 0


def test_bits_that_seldom_change_follow_no_word_that_does(rng: np.random.Generator) -> None:
    """Two bits beside each other, each turned in a few presses of its own: they are no damaged ones of the word."""
    rows = rng.permutation(52)
    bits = np.zeros((52, 24), np.uint8)
    bits[rows[:4], 3] = bits[rows[4:8], 14] = bits[rows[8:12], 15] = 1
    power = tuple("off" if bit else "on" for bit in bits[:, 3].tolist())
    (field,) = compare(Stack(bits, {"power": power})).fields
    assert field.positions == (3,)


def test_one_value_apart_keeps_the_low_bit_that_never_changed(rng: np.random.Generator) -> None:
    raw = rng.integers(0, 8, 40) * 2
    bits = np.zeros((40, 16), np.uint8)
    for shift in range(4):
        bits[:, 4 + shift] = raw >> shift & 1
    (field,) = find_fields(Stack(bits, {"t": tuple((raw + 16.0).tolist())}))
    assert isinstance(field.map, Linear)
    assert (field.positions, field.map.scale, field.map.offset) == ((7, 6, 5, 4), 1.0, 16.0)


def test_counters_that_missed_a_press_and_ids(rng: np.random.Generator) -> None:
    rows = 30
    count = np.arange(rows)
    count[20:] += 1  # one press was not recorded
    bits = np.zeros((rows, 24), np.uint8)
    for shift in range(4):
        bits[:, 11 - shift] = count >> shift & 1
    ident = np.where(np.arange(rows) < 14, 0b10110, 0b01001)  # the battery was changed
    for shift in range(5):
        bits[:, 16 + shift] = ident >> shift & 1
    stack = Stack(bits)
    free = np.zeros(24, np.bool_)
    free[stack.varying] = True
    (counter,) = find_counters(stack, free)
    assert (counter.kind, counter.positions) == ("counter", (8, 9, 10, 11))
    free[8:12] = False
    (found,) = find_ids(stack, free)
    assert (found.kind, found.positions) == ("id", tuple(range(16, 24)))  # whole nibbles: nobody lays out five bits
    assert find_counters(Stack(bits[:3]), free) == []
    # Of two sections, it is found in its own, once.
    assert [each.positions for each in find_ids(Stack(bits, {}, (12, 12)), free)] == [tuple(range(16, 24))]


def test_labels_are_numbers_or_words() -> None:
    assert numbers([1.0, None, 3.0]) is not None
    assert numbers(["dry", None]) is None
    stack = Stack(np.eye(4, dtype=np.uint8), {"a": (1.0, 2.0, None, 4.0)}, (1, 3))
    assert stack.section_bounds == [(0, 1), (1, 4)]
    assert stack.of_rows([0, 2]).labels == {"a": (1.0, None)}
    assert stack.varying.tolist() == [0, 1, 2, 3]


@pytest.mark.parametrize(("step", "scale"), [(10, 1.0), (15, 1.0), (25, 5.0)])
def test_what_is_set_in_steps_may_be_sent_in_a_finer_unit(rng: np.random.Generator, step: int, scale: float) -> None:
    values = rng.integers(0, 16, 50) * step * 1.0
    bits = written(rng, np.rint(values / scale).astype(int), list(range(12, 3, -1)))
    (found,) = find_fields(Stack(bits, {"timer": tuple(values.tolist())}))
    assert isinstance(found.map, Linear)
    assert (found.map.scale, found.map.offset) == (scale, 0.0)
    assert set(found.positions) <= set(range(4, 13))
    assert found.holds.all()


def test_constant_bits_above_a_field_belong_to_its_number(rng: np.random.Generator) -> None:
    """All that was set lay between 64 and 95: the bits above say 64, and would say something else elsewhere."""
    values = rng.integers(64, 96, 50) * 1.0
    bits = written(rng, values.astype(int), list(range(10, 17)))
    (found,) = find_fields(Stack(bits, {"°F": tuple(values.tolist())}))
    assert found.positions == tuple(range(10, 17))
    assert found.map == Linear(1.0, 0.0)


def test_words_explain_what_a_line_contradicts(rng: np.random.Generator) -> None:
    """Four codes in no order: a line through three of them would call the presses of the fourth mistakes."""
    values = rng.permutation(np.repeat([1.0, 2.0, 3.0, 9.0], [20, 18, 16, 4]))
    codes = {1.0: 1, 2.0: 2, 3.0: 3, 9.0: 4}
    bits = written(rng, np.array([codes[v] for v in values]), [8, 9, 10])
    (found,) = find_fields(Stack(bits, {"fan": tuple(values.tolist())}))
    assert found.holds.all()
    assert set(found.positions) == {8, 9, 10}


def test_a_condition_does_not_set_aside_more_than_it_settles(rng: np.random.Generator) -> None:
    """Three mistakes among forty presses are no reason to look at a third of the presses only."""
    units = rng.integers(1, 9, 42)
    labels = units.astype(float)
    labels[[4, 17, 30]] = (labels[[4, 17, 30]] % 8) + 1
    buttons = tuple(rng.choice(["up", "down", "stop"], 42).tolist())
    bits = written(rng, units - 1, [20, 21, 22])
    (found,) = [
        f for f in find_fields(Stack(bits, {"unit": tuple(labels.tolist()), "button": buttons})) if f.name == "unit"
    ]
    assert not found.when
    assert found.positions == (20, 21, 22)
    assert found.contradicting.tolist() == [4, 17, 30]
