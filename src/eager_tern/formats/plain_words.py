"""Durations however they are spelled, in plain words: decimal numbers in µs, and names for levels."""

from __future__ import annotations

import re

from eager_tern.formats.rates import UNITS_US
from eager_tern.formats.rows import NUMBER

DIVIDED = re.compile(r"^.*\d(?:\s*[|/]\s*[-+]?\d+){5,}.*$", re.MULTILINE)  # a list, and no row of a table
IN_UNITS = re.compile(rf"(?<![\w.])({NUMBER})\s?(ms|msec|s|sec|ns|nsec)(?!\w)")
HEXADECIMAL = re.compile(r"\b0x[0-9a-f]{1,8}\b", re.IGNORECASE)
PARTED = re.compile(r"(?<=\d)['’](?=\d{3}(?!\d))")  # as thousands are where the comma is for decimals
PARTED_BY_A_BLANK = re.compile(r"(?<=\d) (?=\d{3}(?!\d))")
CELL = re.compile(r"\s*[-+]?(?:\d{1,2} \d{3}|\d{1,3})\s*")  # of a list in which a blank parts only thousands
BY_THOUSANDS = re.compile(r"[-+]?\d{1,3}(?:,\d{3})*")
DECIMAL_COMMA = re.compile(r"(?<![\d,])([-+]?\d+),(\d{1,3})(?=;|\s*$)", re.MULTILINE)
JOINED = re.compile(r"(?<![\w.+-])\d+([-+_])\d+(?:\1\d+){4,}(?![\w.])")
TAG = re.compile(r"<(/?)([a-z]+)[^<>]*>", re.IGNORECASE)
FEWEST_TAGS = 6  # that make a document of tags
UP, DOWN = "↑^‾¯▔", "↓v_▁"
ARROW = re.compile(rf"(?<![^\s])[{UP}{DOWN}](?=[ \t]*\d)|(?<=\s)[{UP}{DOWN}](?=[ \t]*(?:[,;]|$))", re.MULTILINE)
THOUSANDS = 3  # digits behind the comma
WITHOUT = 0.1  # of the numbers have no comma where commas part thousands; decimals are written to all


def in_plain_words(text: str) -> str:
    """A text whose numbers are decimal, in µs, have nothing but a point between their digits and blanks around them."""
    text = with_arrows_named(text)
    if "'" in text or "’" in text:
        text = PARTED.sub("", text)
    if ("</" in text or "/>" in text) and len(TAG.findall(text)) >= FEWEST_TAGS:
        text = TAG.sub(_tag, text)
    if any(sign in text for sign in "-+_"):
        text = JOINED.sub(lambda found: found[0].replace(found[1], " "), text)
    if "0x" in text or "0X" in text:
        text = HEXADECIMAL.sub(lambda found: str(int(found[0], 16)), text)
    if "|" in text or "/" in text:
        text = DIVIDED.sub(lambda found: found[0].replace("|", " ").replace("/", " "), text)
    if "s" in text:
        text = IN_UNITS.sub(lambda found: f"{round(float(found[1]) * UNITS_US[found[2]], 3):.12g}", text)
    cells = [cell for cell in re.split(r"[;\n]", text) if cell.strip()] if ";" in text else []
    if len(cells) > 1 and all(map(CELL.fullmatch, cells)):
        text = PARTED_BY_A_BLANK.sub("", text)
    if "," not in text:
        return text
    fractions = {len(found[2]) for found in DECIMAL_COMMA.finditer(text)} if ";" in text else set()
    if len(fractions) == 1 and not re.search(r"\d,\d{4}", text) and not _by_thousands(text, *fractions):
        return DECIMAL_COMMA.sub(r"\1.\2", text)
    with_commas = [word.strip(";") for word in text.split() if "," in word.strip(",;")]
    if len(with_commas) > 1 and all(map(BY_THOUSANDS.fullmatch, with_commas)):
        return text.replace(",", "")
    return text


def with_arrows_named(text: str) -> str:
    """A text in which levels that are drawn are words."""
    if not any(arrow in text for arrow in UP) or not any(arrow in text for arrow in DOWN):
        return text
    return ARROW.sub(lambda found: "high" if found[0] in UP else "low", text)


def _tag(found: re.Match[str]) -> str:
    """What a tag is called, or else what it says itself."""
    if found[1]:
        return " "
    return f" {found[0][1:-1]} " if any(map(str.isdigit, found[0])) else f" {found[2]} "


def _by_thousands(text: str, digits: int) -> bool:
    """Whether commas part thousands: then numbers below a thousand have none."""
    words = [word for word in text.replace(";", " ").split() if any(map(str.isdigit, word))]
    return digits == THOUSANDS and sum("," not in word for word in words) > WITHOUT * len(words)
