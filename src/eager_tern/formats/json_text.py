"""Durations in a JSON document, or in one a line."""

from __future__ import annotations

import json
import re

from eager_tern.formats.lists import FEWEST, bare_lists
from eager_tern.formats.numbers import is_number
from eager_tern.formats.rows import SEPARATORS
from eager_tern.formats.text_bursts import NUMBERS_ONLY, OF_MARKS, OF_SPACES, Burst

NAMES = ("name", "label", "key")  # what a JSON object calls the durations in it
FREQUENCY = re.compile("freq|carrier", re.IGNORECASE)


def bursts_of_json(text: str) -> tuple[list[Burst], float | None] | None:
    """The lists of numbers in a JSON document, a burst each, and a carrier (Hz) that it names; None if it is none."""
    if text.lstrip()[:1] not in ("[", "{"):
        return None
    document = _document(text)
    if document is None:
        return None
    bursts: list[Burst] = []
    carriers: list[float] = []

    def look(value: object, name: str) -> None:
        if isinstance(value, dict):
            own = next((value[key] for key in NAMES if isinstance(value.get(key), str)), "")
            in_halves = all(any(map(half.search, map(str, value))) for half in (OF_MARKS, OF_SPACES))
            for key, each in value.items():
                if FREQUENCY.search(str(key)) and isinstance(each, int | float) and each > 1000:
                    carriers.append(float(each))
                look(each, f"{own} {key}".strip() if in_halves else own or str(key))
        elif isinstance(value, list) and value and all(type(each) in (int, float) for each in value):
            if len(value) >= FEWEST:
                bursts.append(Burst(bare_lists([(1, [repr(each) for each in value])]), name))
        elif isinstance(value, list) and len(value) >= FEWEST and all(map(_is_numeral, value)):
            bursts.append(Burst(bare_lists([(1, value)]), name))
        elif isinstance(value, list):
            for each in value:
                look(each, name)
        elif isinstance(value, str) and NUMBERS_ONLY.fullmatch(value):
            words = value.translate(SEPARATORS).split()
            if len(words) >= FEWEST:
                bursts.append(Burst([(1, words)], name))

    look(document, "")
    return (bursts, carriers[0] if carriers else None) if bursts else None


def _is_numeral(value: object) -> bool:
    return isinstance(value, str) and is_number(value)


def _document(text: str) -> object:
    """A JSON document, or one a line; None where it is neither."""
    for pieces in ([text], [line for line in text.splitlines() if line.strip()]):
        try:
            found = [json.loads(piece) for piece in pieces]
        except (ValueError, RecursionError):
            continue
        return found
    return None
