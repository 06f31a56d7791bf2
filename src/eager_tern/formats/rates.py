"""Units of time, and how many samples there are a second, as people write them."""

from __future__ import annotations

import re

UNITS_US = {
    "s": 1e6, "sec": 1e6, "second": 1e6, "seconds": 1e6, "ms": 1e3, "msec": 1e3, "us": 1.0, "usec": 1.0, "µs": 1.0,
    "μs": 1.0, "ns": 1e-3, "nsec": 1e-3, "ps": 1e-6,
}  # fmt: skip
RATE = re.compile(r"(\d+(?:[.,]\d+)?)\s*([kM]?)\s*(?:Hz|sps|S/s|samples?\s*(?:/|per|a)\s*s)", re.IGNORECASE)
EVERY = re.compile(
    r"(?:every|each|per|period|interval)\D{0,20}?(\d+(?:\.\d+)?)\s*(us|µs|μs|ms)"
    r"|(\d+(?:\.\d+)?)\s*(us|µs|μs|ms)\s*(?:per|each|a|/)\s*(?:sample|poll|bit)",
    re.IGNORECASE,
)
RATE_NAMED = re.compile(r"rate\D{0,12}(\d{2,9}(?:\.\d+)?)", re.IGNORECASE)


def rate_named(words: str) -> float | None:
    """Samples a second, where a text names them."""
    if found := RATE.search(words):
        return float(found[1].replace(",", ".")) * {"": 1.0, "k": 1e3, "m": 1e6}[found[2].lower()]
    if found := EVERY.search(words):
        return 1e6 / (float(found[1] or found[3]) * UNITS_US[(found[2] or found[4]).lower()])
    found = RATE_NAMED.search(words)
    return float(found[1]) if found else None
