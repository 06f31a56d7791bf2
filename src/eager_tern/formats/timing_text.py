"""Timing text: durations in microseconds, as people paste them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.formats.encoded import decoded, text_of
from eager_tern.formats.numbers import is_number
from eager_tern.formats.plausible import are_times
from eager_tern.formats.rates import has_words, rate_named, tick_named, unit_named
from eager_tern.formats.rows import COMMENT, unit_of_fractions
from eager_tern.formats.text_bursts import WORDS, Burst, names_levels
from eager_tern.formats.written import as_written
from eager_tern.signal.assumed import SURE_GAP_US
from eager_tern.signal.order import median
from eager_tern.signal.threshold import ThresholdSettings, edges_of_samples
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed, signed_from_start

SILENCE_US = 1_000_000.0  # what a blank line stands for
LONGEST_US = 1e12
TINY_US = 30.0  # median of numbers that cannot be microseconds
LONGEST_USUAL_US = 20_000.0  # median of durations; what is longer was no number of ticks, but named a code's unit
LINE_BREAK_US = 10_000.0  # written text breaks its lines at silences of this length
FEWEST_IN_UNITS = 10  # of them
OF_CARRIER = re.compile(r"^(?!.*sampl).*(?:freq|carrier)", re.IGNORECASE)  # a line that names no rate of samples
AS_LONG, MARK_AT_END = 0.45, 2.5  # of the longest pulse, a leader's or bi-phase's first; of the usual one, the last
FEWEST_SAMPLES, PREAMBLE = 64, 16  # numbers of a recording in one column; lines about it


def claims(head: bytes, suffix: str) -> bool:
    """Any text may be timing text: the reader says what is wrong with it."""
    return decoded(head) is not None


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """The one capture of a timing text. Raises InputError with the line."""
    text = text_of(path)
    if (sampled := _samples(path, text, options)) is not None:
        return [sampled]
    pulses, notes, warnings = parse_noted(text, path)
    return [Capture(str(path), FORMAT.name, pulses=pulses, notes=notes, warnings=warnings)]


def _samples(path: Path, text: str, options: ReadOptions) -> Capture | None:
    """A column of samples whose rate was told, in a comment or by hand; None where it is none."""
    if not options.rate_hz and not has_words(text):  # then nothing names a rate
        return None
    lines = [(COMMENT.sub("", line).strip(), line) for line in text.splitlines()]
    cells = [bare for bare, _ in lines if is_number(bare)]
    if len(cells) < FEWEST_SAMPLES or len(cells) < sum(bool(bare) for bare, _ in lines) - PREAMBLE:
        return None
    words = "\n".join(line for bare, line in lines if not is_number(bare) and not OF_CARRIER.search(line))
    rate = options.rate_hz or rate_named(words)
    if not rate:
        return None
    settings = ThresholdSettings(options.level) if options.level is not None else None
    edges = edges_of_samples([np.array(cells, np.float32)], rate, settings)
    return Capture(str(path), FORMAT.name, sample_rate_hz=rate, edges=edges)


def parse(text: str, source: object = "text") -> Pulses:
    """Pulses from timing text. Raises InputError with the line."""
    return parse_noted(text, source)[0]


def parse_noted(text: str, source: object) -> tuple[Pulses, tuple[Note, ...], tuple[str, ...]]:
    """Pulses, the stretches that the text names, and warnings. Raises InputError with the line."""
    written = as_written(text, source)
    # A mark in every two has one, if any has: the first words of a line tell.
    has_plus = any(word[0] == "+" for burst in written.bursts for _, words in burst.lines for word in words[:3])
    presses = [(burst, *_values(burst, source)) for burst in written.bursts if burst.lines]
    if not presses:
        raise InputError(source, "holds no durations")
    _expect_no_levels(*presses[0][1:], source)
    of_edges = [are_times(values) for _, values, _ in presses]
    presses = [
        (burst, np.diff(values), places[1:]) if are_times else (burst, values, places)
        for (burst, values, places), are_times in zip(presses, of_edges, strict=True)
    ]
    unit_us, warnings = _unit(np.concatenate([values for _, values, _ in presses]), text)
    if any(of_edges):
        warnings = (*warnings, "its numbers rise: they are taken for the times of edges, the first of a mark")
    signed: list[Floats] = []
    notes: list[Note] = []
    now = 0.0
    turned = -1.0 if _marks_are_negative([values for _, values, _ in presses], SURE_GAP_US / unit_us) else 1.0
    for burst, as_said, places in presses:
        written_values = turned * as_said
        told = names_levels(burst.lines) or (has_plus and not _are_steps(as_said))
        values = written_values if told else _in_turns(written_values, places, SURE_GAP_US / unit_us, source)
        if signed:
            signed.append(np.array([-SILENCE_US]))
            now += SILENCE_US
        signed.append(values * unit_us)
        length = float(np.abs(values).sum()) * unit_us
        if burst.name:
            notes.append(Note(now, now + length, burst.name))
        now += length
    if written.passed_over:
        lines = written.passed_over
        count = "a line that holds" if len(lines) == 1 else f"{len(lines)} lines that hold"
        warnings = (*warnings, f"line {lines[0]}: {count} no durations passed over")
    if written.cut is not None:
        warnings = (*warnings, f"line {written.cut}: an ellipsis stands for durations that are missing")
    return pulses_from_signed(np.concatenate(signed), 0.0, written.carrier_hz), tuple(notes), warnings


def _are_steps(values: Floats) -> bool:
    """Whether a plus before each number says that it goes on, and not that it is a mark."""
    return values.size >= FEWEST_IN_UNITS and bool((values >= 0).all())


def _expect_no_levels(values: Floats, lines: NDArray[np.intp], source: object) -> None:
    if values.size >= FEWEST_SAMPLES and np.isin(values, (0, 1)).all():
        words = "holds levels, 0 and 1, where durations are wanted: polls stand on lines of their own"
        raise InputError(source, words, f"line {lines[0]}")


def _marks_are_negative(bursts: Sequence[Floats], sure_gap: float) -> bool:
    """Whether signs tell the level of a receiver's line, which is low where there is a mark: each burst begins with its
    leader, and ends with a mark as short as most.
    """
    for values in bursts:
        inside = values[np.abs(values) < sure_gap]
        if inside.size < FEWEST_IN_UNITS or not inside[0] == values[0] < 0 or not inside[-1] < 0:
            return False
        lengths = np.abs(inside)
        if lengths[0] < AS_LONG * lengths.max() or lengths[-1] > MARK_AT_END * median(lengths):
            return False
    return True


def _in_turns(values: Floats, lines: NDArray[np.intp], sure_gap: float, source: object) -> Floats:
    """Durations of which nothing tells whether they are marks: these and spaces take turns, marks above 0."""
    if values.size > 1 and values[0] == 0:  # the silence before the press, of which nothing was measured
        values, lines = values[1:], lines[1:]
    if np.any(values < 0):
        _expect_turns(values, lines, source)
        return values
    values = values.copy()
    values[1 if values[0] < sure_gap else 0 :: 2] *= -1  # some write the silence before the press first
    return values


def _unit(values: Floats, text: str) -> tuple[float, tuple[str, ...]]:
    """What 1 stands for, µs, where the numbers are too small for microseconds; and what is to be said of it."""
    usual = median(np.abs(values))
    named_us = tick_named(text) if has_words(text) else None
    if named_us is not None and usual * named_us < LONGEST_USUAL_US and not _on_grid(values, named_us):
        return named_us, ()
    if values.size < FEWEST_IN_UNITS or not 0 < usual < TINY_US:
        return 1.0, ()
    rate = rate_named(text)
    unit_us = 1e6 / rate if rate else unit_named(text) or 1.0
    unit_us = unit_of_fractions(values, usual) if unit_us == 1.0 else unit_us
    if unit_us > 1.0:
        return unit_us, (f"its durations are taken for numbers of {unit_us:g} µs",)
    words = f"its durations are a few microseconds (median {usual:g}): where they are in another unit, write it in the"
    return 1.0, (f'{words} text, as in "# ms" or "# tick = 50 us"',)


def _on_grid(values: Floats, step_us: float) -> bool:
    """Whether numbers are in µs already, and a multiple each of what a clock was said to count."""
    return step_us > 1 and bool(np.all(values % step_us == 0))


def _values(burst: Burst, source: object) -> tuple[Floats, NDArray[np.intp]]:
    """Numbers as written (marks and spaces named in words get their sign), and the line of each."""
    said: list[str] = []
    signs: list[float] = []
    counts: list[int] = []
    for number, words in burst.lines:
        if words[0].lower() not in WORDS:
            said += words
            signs += [1.0] * len(words)
        elif len(words) % 2 or any(word.lower() not in WORDS for word in words[::2]):
            raise InputError(source, f'"{words[0]}" is followed by one duration', f"line {number}")
        else:
            said += words[1::2]
            signs += [WORDS[word.lower()] for word in words[::2]]
        counts.append(len(said))
    places = np.repeat([number for number, _ in burst.lines], np.diff(counts, prepend=0))
    places += np.arange(places.size) if burst.column else 0
    try:
        found = np.array(said, dtype=np.float64)
    except ValueError:
        at = next(at for at, word in enumerate(said) if not is_number(word))
        raise InputError(source, f'"{said[at][:40]}" is no duration', f"line {places[at]}") from None
    possible = np.abs(found) <= LONGEST_US
    if not possible.all():
        at = int(np.argmin(possible))
        raise InputError(source, f'"{said[at][:40]}" is no possible duration', f"line {places[at]}")
    negative = (np.array(signs) < 0) & (found < 0)
    if negative.any():
        raise InputError(source, "a space of negative length", f"line {places[int(np.argmax(negative))]}")
    return found * signs, places


def _expect_turns(values: Floats, lines: NDArray[np.intp], source: object) -> None:
    """Where only spaces carry a sign, a second one of a kind in a row is a mistake rather than a longer pulse."""
    same = np.flatnonzero((values[1:] < 0) == (values[:-1] < 0))
    if same.size:
        at = int(same[0]) + 1
        kind = "negative" if values[at] < 0 else "positive"
        raise InputError(
            source, f"{values[at]:g} is the second {kind} duration in a row; marks and spaces take turns",
            f"line {lines[at]}",
        )  # fmt: skip


def write(path: Path, pulses: Pulses, notes: Sequence[Note] = ()) -> None:
    """Signed durations, a line a burst, in an exact decimal form."""
    path.write_text(to_text(pulses), "utf-8")


def to_text(pulses: Pulses) -> str:
    signed = signed_from_start(pulses)
    breaks = np.flatnonzero(signed <= -LINE_BREAK_US) + 1
    pieces = np.split(np.arange(signed.size), breaks)
    return "".join(as_words(signed[piece]) + "\n" for piece in pieces if piece.size)


def as_words(signed_us: Floats) -> str:
    """Signed durations as they stand on a line."""
    return " ".join(_word(value) for value in signed_us.tolist() if value)


def _word(value: float) -> str:
    text = repr(abs(value)).removesuffix(".0")
    return ("+" if value > 0 else "-") + text


FORMAT = Format("timing-text", (".txt", ".h", ".c"), claims, read, write, obeys=frozenset({"rate_hz", "level"}))
