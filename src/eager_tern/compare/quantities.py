"""Numbers as people write them into a table: 21.5, 21,5, 21 °C."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence

# A number, perhaps with a decimal comma (three digits behind it are rather thousands), and a unit: no digit, and short
# enough to be none of several words.
QUANTITY = re.compile(r"([+-]?\d+(?:\.\d*|,(?!\d{3}(?!\d))\d*)?|[+-]?[.,]\d+)[ \u00a0]*([^\d\s.,;=+-]{0,5})")


def numbers_in(texts: Sequence[str]) -> list[float] | None:
    """The numbers that all of some texts are, with one unit at most among them; None where one is a word."""
    plain = [_float(text) for text in texts]
    if not any(map(math.isnan, plain)):
        return plain
    found = [QUANTITY.fullmatch(text.strip()) for text in texts]
    units = {match[2] for match in found if match is not None}
    if None in found or len(units - {""}) > 1:
        return None
    return [float(match[1].replace(",", ".")) for match in found if match is not None]


def _float(text: str) -> float:
    """NaN for what is no finite number: "nan" and "inf" are words like others."""
    try:
        number = float(text)
    except ValueError:
        return math.nan
    return number if math.isfinite(number) else math.nan
