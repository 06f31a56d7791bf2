"""The sheet language: what it takes, what it refuses, and how it says so."""

from __future__ import annotations

from pathlib import Path

import pytest

from eager_tern.errors import InputError
from eager_tern.protocol.loading import library, library_sheet, load_sheet, parse_sheet, sheet_text
from eager_tern.protocol.schema import Sheet

SHEET = """\
id = "hide-lamp"
name = "Lamp in the hide"
unit_us = 400
zero = [1, -1]
one = [1, -2]

[press]
first = "full"
held = "full"
gap_us = 30000

[[frames]]
name = "full"
parts = [{ pulses = [8, -4] }, { bits = 12 }, { pulses = [1] }]

[[fields]]
name = "group"
bits = "3-0"

[[fields]]
name = "level"
bits = "7-4"

[[checks]]
name = "complement"
kind = "complement"
at = "11-8"
of = "7-4"
"""


def broken(old: str, new: str) -> str:
    assert old in SHEET
    with pytest.raises(InputError) as caught:
        parse_sheet(SHEET.replace(old, new), "hide-lamp.toml")
    assert caught.value.source == "hide-lamp.toml"
    return f"{caught.value.place}: {caught.value.reason}"


def test_a_sheet_says_what_it_says() -> None:
    sheet = parse_sheet(SHEET, "x")
    assert sheet.bit_count == 12
    assert sheet.code == "pulse-distance"
    assert [field.bits.width for field in sheet.fields] == [4, 4]
    assert sheet.family == "hide-lamp"


@pytest.mark.parametrize(
    ("old", "new", "line", "words"),
    [
        ('name = "Lamp in the hide"', "name = Lamp", 2, "nvalid"),
        ("unit_us = 400", "unit_us = -4", 3, "unit_us"),
        ("unit_us = 400", 'unit_us = "slow"', 3, "unit_us"),
        ("zero = [1, -1]", "zero = [1, 1]", None, "alternates"),
        ('held = "full"', 'held = "again"', None, '"again" that is not described'),
        ("gap_us = 30000", "", 7, "period_us"),
        ("{ bits = 12 }", "{ bits = 12, gap_us = 4 }", 14, "one of"),
        ('bits = "3-0"', 'bits = "3-z"', 18, "bit position"),
        ('bits = "7-4"', 'bits = "17-14"', None, "uses bit 17"),
        ('kind = "complement"', 'kind = "guess"', 26, "kind"),
        ('of = "7-4"', 'of = "7-5"', 24, "as many bits"),
        ('name = "level"', 'name = "group"', None, "one name"),
        ('name = "level"', 'name = "Level!"', 21, "name"),
        ("unit_us = 400", "unit_us = 400\ncolour = 3", 4, "colour"),
    ],
)
def test_a_mistake_is_told_with_its_line(old: str, new: str, line: int | None, words: str) -> None:
    said = broken(old, new)
    assert words in said
    if line is not None:
        assert said.startswith(f"line {line}:") or said.startswith(f"line {line},")


def test_a_sheet_may_be_based_on_another() -> None:
    ext = library_sheet("nec-ext")
    nec = library_sheet("nec")
    assert ext is not None
    assert nec is not None
    assert ext.family == "nec"
    assert ext.frames == nec.frames
    assert [str(field.bits) for field in ext.fields] == ["15-0", "23-16"]
    assert len(ext.checks) == 1
    assert ext.carrier_hz == 38_000


def test_a_base_that_does_not_exist_is_named() -> None:
    with pytest.raises(InputError, match='no sheet "nowhere"'):
        parse_sheet('based_on = "nowhere"\nid = "x"\nname = "X"', "x.toml")


def test_a_file_that_is_no_text_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "s.toml"
    path.write_bytes(b"\xff\xfe\x00")
    with pytest.raises(InputError, match="is not text"):
        load_sheet(path)
    with pytest.raises(InputError, match="No such file"):
        load_sheet(tmp_path / "none.toml")


@pytest.mark.parametrize("sheet", library(), ids=lambda sheet: sheet.id)
def test_the_library_is_in_order(sheet: Sheet) -> None:
    assert sheet.name
    assert sheet.about
    text = sheet_text(sheet.id)
    assert text is not None
    assert text.startswith("#")


def test_an_id_is_no_path() -> None:
    assert library_sheet("../schema") is None
    assert library_sheet("no-such") is None
