"""Rates and units as people write them."""

from __future__ import annotations

import pytest

from eager_tern.formats.rates import rate_named


@pytest.mark.parametrize(
    ("words", "rate"),
    [
        ("44,100 Hz", 44_100), ("44.100 Hz", 44_100), ("96 000 Hz", 96_000), ("48'000 samples per second", 48_000),
        ("1,000,000 S/s", 1e6), ("44.1 kHz", 44_100), ("44,1 kHz", 44_100), ("channel 1 500 kS/s", 500_000),
        ("sample rate: 48,000", 48_000), ("rate 8000", 8000), ("polled every 50 us", 20_000), ("rate 1", None),
        ("2 marks", None),
    ],
)  # fmt: skip
def test_rates_are_read_as_people_write_them(words: str, rate: float | None) -> None:
    assert rate_named(words) == (None if rate is None else pytest.approx(rate))
