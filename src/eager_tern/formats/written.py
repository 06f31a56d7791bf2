"""Durations as people write and paste them: a text to bursts of words, by the likeliest way to see it."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from eager_tern.errors import InputError
from eager_tern.formats.by_form import NOTHING_ELSE, by_form
from eager_tern.formats.json_text import bursts_of_json
from eager_tern.formats.numbers import is_number
from eager_tern.formats.plain_words import in_plain_words
from eager_tern.formats.plausible import are_times, evidence, holds_others, takes_turns
from eager_tern.formats.rates import rate_named, tick_named, unit_named
from eager_tern.formats.rows import COMMENT, SEPARATORS, SHORTEST_US
from eager_tern.formats.surroundings import Line, Way, lines_of, seen_so, ways_to_see
from eager_tern.formats.text_bursts import WORDS, Burst, marks_beside_spaces, presses_of
from eager_tern.signal.order import median

ELLIPSIS = re.compile(r"\.\.\.|…")
CLEARLY = 3.0  # nats by which another way to see a text has to be likelier than its form
EACH = 4.0  # nats at least that speak for each number of a list of durations; those of prose and of programs have 3
LOOKED_AT = 20_000  # characters by which it is decided how a text is seen: some dozen presses


class Written(Struct, frozen=True):
    """A text's bursts; ``carrier_hz`` where it names one, ``passed_over`` the lines that are prose, ``cut`` the line
    on which an ellipsis stands.
    """

    bursts: list[Burst]
    carrier_hz: float | None
    passed_over: list[int]
    cut: int | None


def as_written(text: str, source: object) -> Written:
    """The bursts of a text. Raises InputError with the line where it holds words and no durations."""
    ellipsis = ELLIPSIS.search(text)
    cut = text.count("\n", 0, ellipsis.start()) + 1 if ellipsis else None
    text = in_plain_words(ELLIPSIS.sub(" ", text))
    if (found := bursts_of_json(text)) is not None:
        bursts, carrier_hz = found
        return Written(marks_beside_spaces(bursts), carrier_hz, [], cut)
    bursts, passed_over = _likeliest(text, source)
    return Written(bursts, None, passed_over, cut)


class _View(Struct, frozen=True):
    """How a text is seen: in a ``way``, or by its form where that is None; ``found`` are its bursts and the numbers of
    the lines passed over, None where its form is refused. ``evidence`` as in ``plausible``.
    """

    way: Way | None
    found: tuple[list[Burst], list[int]] | None
    evidence: float


def _likeliest(text: str, source: object) -> tuple[list[Burst], list[int]]:
    """What a text's form says, or what numbers in like surroundings say if its beginning is clearly likelier so."""
    beginning = text[:LOOKED_AT]
    view = _view_of(beginning)
    if view.found is not None and len(beginning) == len(text):
        return view.found
    return by_form(text, source) if view.way is None else _in_surroundings(lines_of(text), view.way)


def _view_of(text: str) -> _View:
    """By its form, or in the way in which it is clearly likelier."""
    try:
        found = by_form(text, "")
        best = _View(None, found, _evidence(found[0]))
    except InputError:
        best = _View(None, None, 0.0)
    if best.evidence > 0 and NOTHING_ELSE.fullmatch(text):
        return best
    lines, most = lines_of(text), best.evidence + CLEARLY
    for way in ways_to_see(lines):
        found = _in_surroundings(lines, way)
        numbers = [float(word) for burst in found[0] for _, words in burst.lines for word in words]
        told = _evidence(found[0])
        if told > max(most, EACH * len(numbers)) and (median(np.abs(numbers)) >= SHORTEST_US or _names_unit(text)):
            best, most = _View(way, found, told), told
    return best


def _in_surroundings(lines: Sequence[Line], way: Way) -> tuple[list[Burst], list[int]]:
    bursts, others = seen_so(lines, way)
    return [press for lines in bursts for press in presses_of(Burst(lines))], others


def _names_unit(text: str) -> bool:
    return any(named(text) for named in (unit_named, tick_named, rate_named))


def holds_likelier(text: str, than: float) -> bool:
    """Whether a text's numbers are durations clearly likelier than what else they were taken for; see ``plausible``."""
    return _view_of(in_plain_words(text)).evidence > than + CLEARLY


def _evidence(bursts: Sequence[Burst]) -> float:
    """See ``plausible``; none where words are no numbers, or some of them something else than durations."""
    lines = [[[word for word in words if word.lower() not in WORDS] for _, words in burst.lines] for burst in bursts]
    try:
        values = [[np.array(words, np.float64) for words in burst] for burst in lines]
    except ValueError:
        return 0.0
    whole = [np.concatenate(burst) for burst in values if burst]
    if not all(np.isfinite(each).all() and takes_turns(each) for each in whole):
        return 0.0
    if all(len(burst) == 1 for burst in values) and all(map(are_times, whole)):  # a column of them is one of a table
        return evidence([np.diff(each) for each in whole])
    return 0.0 if holds_others(values) else evidence(whole)


def begins(text: str) -> bool:
    """Whether text begins as timing text does: with a number, a word for a level, a comment or an array."""
    first = COMMENT.sub("", text).translate(SEPARATORS).split(maxsplit=1)
    return not first or first[0].lower() in WORDS or is_number(first[0]) or text[:1] in ("[", "{") or "{" in text
