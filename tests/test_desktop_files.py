"""What a desktop reads of us: each file is whole, and of today."""

from __future__ import annotations

import configparser
import importlib.util
import subprocess
import xml.etree.ElementTree as ET
from pathlib import Path

import pytest

from eager_tern import __version__

ROOT = Path(__file__).parents[1]
SHARE = ROOT / "share"


def test_the_manual_page_is_that_of_the_commands_help() -> None:
    spec = importlib.util.spec_from_file_location("desktop_files", ROOT / "scripts/desktop_files.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    assert (SHARE / module.MAN).read_text("utf-8") == module.manual(), "make desktop-files"
    assert all((SHARE / f"icons/hicolor/{n}x{n}/apps/eager-tern.png").stat().st_size > 100 for n in module.SIZES)


def test_the_metainfo_is_valid_and_of_this_version() -> None:
    (path,) = (SHARE / "metainfo").glob("*.xml")
    try:
        command = ["appstreamcli", "validate", "--pedantic", "--no-net", str(path)]
        said = subprocess.run(command, capture_output=True, text=True, check=False)
    except FileNotFoundError:
        pytest.fail("appstreamcli is a test's need, which the set-up installs")
    assert said.returncode == 0, said.stdout
    assert ET.parse(path).find("releases/release").get("version") == __version__  # type: ignore[union-attr]


def test_desktop_entry_and_type_go_together() -> None:
    entry = configparser.ConfigParser(interpolation=None)
    entry.read(SHARE / "applications/eager-tern.desktop")
    kind = ET.parse(SHARE / "mime/packages/eager-tern.xml").getroot()[0]
    assert entry["Desktop Entry"]["MimeType"] == f"{kind.get('type')};"
    assert entry["Desktop Entry"]["Exec"] == "eager-tern open %F"
    magic = next(each for each in kind.iter() if each.tag.endswith("}match"))
    assert (magic.get("offset"), magic.get("value")) == ("68", "Tern")
