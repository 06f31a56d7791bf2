"""Timing text: durations in microseconds, as people paste them."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np

from eager_tern.errors import InputError
from eager_tern.formats.capture import AS_FOUND, Capture, Format, Note, ReadOptions
from eager_tern.formats.numbers import is_number
from eager_tern.formats.rates import rate_named
from eager_tern.signal.threshold import ThresholdSettings, edges_of_samples
from eager_tern.signal.values import Floats, Pulses, pulses_from_signed, signed_from_start

SILENCE_US = 1_000_000.0  # what a blank line stands for
LONGEST_US = 1e12
WORDS = {"mark": 1.0, "pulse": 1.0, "space": -1.0, "gap": -1.0, "timeout": -1.0}
COMMENT = re.compile(r"#.*|//.*")
BLOCK_COMMENT = re.compile(r"/\*.*?\*/", re.DOTALL)
ARRAY = re.compile(r"\{([^{}\"']*)\}")
NAMED = re.compile(r"(\w{1,200})\s*(?:\[[\w\s]{0,40}\])?(?:\s+PROGMEM)?\s*=\s*$")  # what stands before an array
LIST = re.compile(r"\[([\s\d.,;+-]*)\]")
NAMES = ("name", "label", "key")  # what a JSON object calls the durations in it
FEWEST_IN_LIST = 6  # numbers in brackets that are durations rather than an index
INDEXED = re.compile(r"^\s*\w*\[\s*(\d+)\s*\]\s*[=:]?\s*(.*)$")
NUMBERED = re.compile(r"^\s*(?:line\s*)?(\d+)\s*[:.)\]|]\s+(.*)$", re.IGNORECASE)
MOST_NUMBERED = 0.8  # of the lines
FEWEST_ROWS = 4  # of a table of index, mark and space
FREQUENCY = re.compile("freq|carrier", re.IGNORECASE)
NICKNAME = re.compile(r"^\s*<[^<>\s]{1,40}>\s*|^\s*[\w.-]{1,30}@[\w.-]{1,30}[:~\w/.-]*[$#>]\s*|^\s*>+\s*")
ELLIPSIS = re.compile(r"\.\.\.|…")
BEFORE_ARRAY = 300  # characters in which its name is looked for
NUMBERS_ONLY = re.compile(r"[\s\d.,;+eEuUlL-]*\d[\s\d.,;+eEuUlL-]*")
SEPARATORS = str.maketrans(",;\t", "   ")
LINE_BREAK_US = 10_000.0  # written text breaks its lines at silences of this length

# What terminals and loggers add to what a device prints.
TERMINAL_CODES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]|[\x00-\x08\x0b-\x1a\x1c-\x1f\x7f]")
TIME_OF_DAY = re.compile(
    r"^\s*\[?(?:\d{4}-\d\d-\d\d[ T])?\d{1,2}:\d\d(?::\d\d(?:[.,]\d+)?)?\]?(?![\d.:])\s*(?:->|=>|[>:|])?\s*"
)
PROMPT = re.compile(r"^\s*(?:>+|\$)\s+")
UNIT = re.compile(r"(?<=\d)\s?(?:us|usec|µs|μs|[uU][lL]?|[lL])(?![\w])")
FEWEST_BEHIND_WORDS = 4  # numbers at the end of a line of words that are taken for its durations
FEWEST_SAMPLES, PREAMBLE = 64, 16  # numbers of a recording in one column; lines about it
NARROWEST_TERMINAL, WIDEST_TERMINAL = 60, 250  # columns
CONTINUES = re.compile(r"[\d\s,;+-]+(?:$|[^:])")


@dataclass(frozen=True)
class _Burst:
    """Lines between two silences, each as its number and its words; ``name`` is that of an array."""

    lines: list[tuple[int, list[str]]]
    name: str = ""


def claims(head: bytes, suffix: str) -> bool:
    """Any text may be timing text: the reader says what is wrong with it."""
    return b"\0" not in head


def holds_a_list(text: str) -> bool:
    """Whether durations stand in brackets somewhere, whatever is written round them."""
    return any(len(found[1].translate(SEPARATORS).split()) >= FEWEST_IN_LIST for found in LIST.finditer(text))


def begins(head: bytes) -> bool:
    """Whether text begins as timing text does: with a number, a word for a level, a comment or an array."""
    first = COMMENT.sub("", head.decode("utf-8", "replace")).translate(SEPARATORS).split(maxsplit=1)
    return not first or first[0].lower() in WORDS or is_number(first[0]) or head[:1] in (b"[", b"{") or b"{" in head


def read(path: Path, options: ReadOptions = AS_FOUND) -> list[Capture]:
    """The one capture of a timing text. Raises InputError with the line."""
    try:
        text = path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise InputError(path, "is neither text nor a binary format known here", f"byte {error.start}") from None
    if (sampled := _samples(path, text, options)) is not None:
        return [sampled]
    pulses, notes, warnings = parse_noted(text, path)
    return [Capture(str(path), FORMAT.name, pulses=pulses, notes=notes, warnings=warnings)]


def _samples(path: Path, text: str, options: ReadOptions) -> Capture | None:
    """A column of samples whose rate was told, in a comment or by hand; None where it is none."""
    lines = [(COMMENT.sub("", line).strip(), line) for line in text.splitlines()]
    cells = [bare for bare, _ in lines if is_number(bare)]
    if len(cells) < FEWEST_SAMPLES or len(cells) < sum(bool(bare) for bare, _ in lines) - PREAMBLE:
        return None
    words = "\n".join(line for bare, line in lines if not is_number(bare))
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
    carrier: float | None = None
    passed_over: list[int] = []
    cut = ELLIPSIS.search(text)
    text = ELLIPSIS.sub(" ", text)
    if (found := _json_bursts(text)) is not None:
        bursts, carrier = found
    else:
        bursts, passed_over = _bursts(text, source)
    has_plus = any(word.startswith("+") for burst in bursts for _, words in burst.lines for word in words[:2])
    signed: list[Floats] = []
    notes: list[Note] = []
    now = 0.0
    for burst in bursts:
        values, lines = _values(burst.lines, source)
        if values.size == 0:
            continue
        if not _names_levels(burst.lines) and not has_plus:
            if np.any(values < 0):
                _expect_turns(values, lines, source)
            else:
                values = values.copy()
                values[1::2] *= -1
        if signed:
            signed.append(np.array([-SILENCE_US]))
            now += SILENCE_US
        signed.append(values)
        length = float(np.abs(values).sum())
        if burst.name:
            notes.append(Note(now, now + length, burst.name))
        now += length
    if not signed:
        raise InputError(source, "holds no durations")
    warnings: tuple[str, ...] = ()
    if passed_over:
        count = "a line that holds" if len(passed_over) == 1 else f"{len(passed_over)} lines that hold"
        warnings = (f"line {passed_over[0]}: {count} no durations passed over",)
    if cut is not None:
        line = text.count("\n", 0, cut.start()) + 1
        warnings += (f"line {line}: an ellipsis stands for durations that are missing",)
    return pulses_from_signed(np.concatenate(signed), 0.0, carrier), tuple(notes), warnings


def _json_bursts(text: str) -> tuple[list[_Burst], float | None] | None:
    """The lists of numbers in a JSON document, a burst each, and a carrier (Hz) that it names; None if it is none."""
    if text.lstrip()[:1] not in ("[", "{"):
        return None
    document = _document(text)
    if document is None:
        return None
    bursts: list[_Burst] = []
    carriers: list[float] = []

    def look(value: object, name: str) -> None:
        if isinstance(value, dict):
            own = next((value[key] for key in NAMES if key in value), None)
            for key, each in value.items():
                if FREQUENCY.search(str(key)) and isinstance(each, int | float) and each > 1000:
                    carriers.append(float(each))
                look(each, str(own) if isinstance(own, str) else str(key))
        elif isinstance(value, list) and value and all(type(each) in (int, float) for each in value):
            if len(value) >= FEWEST_IN_LIST:
                bursts.append(_Burst([(1, [repr(each) for each in value])], name))
        elif isinstance(value, list):
            for each in value:
                look(each, name)

    look(document, "")
    return (bursts, carriers[0] if carriers else None) if bursts else None


def _document(text: str) -> object:
    """A JSON document, or one a line; None where it is neither."""
    for pieces in ([text], [line for line in text.splitlines() if line.strip()]):
        try:
            found = [json.loads(piece) for piece in pieces]
        except (ValueError, RecursionError):
            continue
        return found
    return None


def _plain_lines(lines: list[tuple[int, str]]) -> list[tuple[int, str]]:
    """Lines without what counts them: a number and a colon before each, an index in brackets, a first column 0, 1,
    2 …
    """
    for pattern in (INDEXED, NUMBERED):
        found = [(number, pattern.match(line)) for number, line in lines if line.strip()]
        counted = [int(match[1]) for _, match in found if match]
        if len(counted) >= max(2, MOST_NUMBERED * len(found)) and _counts(counted):
            return [(n, match[2] if (match := pattern.match(line)) else line) for n, line in lines]
    rows = [(number, line.translate(SEPARATORS).split()) for number, line in lines]
    cells = [row for _, row in rows if row and all(map(is_number, row))]
    wide = len(cells) >= FEWEST_ROWS and all(len(row) == 3 for row in cells[:-1]) and 2 <= len(cells[-1]) <= 3
    if wide and _counts([float(row[0]) for row in cells]):
        return [(n, " ".join(row[1:] if row and all(map(is_number, row)) else row)) for n, row in rows]
    return lines


def _counts(numbers: Sequence[float]) -> bool:
    return all(b - a == 1 for a, b in pairwise(numbers)) and numbers[0] in (0, 1)


def _bursts(text: str, source: object) -> tuple[list[_Burst], list[int]]:
    """The text's bursts (between blank lines, or one an array), and the numbers of the lines that are prose."""
    text = BLOCK_COMMENT.sub(lambda found: "\n" * found[0].count("\n"), text)
    arrays = list(ARRAY.finditer(text))
    if arrays:
        # A header has other braces, too; where none holds only numbers, the first wrong word is to be named.
        numeric = [a for a in arrays if NUMBERS_ONLY.fullmatch(COMMENT.sub("", a[1]))] or arrays
        return [_Burst(_array_lines(text, a), _array_name(text, a)) for a in numeric], []
    lists = [found for found in LIST.finditer(text) if len(found[1].translate(SEPARATORS).split()) >= FEWEST_IN_LIST]
    if lists:
        return [_Burst(_array_lines(text, found), _array_name(text, found)) for found in lists], []
    return _bursts_of_lines(_plain_lines(_unwrapped(TERMINAL_CODES.sub("", text).split("\n"))), source)


def _array_name(text: str, array: re.Match[str]) -> str:
    named = NAMED.search(text[max(array.start() - BEFORE_ARRAY, 0) : array.start()])
    return named[1] if named else ""


def _array_lines(text: str, array: re.Match[str]) -> list[tuple[int, list[str]]]:
    first = text.count("\n", 0, array.start(1)) + 1
    words = (UNIT.sub("", COMMENT.sub("", line)).translate(SEPARATORS).split() for line in array[1].splitlines())
    return [(number, line) for number, line in enumerate(words, first) if line]


def _bursts_of_lines(lines: list[tuple[int, str]], source: object) -> tuple[list[_Burst], list[int]]:
    """Lines to bursts. Prompts and times of day are taken off, prose is passed over if there are durations as well."""
    bursts = [_Burst([])]
    prose: list[tuple[int, str]] = []
    for number, line in lines:
        bare = PROMPT.sub("", NICKNAME.sub("", TIME_OF_DAY.sub("", COMMENT.sub("", line))))
        words = UNIT.sub("", bare).translate(SEPARATORS).split()
        if not words:
            if not line.strip() and bursts[-1].lines:
                bursts.append(_Burst([]))
            continue
        if is_number(words[0]) or words[0].lower() in WORDS:
            bursts[-1].lines.append((number, words))
            continue
        behind = _numbers_behind(words)
        if bursts[-1].lines and _names_levels(bursts[-1].lines) and len(words) == 2 and is_number(words[1]):
            raise InputError(source, f'"{words[0][:40]}" is neither a mark nor a space', f"line {number}")
        if not behind:
            prose.append((number, words[0]))
        if bursts[-1].lines:
            bursts.append(_Burst([]))
        if behind:
            bursts[-1].lines.append((number, behind))
    if prose and not any(burst.lines for burst in bursts):
        raise InputError(source, f'"{prose[0][1][:40]}" is no duration', f"line {prose[0][0]}")
    return bursts, [number for number, _ in prose]


def _numbers_behind(words: list[str]) -> list[str]:
    """The durations at the end of a line that begins with words."""
    count = 0
    for word in reversed(words):
        if not is_number(word):
            break
        count += 1
    return words[len(words) - count :] if count >= FEWEST_BEHIND_WORDS else []


def _unwrapped(lines: list[str]) -> list[tuple[int, str]]:
    """Numbered lines, those put together again that a terminal of fixed width broke, even within a number."""
    lines = [line.rstrip("\r") for line in lines]
    width = max(map(len, lines), default=0)
    full = sum(len(line) == width for line in lines)
    same_words = len({len(line.translate(SEPARATORS).split()) for line in lines if len(line) == width}) == 1
    evenly_set = same_words and full > 2 and full > len(lines) / 2
    broken = NARROWEST_TERMINAL <= width <= WIDEST_TERMINAL and full >= 2 and not evenly_set
    joined: list[tuple[int, str]] = []
    goes_on = False
    for number, line in enumerate(lines, 1):
        if goes_on and line.strip() and CONTINUES.match(line) and not TIME_OF_DAY.match(line):
            glue = " " if line[0] in "+-" else ""
            joined[-1] = (joined[-1][0], joined[-1][1] + glue + line)
        else:
            joined.append((number, line))
        goes_on = broken and len(line) == width and line[-1:].isdigit() | line[-1:].isspace() | (line[-1:] in ",;+-")
    return joined


def _names_levels(burst: list[tuple[int, list[str]]]) -> bool:
    return bool(burst) and burst[0][1][0].lower() in WORDS


def _values(burst: list[tuple[int, list[str]]], source: object) -> tuple[Floats, Floats]:
    """Numbers as written (marks and spaces named in words get their sign), and the line of each."""
    values: list[Floats] = []
    lines: list[Floats] = []
    for number, words in burst:
        place = f"line {number}"
        if len(words) > 2 and len(words) % 2 == 0 and all(word.lower() in WORDS for word in words[::2]):
            signs = np.array([WORDS[word.lower()] for word in words[::2]])
            words = words[1::2]
        elif words[0].lower() in WORDS:
            if len(words) != 2:
                raise InputError(source, f'"{words[0]}" is followed by one duration', place)
            signs, words = np.array([WORDS[words[0].lower()]]), words[1:]
        else:
            signs = np.ones(1)
        try:
            found = np.array(words, dtype=np.float64)
        except ValueError:
            bad = next(word for word in words if not is_number(word))
            raise InputError(source, f'"{bad[:40]}" is no duration', place) from None
        if not np.all(np.isfinite(found)) or np.any(np.abs(found) > LONGEST_US):
            bad = words[int(np.argmax(~(np.abs(found) <= LONGEST_US)))]
            raise InputError(source, f'"{bad[:40]}" is no possible duration', place)
        if np.any((signs < 0) & (found < 0)):
            raise InputError(source, f'a space of negative length, "{words[0]}"', place)
        values.append(found * signs)
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
