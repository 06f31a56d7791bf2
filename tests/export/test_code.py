"""Generated C and Python, run against what the application makes and reads."""

from __future__ import annotations

import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from eager_tern.errors import InputError
from eager_tern.export import board
from eager_tern.export.c_code import c_library, raw_fields
from eager_tern.export.python_code import python_module
from eager_tern.export.subject import of_sheet
from eager_tern.export.writing import KINDS, write_out
from eager_tern.protocol.checks import evaluate
from eager_tern.protocol.loading import library, load_sheet, parse_sheet
from eager_tern.protocol.making import make_frame
from eager_tern.protocol.reading import field_values
from eager_tern.protocol.schema import Sheet
from tests.export.any_sheets import any_bits, any_sheet, as_received, pulses_of
from tests.export.compiled import STRICT, Compiled

DEMO = Path(__file__).parents[2] / "src/eager_tern/demo"
KNOWN = [*library(), *(load_sheet(path) for path in sorted(DEMO.glob("*.toml")))]
ANY = 16  # sheets drawn at random
FRAMES = 3  # of each


def holds(sheet: Sheet, folder: Path, seed: int) -> None:
    """C and Python make what ``make`` makes and read what it made, jittered too; damaged frames are none to them."""
    rng = np.random.default_rng(seed)
    c = Compiled(sheet, folder)
    python: dict[str, Any] = {}
    exec(compile(python_module(sheet, sheet.name), "module", "exec"), python)
    for _ in range(FRAMES):
        bits = any_bits(sheet, rng)
        if not all(evaluate(check, bits).ok for check in sheet.checks):
            continue  # two checks that stand in each other's way
        try:
            pulses = pulses_of(sheet, bits)
        except InputError:  # bits that stand for no symbol
            continue
        raw, values = raw_fields(sheet, bits), field_values(sheet, bits)
        made = c.make(raw)
        assert len(made) == pulses.durations_us.size
        assert made == pytest.approx(np.minimum(pulses.durations_us, 65_535), abs=1)
        assert c.make(raw, room=len(made) - 1) == []
        received = as_received(pulses, sheet, rng)
        for us in (pulses.durations_us, received, np.append(received, 40_000.0)):
            assert c.read(us) == raw
            assert python["read"](us) == values
        given = {n: v for n, v in values.items() if n in sheet.fields_by_name and v is not None}
        again = make_frame(sheet, given).pulses.durations_us
        assert python["make"](**given) == pytest.approx(again, abs=1)
        damaged = bits.copy()
        damaged[rng.integers(bits.size)] ^= 1
        if not all(evaluate(check, damaged).ok for check in sheet.checks):
            try:
                us = pulses_of(sheet, damaged).durations_us
            except InputError:
                continue
            assert c.read(us) is None
            assert python["read"](us) is None
        cut = received[: 2 * int(rng.integers(0, received.size // 2)) + 1]
        if cut.size < received.size - 2 and sheet.serial is None:
            assert c.read(cut) is None
            assert python["read"](cut) is None
    for rubbish in ([], [0], [1e9], [0, 0, 0], list(rng.integers(0, 70_000, 67))):
        assert c.read(rubbish) is None
        assert python["read"](rubbish) is None


@pytest.mark.parametrize("number", range(len(KNOWN)), ids=lambda n: KNOWN[n].id)
def test_code_does_as_the_application_does(number: int, tmp_path: Path) -> None:
    holds(KNOWN[number], tmp_path, number)


@pytest.mark.parametrize("seed", range(ANY))
def test_any_sheet_that_the_language_can_say(seed: int, tmp_path: Path) -> None:
    holds(any_sheet(seed), tmp_path, seed)


@pytest.mark.parametrize("name", ["nec", "rc6", "rcmm-24", "state-168-xor", "sensor-36", "turnstile"])
def test_the_files_own_test_holds_under_sanitizers(name: str, tmp_path: Path) -> None:
    sheet = next(sheet for sheet in KNOWN if sheet.id == name)
    subject = of_sheet(sheet)
    write_out(subject, [KINDS["c"]], tmp_path)
    sources = [str(tmp_path / f"{subject.name}{end}.c") for end in ("", "_test")]
    program = tmp_path / "proof"
    checked = "-fsanitize=address,undefined"
    subprocess.run(["gcc", *STRICT, checked, *sources, "-o", str(program)], check=True)
    said = subprocess.run([program], check=True, capture_output=True, text=True).stdout
    good, _, every, *_ = said.split()
    assert good == every != "0"
    assert "yours" in (tmp_path / f"{subject.name}.h").read_text()


def test_names_that_get_in_each_others_way(tmp_path: Path) -> None:
    text = (DEMO / "window-shutters.toml").read_text()
    head = text[: text.index("[[fields]]")] if "[[fields]]" in text else text
    names = ("int", "int_", "carrier", "class", "none", "bits")
    fields = [
        f'[[fields]]\nname = "{name}"\nbits = "{at}"\ntable = {{ 0 = "hz", 1 = "Hz" }}\n'
        for at, name in enumerate(names)
    ]
    sheet = parse_sheet(head + "\n".join(fields), "names")
    holds(sheet, tmp_path, 3)


def test_a_number_out_of_range_is_refused(tmp_path: Path) -> None:
    cabinet = load_sheet(DEMO / "climate-cabinet.toml")
    c = Compiled(cabinet, tmp_path)
    usual = raw_fields(cabinet, make_frame(cabinet, {}).bits)
    assert c.make(usual)
    for each in c.layout.members:
        if each.width % 8:
            assert c.make({**usual, each.name: 1 << each.width}) == [], each.name
    python: dict[str, Any] = {}
    exec(python_module(cabinet, "Cabinet"), python)
    for wrong, words in (({"temperature": 99}, "outside"), ({"mode": "wet"}, "none of"), ({"colour": 1}, "no field")):
        with pytest.raises(ValueError, match=words):
            python["make"](**wrong)


def test_the_whole_library_fits_an_8_bit_board() -> None:
    """What a header says where that board's compiler is not at hand is what it takes at most."""
    found = []
    for sheet in [*library()[::4], *(s for s in library() if s.id in ("state-280", "fixed-code"))]:
        name = of_sheet(sheet).name
        measured = board.sizes(name, *c_library(sheet, name, sheet.name))
        assert measured is not None, "gcc-avr is a test's need, which the set-up installs"
        found.append(measured)
    flash, ram, stack = map(max, zip(*found, strict=True))
    assert 0.85 * board.MOST_FLASH < flash <= board.MOST_FLASH
    assert 0.85 * board.MOST_RAM < ram <= board.MOST_RAM
    assert 0.85 * board.MOST_STACK < stack <= board.MOST_STACK
