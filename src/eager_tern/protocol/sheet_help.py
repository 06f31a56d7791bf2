"""What each key of a sheet means, with an example: shown beside the text while it is written."""

from __future__ import annotations

import re

GENERAL = (
    "A sheet says how a protocol's frames look and what their bits mean. Lengths are in units: marks positive, spaces "
    "negative. Bits are counted from 0 in the order in which they are sent."
)
KEYS = {
    "id": 'A short name: small letters, digits, hyphens.\n\nid = "hide-lamp"',
    "name": "What a person calls it; of a field, small letters, digits and _.",
    "about": "A sentence for whoever reads the sheet.",
    "based_on": 'Another sheet: what this text does not say stands as there.\n\nbased_on = "nec"',
    "family": "Sheets of a family share repeat codes; usually left out.",
    "unit_us": "How long a unit is, µs.\n\nunit_us = 562.5",
    "carrier_hz": "The carrier's frequency.\n\ncarrier_hz = 38000",
    "tolerance": "How far a handset's clock may be off, as a part.\n\ntolerance = 0.2",
    "mark_excess_us": "How much longer marks are recorded than sent; found frame by frame if left out.",
    "weight": "How usual the protocol is beside the others, up to 1.",
    "overrules": "true: its frames are read by it, whatever else fits.",
    "zero": "The symbol of a 0, in units.\n\nzero = [1, -1]",
    "one": "The symbol of a 1, in units. If one begins with a mark and the other with a space, it is bi-phase.\n\n"
    "one = [1, -3]",
    "symbols": "Instead of zero and one: 4, 8 or 16 symbols for groups of bits.\n\n"
    "symbols = [[6, -10], [6, -16], [6, -22], [6, -28]]",
    "serial": "Instead of symbols: asynchronous characters; the unit is a bit.\n\n"
    'serial = { data_bits = 8, parity = "none", stop_bits = 1 }',
    "first": 'The frame that a press begins with, or several in turn.\n\nfirst = ["plain", "inverted"]',
    "held": "The frame that follows while the key is held, or several in turn.",
    "count": "How often the first is sent even for a short press.\n\ncount = 3",
    "period_us": "The rhythm from start to start, µs.",
    "gap_us": "The rhythm from end to start, µs; among parts, the silence between two sections.",
    "parts": "The frame from beginning to end: fixed pulses, bits, gaps.\n\n"
    "parts = [{ pulses = [16, -8] }, { bits = 32 }, { pulses = [1] }]\n\nstretch = 2 makes bits twice as long.",
    "repeat": "true: this frame has no code of its own, it stands for the one before it.",
    "inverts": 'Bits that are sent the other way round in this kind of frame.\n\ninverts = "5-14"',
    "bits": 'Positions from the highest bit to the lowest.\n\n"7-0": sent lowest first\n"0-7": sent highest first\n'
    '"9, 3-1": in two pieces\n"!1, 8-13": the first inverted',
    "role": '"toggle" turns round with each press, "counter" counts, "rolling" is new each time.\n\nrole = "toggle"',
    "encoding": 'How the number is written: "binary", "signed", "magnitude" (its highest bit is the sign of the rest), '
    '"bcd" or "gray".',
    "scale": "value = scale × number + offset.\n\nscale = 0.5",
    "offset": "value = scale × number + offset.\n\noffset = 16",
    "decimals": "The value is rounded to so many, as a display shows it; it is sent in other steps.\n\ndecimals = 0",
    "base": "Of a field: 10 or 16, how a person is shown its value.\n\nbase = 10",
    "unit": 'Of a field: what its value is in.\n\nunit = "°C"\n\nOf a check: bits of the pieces that are added.',
    "table": 'Words for numbers.\n\ntable = { 0 = "auto", 1 = "cool" }',
    "when": 'This field means something only with these values of others.\n\nwhen = { mode = ["cool", "dry"] }',
    "otherwise": "The raw number that is sent where the field means nothing.",
    "seen": "The lowest and the highest value the field was found out with; beyond them it is read with a doubt.\n\n"
    "seen = [16, 30]",
    "blank": "A frame's bits as they are before fields and checks are written: all 0, if not said.",
    "default": "What is sent if nothing is given.",
    "digits": 'Groups of bits and their characters.\n\ndigits = { "00" = "0", "11" = "1", "01" = "F" }',
    "width": 'Bits of each number in a list of all bits.\n\n[[lists]]\nname = "bytes"\nwidth = 8',
    "kind": 'Of a check: "constant", "copy", "complement", "sum", "xor", "parity", "crc" or "linear".',
    "at": "Where the check's own bits stand.",
    "of": "The bits that a copy or complement is taken from.",
    "covers": "Ranges the check is taken over, both ends included.\n\ncovers = [[0, 103]]",
    "value": "What a constant has to be.",
    "order": 'Which bit of a piece is lowest: the first sent ("lsb") or the last ("msb").',
    "init": "The value a check begins with.",
    "by": "Bits that choose what a check begins with, as in seeds.",
    "seeds": "What a check begins with, by the number at by; init for all others.\n\nseeds = { 1 = 0x81, 2 = 0xC1 }",
    "negate": "true: minus the sum.",
    "carry": "true: what a sum carries out at the top is added at the bottom.",
    "columns": "Of a linear check: what each covered bit that is 1 xors on.",
    "swap": "true: nibbles swapped.",
    "xor_out": "What is xored on at the end.",
    "poly": "A CRC's polynomial without its highest bit.\n\npoly = 0x07",
    "reflect_in": "true: a CRC takes each piece lowest bit first.",
    "reflect_out": "true: a CRC's result is turned round.",
}
TABLES = {
    "press": "What one press of a key sends: first, held, and their rhythm.",
    "frames": "A kind of frame. Kinds with bits have the same number of them.",
    "fields": "A number in the frame, or a word it stands for.",
    "texts": "Bits read as characters.",
    "lists": "All bits as numbers of one width.",
    "checks": "A number that follows from other bits.",
}


def help_on(line: str, above: str = "") -> str:
    """What a line of a sheet is about; ``above`` is the text in front of it."""
    if found := re.match(r"\s*\[+\s*(\w+)", line):
        return TABLES.get(found[1], GENERAL)
    if found := re.match(r'\s*"?(\w+)"?\s*=', line):
        return KEYS.get(found[1], f"There is no key “{found[1]}”.")
    tables = re.findall(r"^\s*\[+\s*(\w+)", above, re.MULTILINE)
    return TABLES.get(tables[-1], GENERAL) if tables else GENERAL
