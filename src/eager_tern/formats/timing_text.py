"""Timing text: durations in microseconds, as people paste them."""

from __future__ import annotations

import re
from itertools import chain
from pathlib import Path

import numpy as np

from eager_tern.errors import InputError
from eager_tern.formats.capture import Capture
from eager_tern.formats.numbers import is_number
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed, signed_from_start

NAME = "timing-text"
SUFFIXES = (".txt", ".h", ".c")

SILENCE_US = 1_000_000.0  # what a blank line stands for
LONGEST_US = 1e12
WORDS = {"mark": 1.0, "space": -1.0}
COMMENT = re.compile(r"#.*|//.*")
BLOCK_COMMENT = re.compile(r"/\*.*?\*/", re.DOTALL)
ARRAY = re.compile(r"\{([^{}\"']*)\}", re.DOTALL)
NUMBERS_ONLY = re.compile(r"[\s\d.,;+eE-]*\d[\s\d.,;+eE-]*")
SEPARATORS = str.maketrans(",;\t", "   ")
LINE_BREAK_US = 10_000.0  # written text breaks its lines at silences of this length


def recognises(head: bytes) -> bool:
    """Any text may be timing text: the reader says what is wrong with it."""
    return b"\0" not in head


def begins(head: bytes) -> bool:
    """Whether text begins as timing text does: with a number, a word for a level, a comment or an array."""
    first = COMMENT.sub("", head.decode("utf-8", "replace")).translate(SEPARATORS).split(maxsplit=1)
    return not first or first[0].lower() in WORDS or is_number(first[0]) or b"{" in head


def read(path: Path) -> list[Capture]:
    """The one capture of a timing text. Raises InputError with the line."""
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(path, "is neither text nor a binary format known here", f"byte {error.start}") from None
    return [Capture(str(path), NAME, pulses=parse(text, path))]


def parse(text: str, source: object = "text") -> Pulses:
    """Pulses from timing text. Raises InputError with the line."""
    bursts = _bursts(text)
    has_plus = any(word.startswith("+") for _, words in chain(*bursts) for word in words[:2])
    signed: list[Floats] = []
    for burst in bursts:
        values, lines = _values(burst, source)
        if values.size == 0:
            continue
        alternating = not _names_levels(burst) and not has_plus and not np.any(values < 0)
        if alternating:
            values = values.copy()
            values[1::2] *= -1
        elif not has_plus and not _names_levels(burst):
            _expect_turns(values, lines, source)
        if signed:
            signed.append(np.array([-SILENCE_US]))
        signed.append(values)
    if not signed:
        raise InputError(source, "holds no durations")
    return pulses_from_signed(np.concatenate(signed))


def _bursts(text: str) -> list[list[tuple[int, list[str]]]]:
    """Lines as words, with their numbers, in groups between the blank lines (or one group an array)."""
    text = BLOCK_COMMENT.sub(lambda found: "\n" * found[0].count("\n"), text)
    arrays = list(ARRAY.finditer(text))
    # A header has other braces, too; where none holds only numbers, the first wrong word is to be named.
    numeric = [a for a in arrays if NUMBERS_ONLY.fullmatch(COMMENT.sub("", a[1]))] or arrays
    stretches = [(text.count("\n", 0, a.start(1)) + 1, a[1]) for a in numeric]
    if not stretches:
        stretches = [(1, text)]
    bursts: list[list[tuple[int, list[str]]]] = []
    for first_line, stretch in stretches:
        bursts.append([])
        for number, line in enumerate(stretch.splitlines(), first_line):
            words = COMMENT.sub("", line).translate(SEPARATORS).split()
            if words:
                bursts[-1].append((number, words))
            elif not line.strip() and not arrays and bursts[-1]:
                bursts.append([])
    return bursts


def _names_levels(burst: list[tuple[int, list[str]]]) -> bool:
    return bool(burst) and burst[0][1][0].lower() in WORDS


def _values(burst: list[tuple[int, list[str]]], source: object) -> tuple[Floats, Floats]:
    """Numbers as written (marks and spaces named in words get their sign), and the line of each."""
    values: list[Floats] = []
    lines: list[Floats] = []
    for number, words in burst:
        place = f"line {number}"
        sign = 1.0
        if words[0].lower() in WORDS:
            if len(words) != 2:
                raise InputError(source, f'"{words[0]}" is followed by one duration', place)
            sign, words = WORDS[words[0].lower()], words[1:]
        try:
            found = np.array(words, dtype=np.float64)
        except ValueError:
            bad = next(word for word in words if not is_number(word))
            raise InputError(source, f'"{bad[:40]}" is no duration', place) from None
        if not np.all(np.isfinite(found)) or np.any(np.abs(found) > LONGEST_US):
            bad = words[int(np.argmax(~(np.abs(found) <= LONGEST_US)))]
            raise InputError(source, f'"{bad[:40]}" is no possible duration', place)
        if sign < 0 and np.any(found < 0):
            raise InputError(source, f'a space of negative length, "{words[0]}"', place)
        values.append(found * sign)
        lines.append(np.full(found.size, number, dtype=np.float64))
    if not values:
        return np.empty(0), np.empty(0)
    return np.concatenate(values), np.concatenate(lines)


def _expect_turns(values: Floats, lines: Floats, source: object) -> None:
    """Where only spaces carry a sign, a second one of a kind in a row is a mistake rather than a longer pulse."""
    same = np.flatnonzero((values[1:] < 0) == (values[:-1] < 0))
    if same.size:
        at = int(same[0]) + 1
        kind = "negative" if values[at] < 0 else "positive"
        raise InputError(
            source, f"{values[at]:g} is the second {kind} duration in a row; marks and spaces take turns",
            f"line {int(lines[at])}",
        )  # fmt: skip


def write(path: Path, pulses: Pulses) -> None:
    """Signed durations, a line a burst, in an exact decimal form."""
    path.write_text(to_text(pulses), "utf-8")


def to_text(pulses: Pulses) -> str:
    signed = signed_from_start(pulses)
    words = [_word(value) for value in signed.tolist()]
    breaks = np.flatnonzero(signed <= -LINE_BREAK_US) + 1
    pieces = np.split(np.arange(signed.size), breaks)
    return "".join(" ".join(words[i] for i in piece) + "\n" for piece in pieces if piece.size)


def _word(value: float) -> str:
    text = repr(abs(value)).removesuffix(".0")
    return ("+" if value > 0 else "-") + text
