"""Durations however they are spelled, in plain words: decimal numbers in µs, and names for levels."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

import numpy as np

from eager_tern.formats.rates import UNITS_US
from eager_tern.formats.rows import NUMBER

PAIR = r"\d\s*,\s*[-+]?\d+"
PAIRS = re.compile(rf"^[^|\n]*{PAIR}(?:\s*\|\s*[-+]?\d*{PAIR}){{3,}}.*$", re.MULTILINE)  # a bar between each two
DIVIDED = re.compile(r"^.*\d(?:\s*[|/]\s*[-+]?\d+){5,}.*$", re.MULTILINE)  # a list, and no row of a table
COMMA_BEFORE_UNIT = re.compile(r"(?<![\w.,])([-+]?\d+),(\d{1,3})(?=\s?(?:ms|s)(?!\w))")
IN_UNITS = re.compile(rf"(?<![\w.])({NUMBER})\s?(ms|msec|s|sec|ns|nsec)(?!\w|[:=]\s*\d)")
OF_TYPE = re.compile(r"(?<=\d)_?[ui](?:8|16|32|64)(?!\w)")  # behind a number
WITH_EXPONENT = re.compile(r"(?<![\w.])\d+(?:\.\d+)?e[-+]\d\d?(?![\w.])", re.IGNORECASE)
HEX_LIST = re.compile(r"(?<![\w.])([0-9a-f]{2,8})(?:[ ,;\t]+[0-9a-f]{2,8}){5,}+(?![\w.])", re.IGNORECASE)
HEX_BEHIND = re.compile(r"\b0([0-9a-f]{3,8})h\b", re.IGNORECASE)  # a nought before, so that it begins with a digit
UNIT_SAID = re.compile(r"\b([A-Za-z])\s*=\s*(\d+(?:\.\d+)?)\s*(?:us|µs|μs)(?!\w)[,:;]?")
NUMBER_OF_FIELD = re.compile(r"(?<=[A-Za-z_])\d+(?=\s*=\s*\d)")
HEXADECIMAL = re.compile(r"\b0x[0-9a-f]{1,8}\b", re.IGNORECASE)
PARTED = re.compile(r"(?<=\d)['’](?=\d{3}(?!\d))")  # as thousands are where the comma is for decimals
PARTED_BY_A_LINE = re.compile(r"(?<![\w.])\d{1,3}(?:_\d{3})+(?!\w)")  # as in programs
PARTED_BY_A_BLANK = re.compile(r"(?<=\d) (?=\d{3}(?!\d))")
CELL = re.compile(r"\s*[-+]?(?:\d{1,2} \d{3}|\d{1,3})\s*")  # of a list in which a blank parts only thousands
BY_THOUSANDS = re.compile(r"[-+]?\d{1,3}(?:,\d{3}){1,3}")
FEW_THOUSANDS = re.compile(r"[-+]?\d{1,2},\d{3}")  # all others may be columns of numbers below a thousand
DECIMAL_COMMA = re.compile(r"(?<![\d,])([-+]?\d+),(\d{1,3})(?=;|\s*$)", re.MULTILINE)
JOINED = re.compile(r"(?<![\w.+-])\d+([-+_])\d+(?:\1\d+){4,}(?![\w.])")
TAG = re.compile(r"<(/?)([a-z]+)[^<>]*>", re.IGNORECASE)
LINE_ENDS = ("\n", "\r\n")
FEWEST_IN_UNITS = 6  # numbers that a letter for a unit stands behind
FEWEST_TAGS = 6  # that make a document of tags
UP, DOWN = "↑^‾¯▔", "↓v_▁"
ARROW = re.compile(rf"(?<![^\s])[{UP}{DOWN}](?=[ \t]*\d)|(?<=\s)[{UP}{DOWN}](?=[ \t]*(?:[,;]|$))", re.MULTILINE)
THOUSANDS = 3  # digits behind the comma
WITHOUT = 0.1  # of the numbers have no comma where commas part thousands; decimals are written to all


def in_plain_words(text: str) -> str:
    """A text whose numbers are decimal, in µs, have nothing but a point between their digits and blanks around them."""
    text = with_arrows_named(text)
    for signs, in_plain in SPELLINGS:
        if any(sign in text for sign in signs):
            text = in_plain(text)
    cells = [cell for cell in re.split(r"[;\n]", text) if cell.strip()] if ";" in text else []
    if len(cells) > 1 and all(map(CELL.fullmatch, cells)):
        text = PARTED_BY_A_BLANK.sub("", text)
    return _without_commas(text) if "," in text else text


def _without_commas(text: str) -> str:
    """A text with points for the commas that begin decimals, and nothing for those between thousands."""
    fractions = {len(found[2]) for found in DECIMAL_COMMA.finditer(text)} if ";" in text else set()
    if len(fractions) == 1 and not re.search(r"\d,\d{4}", text) and not _by_thousands(text, *fractions):
        return DECIMAL_COMMA.sub(r"\1.\2", text)
    words = [word.strip(",;") for word in text.split()]
    with_commas = [word for word in words if "," in word]
    if len(with_commas) < 2 or not all(map(BY_THOUSANDS.fullmatch, with_commas)):
        return text
    has_smaller = sum(map(str.isdecimal, words)) > WITHOUT * len(with_commas)
    return text.replace(",", "") if has_smaller or all(map(FEW_THOUSANDS.fullmatch, with_commas)) else text


def _in_decimal(found: re.Match[str]) -> str:
    """A list of hexadecimal numbers, which have as many digits each and letters among them, in decimal ones."""
    words = re.split(r"[ ,;\t]+", found[0])
    is_hexadecimal = len(set(map(len, words))) == 1 and not all(map(str.isdecimal, words))
    return " ".join(str(int(word, 16)) for word in words) if is_hexadecimal else found[0]


def _without_exponent(found: re.Match[str]) -> str:
    return np.format_float_positional(float(found[0]), trim="-")


def _without_numbers_of_fields(text: str) -> str:
    """A text in whose lines fields are called "d0" and "d1" as if all were "d"; a single one may name a list."""
    lines = text.split("\n")
    return "\n".join(
        NUMBER_OF_FIELD.sub("", line) if len(NUMBER_OF_FIELD.findall(line)) > 1 else line for line in lines
    )


def _without_tags(text: str) -> str:
    return TAG.sub(_tag, text) if ("</" in text or "/>" in text) and len(TAG.findall(text)) >= FEWEST_TAGS else text


def _in_microseconds(text: str) -> str:
    text = COMMA_BEFORE_UNIT.sub(r"\1.\2", text)
    return IN_UNITS.sub(lambda found: f"{round(float(found[1]) * UNITS_US[found[2]], 3):.12g}", text)


def _in_said_units(text: str) -> str:
    """A text whose numbers are of a unit that it gives a letter: "T = 562 us: 16T 8T 1T"."""
    if (unit := UNIT_SAID.search(text)) is None:
        return text
    number = re.compile(rf"(?<![\w.])({NUMBER}){unit[1]}(?!\w)")
    if len(number.findall(text)) < FEWEST_IN_UNITS:
        return text
    return number.sub(lambda found: f"{float(found[1]) * float(unit[2]):.12g}", UNIT_SAID.sub(" ", text))


def with_arrows_named(text: str) -> str:
    """A text in which levels that are drawn are words."""
    if not any(arrow in text for arrow in UP) or not any(arrow in text for arrow in DOWN):
        return text
    return ARROW.sub(lambda found: "high" if found[0] in UP else "low", text)


def _tag(found: re.Match[str]) -> str:
    """What a tag is called, or else what it says itself."""
    name = found[2].lower()
    if name == "table" or (found[1] and name == "tr"):  # a row ends where its line does not
        return " " if found.string.startswith(LINE_ENDS, found.end()) else "\n"
    if found[1] or name == "tr":
        return " "
    return f" {found[0][1:-1]} " if any(map(str.isdigit, found[0])) else f" {found[2]} "


def _by_thousands(text: str, digits: int) -> bool:
    """Whether commas part thousands: then numbers below a thousand have none."""
    words = [word for word in text.replace(";", " ").split() if any(map(str.isdigit, word))]
    return digits == THOUSANDS and sum("," not in word for word in words) > WITHOUT * len(words)


# Spellings, each by a sign without which there is none of it: most texts have few.
SPELLINGS: tuple[tuple[Sequence[str], Callable[[str], str]], ...] = (
    (("hex", "Hex", "HEX"), lambda text: HEX_LIST.sub(_in_decimal, text)),
    (("e-", "e+", "E-", "E+"), lambda text: WITH_EXPONENT.sub(_without_exponent, text)),
    ("'’", lambda text: PARTED.sub("", text)),
    ("<", _without_tags),
    ("-+_", lambda text: JOINED.sub(lambda found: found[0].replace(found[1], " "), text)),
    ("_", lambda text: PARTED_BY_A_LINE.sub(lambda found: found[0].replace("_", ""), text)),
    ("ui", lambda text: OF_TYPE.sub("", text)),
    ("xX", lambda text: HEXADECIMAL.sub(lambda found: str(int(found[0], 16)), text)),
    ("hH", lambda text: HEX_BEHIND.sub(lambda found: str(int(found[1], 16)), text)),
    ("=", _in_said_units),
    ("=", _without_numbers_of_fields),
    ("|", lambda text: PAIRS.sub(lambda found: found[0].replace("|", " "), text)),
    ("|/", lambda text: DIVIDED.sub(lambda found: found[0].replace("|", " ").replace("/", " "), text)),
    ("s", _in_microseconds),
)
