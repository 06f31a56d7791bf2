"""What somebody says of a line holds; why a sheet does not fit; codes; sheets that cannot work."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.errors import InputError
from eager_tern.protocol.checks import evaluate
from eager_tern.protocol.codes import codes_of
from eager_tern.protocol.loading import library, library_sheet, parse_sheet
from eager_tern.protocol.reading import serial_words
from eager_tern.protocol.said import read_said, said
from eager_tern.protocol.take import TakeRead, read_pulses
from eager_tern.protocol.why import why_not
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import nec, record, serial, sony
from tests.strangers import a_stranger, take_of


def read(signed: list[float], rng: np.random.Generator) -> TakeRead:
    return read_pulses(pulses_from_signed(record([-4e5, *signed, -4e5], rng, jitter_us=10)), library())


@pytest.mark.parametrize(
    ("words", "baud"),
    [("serial:1200-8N1", 1200), ("serial:1200", 1200), ("serial", 1200), ("serial:115200-8N1", 115_200)],
)
def test_characters_are_read_as_they_are_said_to_be(rng: np.random.Generator, words: str, baud: int) -> None:
    line = [-4e5, *serial([72, 101, 108, 108, 111, 33], baud)]
    pulses = pulses_from_signed(record(line, rng, jitter_us=0.01 * 1e6 / baud))
    (frame,) = read_said(pulses, said(words)).frames
    assert frame.reading.protocol == "async-serial"
    assert frame.reading.confidence > 0.9
    assert len(frame.reading.fields["bytes"]) == 6
    assert serial_words(frame.reading).endswith('8N1 "Hello!"')


@pytest.mark.parametrize("code", ["pulse-distance", "pulse-width", "biphase"])
def test_a_code_that_is_said_is_read(rng: np.random.Generator, code: str) -> None:
    stranger = a_stranger(rng, code, "run-in")
    signed, sent = take_of(rng, stranger)
    take = read_said(pulses_from_signed(record(signed, rng, jitter_us=10)), said(code))
    assert [press.lead.reading.bits.tolist() for press in take.presses] == [each.bits for each in sent]


@pytest.mark.parametrize("code", ["pulse-distance", "pulse-width"])
def test_sections_of_a_code_that_is_said_are_one_frame(rng: np.random.Generator, code: str) -> None:
    stranger = a_stranger(rng, code, "mark-space", sections=2)
    signed, sent = take_of(rng, stranger)
    take = read_said(pulses_from_signed(record(signed, rng, jitter_us=10)), said(code))
    assert [press.lead.reading.bits.tolist() for press in take.presses] == [each.bits for each in sent]
    assert all(len(press.lead.reading.sections) == 2 for press in take.presses)


def test_noisy_frames_of_a_code_that_is_said_are_asked_about_one_another() -> None:
    rng = np.random.default_rng(11)
    stranger = a_stranger(rng, "biphase", "double")
    signed, sent = take_of(rng, stranger)
    take = read_said(pulses_from_signed(record(signed, rng, jitter_us=45)), said("biphase"))
    assert [press.lead.reading.bits.tolist() for press in take.presses] == [each.bits for each in sent]


@pytest.mark.parametrize("words", ["morse", "serial:0", "serial:1200-9N1", "serial:x"])
def test_what_is_no_line_code_is_refused(words: str) -> None:
    with pytest.raises(ValueError, match=r"serial:1200-8N1"):
        said(words)


def test_why_a_sheet_does_not_fit_is_said_in_words(rng: np.random.Generator) -> None:
    frame = read(nec(0x5B, 0x16), rng).frames[0]
    sirc, samsung, own = (library_sheet(name) for name in ("sirc12", "samsung32", "nec"))
    assert sirc is not None
    assert samsung is not None
    assert own is not None
    assert why_not(frame, own) == []
    assert "its leader's mark is 4.5 ms, this one's 9.0 ms" in why_not(frame, samsung)
    reasons = why_not(frame, sirc)
    assert "its line code is pulse width, this frame's pulse distance" in reasons
    assert "it wants 12 bits, this has 32" in reasons
    assert why_not(read(sony(21, 1), rng).frames[0], sirc) == []


@given(st.lists(st.integers(0, 1), min_size=1, max_size=70))
def test_codes_have_as_many_digits_as_the_bits_need(bits: list[int]) -> None:
    codes = codes_of(np.array(bits, np.uint8))
    assert codes is not None
    assert int(codes.as_sent, 16) == int("".join(map(str, bits)), 2)
    assert int(codes.turned, 16) == int("".join(map(str, bits[::-1])), 2)
    assert len(codes.as_sent) == len(codes.turned) == 2 + -(-len(bits) // 4)


SHEET = """id = "x"
name = "x"
unit_us = 500
zero = [1, -1]
one = [1, -3]

[press]
first = "full"
held = "full"
gap_us = 40000

[[frames]]
name = "full"
parts = [{ pulses = [8, -4] }, { bits = 8 }, { pulses = [1] }]
"""


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (("one = [1, -3]", "one = [1, -1]"), "two symbols are the same"),
        (("pulses = [8, -4]", "pulses = [8]"), "two marks in a row"),
        (("bits = 8 }", "bits = 8 }, { pulses = [1] }"), "two marks in a row"),
    ],
)
def test_sheets_that_cannot_work_are_refused(change: tuple[str, str], reason: str) -> None:
    parse_sheet(SHEET, "test")
    with pytest.raises(InputError, match=reason):
        parse_sheet(SHEET.replace(*change), "test")


@pytest.mark.parametrize(
    ("more", "numbers"),
    [
        ('kind = "ones"', [0x0F, 0xFF, 0x01, 13]),
        ('kind = "sum"\nmodulus = 255', [0xF0, 0x80, 0x01, (0xF0 + 0x80 + 1) % 255]),
        ('kind = "xor"\nrotate = 1', [0x81, 0x02, 0x10, (((0x81 << 1 | 1) & 255 ^ 2) << 1 & 255) ^ 0x10]),
    ],
)
def test_the_language_of_checks(more: str, numbers: list[int]) -> None:
    check = f'\n[[checks]]\nname = "check"\n{more}\nat = "24-31"\ncovers = [[0, 23]]\norder = "msb"\n'
    sheet = parse_sheet(SHEET.replace("bits = 8", "bits = 32") + check, "test")
    bits = np.array([int(bit) for number in numbers for bit in f"{number:08b}"], np.uint8)
    assert evaluate(sheet.checks[0], bits).ok
    bits[3] ^= 1
    assert not evaluate(sheet.checks[0], bits).ok
