"""What the labels of many presses say, and what of it is worth showing."""

from __future__ import annotations

import pytest

from eager_tern.casebook.stacks import Cut, cuts_of, labels_of, short_label, stack_of, usual_labels
from eager_tern.casebook.values import Caught, PressReading

COOL = "temperature = 20, mode = cool, blower = 1"


@pytest.mark.parametrize(
    ("text", "short"),
    [
        (COOL, "as most"),
        ("temperature = 22.5, mode = cool, blower = 1", "temperature 22.5"),
        ("temperature = 22, mode = dry, blower = 1", "temperature 22 · mode dry"),
        ("temperature = 20, lamp = on", "lamp on"),
        ("mode = cool", "mode cool"),
        ("Next slide", "Next slide"),
        ("", ""),
    ],
)
def test_a_long_label_says_what_is_not_as_usual(text: str, short: str) -> None:
    usual = usual_labels([COOL, COOL, "temperature = 22, mode = dry, blower = 1", "Next slide", "Lamp"])
    assert usual == {"temperature": 20.0, "mode": "cool", "blower": 1.0}
    assert short_label(text, usual) == short


def test_what_no_two_labels_share_is_not_usual() -> None:
    assert usual_labels(["level = 1, water = 8.1", "level = 2, water = 8.1"]) == {"water": 8.1}
    assert usual_labels([]) == {}
    # A number that came twice among many is not what goes without saying.
    assert usual_labels([*(f"level = {n}, mode = cool" for n in range(11)), "level = 3, mode = dry"]) == {
        "mode": "cool"
    }
    assert labels_of(" level = 1 , = 3, water =") == {"level": 1.0}


def test_a_comma_within_a_value_parts_nothing() -> None:
    assert labels_of("temperature = 21,5, mode = dry, then cool, light = on,") == {
        "temperature": "21,5", "mode": "dry, then cool", "light": "on",
    }  # fmt: skip


def test_labels_with_a_unit_or_a_decimal_comma_are_numbers() -> None:
    texts = ["temperature = 21,5", "temperature = 22 °C", "temperature = 19"]
    stack, *_ = stack_of([caught(n, "0101", label=text) for n, text in enumerate(texts)])
    assert stack.labels == {"temperature": (21.5, 22.0, 19.0)}
    # What keys are called is no number of anything.
    assert stack_of([caught(n, "0101", label=text) for n, text in enumerate("123")])[0].labels == {"key": (*"123",)}


def caught(number: int, bits: str, sections: tuple[int, ...] = (), label: str = "") -> Caught:
    reading = PressReading(frames=((0, 1),), start_us=0.0, held_us=0.0, bits=bits, sections=sections)
    return Caught(number, 1, 1, float(number), label, False, False, reading)


def test_frames_of_several_lengths_are_stacked_by_length_or_by_section() -> None:
    both = [caught(n, "1010" + f"{n:08b}", (4, 8), f"level = {n}") for n in range(6)]
    first_only = [caught(10 + n, f"{n:04b}") for n in range(3)]
    presses = [*both[:3], *first_only, *both[3:]]
    assert cuts_of(both) == [Cut(12)]
    assert cuts_of(presses) == [Cut(12), Cut(4), Cut(4, section=0)]
    stack, rows, apart = stack_of(presses)
    assert (stack.bits.shape, stack.sections, rows, apart) == ((6, 12), (4, 8), both, first_only)
    stack, rows, apart = stack_of(presses, Cut(4))
    assert (stack.bits[:, 3].tolist(), stack.sections, rows) == ([0, 1, 0], (), first_only)
    stack, rows, apart = stack_of(presses, Cut(4, section=0))
    assert (stack.bits.shape, rows, apart) == ((9, 4), presses, [])
    assert stack.labels["level"] == (0.0, 1.0, 2.0, None, None, None, 3.0, 4.0, 5.0)
    assert stack_of([], None)[0].rows == 0
