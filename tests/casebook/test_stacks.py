"""What the labels of many presses say, and what of it is worth showing."""

from __future__ import annotations

import pytest

from eager_tern.casebook.stacks import labels_of, short_label, usual_labels

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
    assert labels_of(" level = 1 , = 3, water =") == {"level": 1.0}
