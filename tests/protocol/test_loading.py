"""Where sheets come from, and errors that name their place."""

from __future__ import annotations

from pathlib import Path

import pytest

from eager_tern.errors import InputError
from eager_tern.protocol.loading import library, parse_sheet, reads_what_it_makes, sheet_text, sheets_in, with_own
from eager_tern.protocol.schema import Sheet

NEC = sheet_text("nec") or ""


def test_sheets_in_a_folder_are_used_and_wrong_ones_named(tmp_path: Path) -> None:
    (tmp_path / "a.toml").write_text(NEC.replace('id = "nec"', 'id = "hide-nec"'))
    (tmp_path / "b.toml").write_text('id = "b"\nunit_us = "long"\n')
    own, (wrong,) = sheets_in(tmp_path)
    assert [sheet.id for sheet in own] == ["hide-nec"]
    assert "b.toml" in str(wrong)
    every = with_own(own)
    assert every[0].id == "hide-nec"
    assert len(every) == len(library()) + 1
    assert with_own(library()[:1]) == library()


def test_an_error_about_the_whole_names_the_line_it_is_about() -> None:
    text = NEC.replace('name = "command"', 'name = "key"').replace('bits = "23-16"', 'bits = "63-56"')
    with pytest.raises(InputError) as raised:
        parse_sheet(text, "x.toml")
    line = next(n for n, line in enumerate(text.splitlines(), 1) if 'name = "key"' in line)
    assert raised.value.place == f"line {line}, column 8"
    assert "uses bit 63" in raised.value.reason


@pytest.mark.parametrize("sheet", library(), ids=lambda sheet: sheet.id)
def test_a_sheet_of_the_library_reads_what_it_makes(sheet: Sheet) -> None:
    """Which is not looked into at every start."""
    assert sheet.serial is not None or reads_what_it_makes(sheet)
