"""Fields: raw numbers to values and back."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.errors import InputError
from eager_tern.protocol.checks import expected_value
from eager_tern.protocol.fields import DataField, ListField, TextField, from_keys, in_words
from eager_tern.protocol.loading import parse_sheet
from eager_tern.protocol.making import make_bits, make_frame
from eager_tern.protocol.reading import read_frame
from eager_tern.protocol.schema import Check
from eager_tern.signal.values import Pulses

AIR = """
id = "cabinet"
name = "Climate cabinet"
unit_us = 430
zero = [1, -1]
one = [1, -3]
press = { first = "full", held = "full", gap_us = 40000 }
frames = [{ name = "full", parts = [{ pulses = [8, -4] }, { bits = 32 }, { pulses = [1] }] }]

[[fields]]
name = "mode"
bits = "2-0"
table = { 0 = "auto", 1 = "cool", 2 = "dry", 4 = "fan" }
default = "cool"

[[fields]]
name = "temperature"
bits = "7-3"
offset = 16
scale = 0.5
unit = "°C"
default = 20
when = { mode = ["auto", "cool", "dry"] }

[[fields]]
name = "outside"
bits = "15-8"
encoding = "signed"

[[fields]]
name = "minutes"
bits = "23-16"
encoding = "bcd"

[[checks]]
name = "sum"
kind = "sum"
at = "31-24"
covers = [[0, 23]]
init = 5
"""


def field(**more: object) -> DataField:
    return from_keys(DataField, {"name": "x", "bits": "7-0", **more})


@pytest.mark.parametrize(
    ("more", "raw", "value"),
    [
        ({}, 200, 200),
        ({"encoding": "signed"}, 200, -56),
        ({"encoding": "magnitude"}, 200, -72),
        ({"encoding": "magnitude"}, 72, 72),
        ({"encoding": "bcd"}, 0x42, 42),
        ({"encoding": "gray"}, 0b11, 2),
        ({"scale": 0.5, "offset": 10}, 3, 11.5),
        ({"scale": -1, "offset": 30}, 4, 26),
        ({"encoding": "signed", "scale": 0.1}, 251, -0.5),
        ({"scale": 0.392156863, "decimals": 0}, 38, 15),
        ({"scale": 0.392156863, "decimals": 1}, 38, 14.9),
        ({"table": {0: "off", 7: "on"}}, 7, "on"),
        ({"table": {0: "off", 7: "on"}}, 5, 5),
        ({"table": {0: 16, 7: 30}}, 5, None),
        ({"encoding": "bcd"}, 0x4A, None),
    ],
)
def test_values_are_read_and_written(more: dict[str, object], raw: int, value: object) -> None:
    bits = np.array([raw >> i & 1 for i in range(8)], np.uint8)
    x = field(**more)
    assert x.read(bits) == value
    if isinstance(value, int | float | str):
        assert x.raw(value) == raw


@given(st.sampled_from(["binary", "signed", "magnitude", "bcd", "gray"]), st.integers(0, 255))
def test_every_encoding_is_its_own_inverse(encoding: str, raw: int) -> None:
    x = field(encoding=encoding)
    value = x.read(np.array([raw >> i & 1 for i in range(8)], np.uint8))
    minus_nothing = encoding == "magnitude" and raw == 0x80
    assert value is None or x.raw(value) == (0 if minus_nothing else raw)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("more", "value", "reason"),
    [
        ({"scale": 0.5, "offset": 16}, 200, r"outside 16 to 143\.5 in steps of 0\.5"),
        ({"scale": 0.5}, 0.3, "in steps of 0.5"),
        ({"table": {0: "off"}}, "dim", 'x = "dim" is none of off'),
        ({}, "three", "is no number"),
        ({"encoding": "signed"}, 128, "outside -128 to 127"),
        ({"encoding": "magnitude"}, -128, "outside -127 to 127"),
    ],
)
def test_what_cannot_be_sent_is_refused(more: dict[str, object], value: int | float | str, reason: str) -> None:
    with pytest.raises(ValueError, match=reason):
        field(**more).raw(value)


def test_a_sheet_speaks_in_values() -> None:
    sheet = parse_sheet(AIR, "test")
    made = make_frame(sheet, {"mode": "dry", "temperature": 21.5, "outside": -3, "minutes": 45})
    best = read_frame(Pulses(made.pulses.durations_us), (sheet,))[0]
    assert best.fields == {"mode": "dry", "temperature": 21.5, "outside": -3, "minutes": 45}
    assert best.checks_hold
    # The temperature means nothing while it only blows.
    fan = read_frame(Pulses(make_frame(sheet, {"mode": "fan"}).pulses.durations_us), (sheet,))[0]
    assert "temperature" not in fan.fields
    assert read_frame(Pulses(make_frame(sheet, {}).pulses.durations_us), (sheet,))[0].fields["temperature"] == 20
    with pytest.raises(InputError, match=r"temperature = 40 is outside 16 to 31\.5"):
        make_bits(sheet, {"temperature": 40})


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (('when = { mode = ["auto", "cool", "dry"] }', 'when = { moon = ["full"] }'), 'depends on "moon"'),
        (("scale = 0.5", "scale = 0"), "every value would be the same"),
        (('encoding = "bcd"', 'encoding = "bcd"\nscale = 2\ntable = { 1 = "one" }'), 'either a "table"'),
        (('default = "cool"', 'default = "cold"'), 'mode = "cold" is none of'),
        (("zero = [1, -1]", "symbols = [[1, -1], [1, -2], [1, -3], [1, -4]]"), '"zero" and "one", or "symbols"'),
        (("zero = [1, -1]\none = [1, -3]", "serial = {}\n"), None),
        (("zero = [1, -1]\none = [1, -3]", "serial = { data_bits = 5 }\n"), "bits come in groups of 5"),
        (("zero = [1, -1]\none = [1, -3]", "symbols = [[1, -1], [1, -3]]\n"), "3 to 16"),
    ],
)
def test_contradictions_in_a_sheet_are_told(change: tuple[str, str], reason: str | None) -> None:
    text = AIR.replace(*change)
    assert text != AIR
    if reason is None:
        parse_sheet(text, "test")
        return
    with pytest.raises(InputError) as error:
        parse_sheet(text, "test")
    assert reason in str(error.value)


def test_a_given_field_stands_above_a_check() -> None:
    sheet = parse_sheet(AIR + '\n[[fields]]\nname = "low"\nbits = "27-24"\n', "test")
    assert make_bits(sheet, {"low": 9})[24:28].tolist() == [1, 0, 0, 1]


def test_values_in_words() -> None:
    assert in_words(10, 4) == "A"
    assert in_words(10, 12) == "00A"
    assert in_words(-3) == "-3"
    assert in_words(3069510166, 0) == "3069510166"
    assert in_words(21.5) == "21.5"
    assert in_words((1, 255)) == "01 FF"
    assert in_words(None) == "–"
    assert in_words("dry") == "dry"


def test_texts_and_lists() -> None:
    bits = np.array([0, 0, 1, 1, 0, 1], np.uint8)
    text = from_keys(TextField, {"name": "t", "bits": "0-5", "digits": {"00": "0", "11": "1", "01": "F"}})
    assert text.read(bits) == "01F"
    assert text.read(bits[::-1]) is None
    assert ListField(name="l", width=3).read(bits) == (4, 5)


def test_a_rounded_value_is_sent_as_the_nearest_number_in_range() -> None:
    light = field(scale=0.392156863, decimals=0)
    assert [light.raw(value) for value in (0, 1, 50.4, 100)] == [0, 3, 129, 255]
    with pytest.raises(ValueError, match=r"101 is outside 0 to 100"):
        light.raw(101)


def test_what_a_check_begins_with_is_chosen_by_other_bits() -> None:
    keys = {"name": "sum", "kind": "sum", "at": "15-8", "covers": [[0, 7]], "init": 7}
    check = from_keys(Check, {**keys, "by": "1-0", "seeds": {1: 0x20, 2: 0x40}})
    for low, seed in ((1, 0x20), (2, 0x40), (3, 7)):
        bits = np.array([low >> at & 1 for at in range(16)], np.uint8)
        assert expected_value(check, bits) == low + seed
    with pytest.raises(ValueError, match="go together"):
        from_keys(Check, {**keys, "by": "1-0"})
    with pytest.raises(ValueError, match="do not fit 2 bits"):
        from_keys(Check, {**keys, "by": "1-0", "seeds": {4: 1}})
