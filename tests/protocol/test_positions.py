"""Bit positions in words."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.protocol.positions import parse_positions


@pytest.mark.parametrize(
    ("text", "index"),
    [("7-0", list(range(7, -1, -1))), ("3-7", [3, 4, 5, 6, 7]), ("5", [5]), ("9, 3-1", [9, 3, 2, 1])],
)
def test_positions_run_from_the_highest_bit_down(text: str, index: list[int]) -> None:
    assert parse_positions(text).index.tolist() == index


def test_inverted_pieces_are_marked() -> None:
    positions = parse_positions("!1, 8-10")
    assert positions.inverted.tolist() == [1, 0, 0, 0]
    bits = np.array([0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 1], np.uint8)
    assert positions.read(bits) == 0b1101


@pytest.mark.parametrize("text", ["", "a", "1-", "1--3", "3, 3", "0-4, 2", "-1", "1;2", "999999999"])
def test_nonsense_is_refused_with_its_words(text: str) -> None:
    with pytest.raises(ValueError, match="bit"):
        parse_positions(text)


places = st.lists(st.integers(0, 60), min_size=1, max_size=40, unique=True)


@given(places, st.data())
def test_what_is_written_is_read(index: list[int], data: st.DataObject) -> None:
    text = ", ".join(("!" if i % 3 == 0 else "") + str(i) for i in index)
    positions = parse_positions(text)
    value = data.draw(st.integers(0, 2 ** len(index) - 1))
    bits = np.array(data.draw(st.lists(st.integers(0, 1), min_size=61, max_size=61)), np.uint8)
    before = bits.copy()
    positions.write(bits, value)
    assert positions.read(bits) == value
    others = np.setdiff1d(np.arange(61), positions.index)
    assert np.array_equal(bits[others], before[others])


@given(places)
def test_the_text_of_positions_means_the_same(index: list[int]) -> None:
    positions = parse_positions(", ".join(("!" if i % 3 == 0 else "") + str(i) for i in index))
    again = parse_positions(str(positions))
    assert np.array_equal(again.index, positions.index)
    assert np.array_equal(again.inverted, positions.inverted)


def test_runs_are_written_short() -> None:
    assert str(parse_positions("7-0")) == "7-0"
    assert str(parse_positions("!1, 8-13")) == "!1, 8-13"
    assert str(parse_positions("3,2,1,5,6,7")) == "3-1, 5-7"
