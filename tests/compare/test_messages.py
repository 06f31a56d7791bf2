"""Gadgets that say things otherwise than remotes do are read and made as well."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.compare.asking import press_to_tell
from eager_tern.compare.comparison import compare, settled
from eager_tern.compare.fields import Linear
from eager_tern.compare.stack import Stack
from eager_tern.compare.writing import sheet_of
from eager_tern.protocol.reading import field_values
from tests.compare.test_setters import LATER, caught, later
from tests.messages import Clock, Panel, Sender, Shutters, Station

GADGETS = 3  # of each kind


@pytest.mark.parametrize("mistakes", [False, True])
@pytest.mark.parametrize("kind", [Station, Panel, Clock, Shutters])
def test_presses_never_seen_are_read_and_made(kind: type[Sender], mistakes: bool) -> None:
    for number in range(GADGETS):
        rng = np.random.default_rng([31, mistakes, number])
        gadget = kind(rng)
        assert later(gadget, caught(gadget, rng, 40, 2 * mistakes, mistakes)) == (LATER, LATER, 0)


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
    for number in range(40):
        rng = np.random.default_rng([8, number])
        bits = rng.integers(0, 2, (40, 40), dtype=np.uint8)
        bits[:, 8:12] = np.where(rng.random((40, 1)) < 0.5, [[0, 0, 0, 1]], [[0, 0, 1, 0]])
        assert not compare(Stack(bits, {})).checks


def test_an_hour_in_six_bits_is_a_decimal_number() -> None:
    rng = np.random.default_rng(9)
    clock = Clock(rng)
    hour = next(field for field in caught(clock, rng, 40).fields if field.name == "hour")
    assert len(hour.positions) == 6
    assert hour.map == Linear(1, 0, "bcd")
