"""Units of time, and how many samples there are a second, as people write them."""

from __future__ import annotations

import re

UNITS_US = {
    "s": 1e6, "sec": 1e6, "second": 1e6, "seconds": 1e6, "ms": 1e3, "msec": 1e3, "us": 1.0, "usec": 1.0, "µs": 1.0,
    "μs": 1.0, "ns": 1e-3, "nsec": 1e-3, "ps": 1e-6,
}  # fmt: skip
# Patterns are made when a text needs them: most need none, and making all takes longer than reading a press.
PER_SECOND = r"(?:Hz|sps|S/s|samples?\s*(?:/|per|a)\s*s)"
# 48,000 and 48 000 as well as 48000; a blank in front of kHz parts two numbers. None begins within another: looked for
# from each of its digits, a long one would take for ever.
COUNT = rf"(?<!\d)(\d{{1,3}}(?:[,.'’_]\d{{3}})+(?!\d)|\d{{1,3}}(?: \d{{3}})+(?=\s*{PER_SECOND})|\d+(?:[.,]\d+)?)"
RATE = rf"{COUNT}\s*([kM]?)\s*{PER_SECOND}"
EVERY = (
    r"(?:every|each|per|period|interval|polls?|samples?|ticks?|steps?|units?)\D{0,20}?(\d+(?:\.\d+)?)\s*(us|µs|μs|ms)"
    r"|(?<!\d)(\d+(?:\.\d+)?)\s*(us|µs|μs|ms)\s*(?:each\b|(?:per|a|/)\s*(?:sample|poll|bit))"
)
EVERY_IN = r"\b(?:interval|period|step|poll|sample)_(us|ms)\"?\s*[=:]\s*(\d+(?:\.\d+)?)"
TICK = r"\b(?:tick|unit|step)\w*\s*(?:=|:|is|are|of)\s*(\d+(?:\.\d+)?)\s*(us|µs|μs|ms|ns)"
TICK_IN = r"\btick_(us|ms|ns)\"?\s*[=:]\s*(\d+(?:\.\d+)?)"
COUNTED_IN = (
    r"\b(\d+(?:\.\d+)?)\s*(us|µs|μs|ms|ns)[ -]*(?:(?:per|a|each|/) ?)?(?:ticks?|steps?|units?|counts?)\b"
    r"|\b(?:ticks?|units?|steps?|counts?|multiples) of\s+(\d+(?:\.\d+)?)\s*(us|µs|μs|ms|ns)\b"
)
CYCLES_OF = r"\bcycles\s+(?:of|at)\s+(\d+(?:\.\d+)?)\s*kHz"  # of a carrier
CLOCK_RATE = r"\b(?:timer|clock|counter|ticks?|cycles?)\D{0,30}?(\d+(?:\.\d+)?)\s*([kM])Hz"
RATE_NAMED = rf"rate\D{{0,12}}{COUNT}"
SLOWEST = 10.0  # samples a second that a mere number behind "rate" may be

# A length, as in "timeout 15 ms", names no unit of anything else.
UNIT_NAMED = (
    r"(?<![a-z\d])(?<!\d )(micros(?:econds?)?|millis(?:econds)?|nanos(?:econds)?|usec|msec|us|µs|μs|ms|ns)(?![a-z])"
)
# A name that is nothing else may be that of a space.
UNIT_OF_NAME = rf"(?<!\d\s)(?<=[\s_(\[/])({'|'.join(sorted(UNITS_US, key=len, reverse=True))})[)\]\s]*$"
UNIT_OF_WORD = {"micro": 1.0, "milli": 1e3, "nano": 1e-3}


def has_words(text: str) -> bool:
    """Whether there is more in a text than numbers and signs: letters, which have two cases."""
    return text.lower() != text.upper()


def _find(pattern: str, words: str) -> re.Match[str] | None:
    return re.search(pattern, words, re.IGNORECASE)


def tick_named(words: str) -> float | None:
    """What a text says that one of its numbers stands for, µs."""
    if found := _find(TICK, words):
        return float(found[1]) * UNITS_US[found[2].lower()]
    if found := _find(TICK_IN, words):
        return float(found[2]) * UNITS_US[found[1].lower()]
    if found := _find(COUNTED_IN, words):
        return float(found[1] or found[3]) * UNITS_US[(found[2] or found[4]).lower()]
    found = _find(CYCLES_OF, words)
    return 1e3 / float(found[1]) if found and float(found[1]) else None


def clock_named(words: str) -> float | None:
    """How long a tick of the timer lasts whose rate a text names, µs."""
    found = _find(CLOCK_RATE, words)
    return 1.0 / (float(found[1]) * {"k": 1e-3, "m": 1.0}[found[2].lower()]) if found else None


def unit_named(words: str) -> float | None:
    """What a text counts time in, µs, where it says so; the last line counts, as a header stands next to its log."""
    for line in words.splitlines()[::-1]:
        if found := _find(UNIT_NAMED, line):
            word = found[1].lower()
            return UNITS_US.get(word) or next(us for begin, us in UNIT_OF_WORD.items() if word.startswith(begin))
    return None


def unit_of_name(name: str) -> float | None:
    """What a column counts time in, µs, where its name ends with it: "time_s", "t (ms)"."""
    found = re.search(UNIT_OF_NAME, name.lower())
    return UNITS_US[found[1]] if found else None


def rate_named(words: str) -> float | None:
    """Samples a second, where a text names them."""
    if found := _find(RATE, words):
        return _counted(found[1], bool(found[2])) * {"": 1.0, "k": 1e3, "m": 1e6}[found[2].lower()]
    if found := _find(EVERY, words):
        return 1e6 / (float(found[1] or found[3]) * UNITS_US[(found[2] or found[4]).lower()])
    if found := _find(EVERY_IN, words):
        return 1e6 / (float(found[2]) * UNITS_US[found[1].lower()])
    found = _find(RATE_NAMED, words)
    rate = _counted(found[1], False) if found else 0.0
    return rate if rate >= SLOWEST else None


def _counted(number: str, has_prefix: bool) -> float:
    """A number as people write it: 44,100 Hz and 44.100 Hz are thousands, 44,1 kHz and 44.100 kHz are no more."""
    parts = re.split(r"[ ,.'’_]", number)
    if len(parts) > 2 or not (has_prefix or len(parts[-1]) != 3):
        return float("".join(parts))
    return float(".".join(parts))
