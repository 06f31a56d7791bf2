"""The table of keys and its exports."""

from __future__ import annotations

import csv
import json
import subprocess
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace

from eager_tern.casebook.keys import ghosts, summary, table_of_keys
from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import Caught, KeyPlace, PressReading, press_reading
from eager_tern.errors import InputError
from eager_tern.export.keys import exported_keys, write_keys
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library, parse_sheet
from eager_tern.protocol.making import frames_of_bits
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.casebook.test_store import reading
from tests.files import write_text
from tests.handsets import IDLE_US, nec, record, sony
from tests.kept import keep


def caught(press_id: int, label: str, command: int, **more: object) -> Caught:
    return Caught(press_id, 1, 1, 0.0, label, False, False, reading(command, **more))


def test_labels_fill_the_plate_and_find_free_places() -> None:
    places = [KeyPlace("Lamp", 0, 0), KeyPlace("Next", 0, 2)]
    keys = table_of_keys([caught(1, "Lamp", 1), caught(2, "Blank", 2), caught(3, "", 3)], places)
    assert [(key.name, key.place.row, key.place.col) for key in keys] == [
        ("Lamp", 0, 0),
        ("Blank", 0, 1),
        ("Next", 0, 2),
    ]
    assert [key.best is not None for key in keys] == [True, True, False]


def test_keys_that_send_the_same_are_named() -> None:
    keys = table_of_keys([caught(1, "Mute", 9), caught(2, "Power", 9), caught(3, "Up", 4)], [])
    assert {key.name: key.same_as for key in keys} == {"Mute": ("Power",), "Power": ("Mute",), "Up": ()}


def test_a_label_on_two_codes_is_noticed() -> None:
    (key,) = table_of_keys([caught(1, "Up", 4), caught(2, "Up", 5)], [])
    assert key.contradicts


def test_repeats_alone_give_no_code() -> None:
    (key,) = table_of_keys([caught(1, "Up", 4, first_missed=True)], [])
    assert key.best is None


def test_strays_and_deleted_presses_are_no_keys() -> None:
    gone = Caught(1, 1, 1, 0.0, "Up", False, True, reading(1))
    stray = Caught(2, 1, 1, 0.0, "Up", True, False, reading(1))
    assert table_of_keys([gone, stray], []) == []


@pytest.fixture
def labelled(tmp_path: Path, rng: np.random.Generator) -> Iterator[Casebook]:
    signed = [-IDLE_US, *nec(0x5B, 0x16, 2), -IDLE_US, *nec(0x5B, 0x1A), -IDLE_US, *sony(50, 21), -IDLE_US]
    write_text(tmp_path / "t.txt", record(signed, rng, jitter_us=20, excess_us=40), "signed")
    casebook = Casebook.create(tmp_path / "k.tern")
    gadget = casebook.add_gadget("Slide projector")
    (found,) = read_file(tmp_path / "t.txt", library())
    for press_id, label in zip(keep(casebook, gadget, found), ["Next +", 'Say "cheese"', "Play"], strict=True):
        casebook.set_label(press_id, label)
    yield casebook
    casebook.close()


def export(casebook: Casebook, path: Path) -> str:
    keys = table_of_keys(casebook.presses(), [])
    write_keys(path, "Slide projector", exported_keys(casebook, keys))
    return path.read_text()


def test_csv_and_json_carry_everything(labelled: Casebook, tmp_path: Path) -> None:
    rows = list(csv.DictReader(export(labelled, tmp_path / "k.csv").splitlines()))
    assert [(r["name"], r["protocol"], r["address"], r["command"]) for r in rows] == [
        ("Next +", "nec", "91", "22"),
        ('Say "cheese"', "nec", "91", "26"),
        ("Play", "sirc12", "21", "50"),
    ]
    assert len(rows[0]["pulses_us"].split()) == 67
    document = json.loads(export(labelled, tmp_path / "k.json"))
    assert document["schema"] == "eager-tern/keys/1"
    assert document["keys"][2]["fields"] == {"command": 50, "address": 21}
    assert len(document["keys"][0]["bits"]) == 32


def test_the_header_reads_back_as_what_it_was(labelled: Casebook, tmp_path: Path) -> None:
    export(labelled, tmp_path / "k.h")
    (found,) = read_file(tmp_path / "k.h", library())
    codes = [(p.lead.best.protocol, p.lead.best.fields) for p in found.take.presses if p.lead.best is not None]
    assert codes == [
        ("nec", {"address": 0x5B, "command": 0x16}),
        ("nec", {"address": 0x5B, "command": 0x1A}),
        ("sirc12", {"command": 50, "address": 21}),
    ]


def test_the_header_compiles(labelled: Casebook, tmp_path: Path) -> None:
    export(labelled, tmp_path / "k.h")
    program = (
        '#include "k.h"\n#include <stdio.h>\n'
        'int main(void) { printf("%s %d %d", slide_projector_keys[1].name, (int)slide_projector_keys[0].command,'
        " slide_projector_keys[0].count); return 0; }\n"
    )
    (tmp_path / "k.c").write_text(program)
    try:
        subprocess.run(["cc", "-Wall", "-Werror", "-o", tmp_path / "k", tmp_path / "k.c"], check=True)
    except FileNotFoundError:
        pytest.skip("no C compiler on this machine")
    out = subprocess.run([tmp_path / "k"], capture_output=True, text=True, check=True)
    assert out.stdout == 'Say "cheese" 22 67'


def test_an_unknown_suffix_is_refused(tmp_path: Path) -> None:
    with pytest.raises(InputError, match=r"known are \.csv, \.json, \.h"):
        write_keys(tmp_path / "k.xls", "x", [])
    with pytest.raises(InputError, match="folder does not exist"):
        write_keys(tmp_path / "none" / "k.csv", "x", [])


def test_a_toggle_does_not_make_another_code() -> None:
    one = replace(reading(4), fields={"toggle": 0, "address": 1, "command": 4}, turning=("toggle",))
    other = replace(one, fields={"toggle": 1, "address": 1, "command": 4})
    first, second = (Caught(n, 1, 1, 0.0, "Up", False, False, kept) for n, kept in enumerate((one, other)))
    assert first.code == second.code
    assert not table_of_keys([first, second], [])[0].contradicts


def test_the_table_is_summed_up() -> None:
    def caught(number: int, label: str, command: int, protocol: str = "nec") -> Caught:
        fields = {"address": 0x5B, "command": command}
        reading = PressReading(frames=((0, 66),), start_us=0, held_us=1, protocol=protocol, fields=fields)
        return Caught(number, 1, 1, 0.0, label, False, False, reading)

    keys = [caught(1, "One", 1), caught(2, "Two", 2), caught(3, "Four", 4), caught(4, "Power", 5), caught(5, "Mute", 5)]
    told = summary(table_of_keys(keys, []))
    assert told[0] == "5 of 5 keys send nec, address 5B."
    assert "“Mute” and “Power” send the same." in told
    assert "No key sends 03 yet" in told[-1]
    told = summary(table_of_keys([*keys, caught(6, "Odd", 9, "rc5"), caught(7, "One", 3)], []))
    assert "“Odd” sends rc5." in told
    assert "“One” was caught with different codes." in told
    assert summary([]) == []


def test_ghosts_fit_the_pattern_and_belong_to_no_key() -> None:
    def of_bits(number: int, bits: str) -> Caught:
        kept = PressReading(frames=((0, 49),), start_us=0, held_us=1, protocol="unknown", bits=bits)
        return Caught(number, 1, 1, 0.0, f"key {number}", False, False, kept)

    def pattern(codes: list[str]) -> list[str]:
        return ghosts(table_of_keys([of_bits(n, code) for n, code in enumerate(codes, 1)], []))

    base = "1010" * 4
    all_eight = [f"{base}{n:03b}10110" for n in range(8)]
    assert pattern(all_eight) == []
    assert pattern([all_eight[n] for n in (0, 1, 2, 4, 6, 7)]) == ["AAAA76", "AAAAB6"]
    assert pattern(all_eight[:3]) == []  # too few to show a pattern
    assert pattern([all_eight[n] for n in (0, 3, 5, 6)]) == []  # half of it is unknown: that is no pattern
    assert ghosts([]) == []


def test_a_sheet_of_a_rolling_code_alone_tells_the_keys_apart_by_the_other_bits() -> None:
    sheet = parse_sheet("""
id = "gate"
name = "Gate"
unit_us = 400
zero = [1, -2]
one = [2, -1]
press = { first = ["data"], held = ["data"], period_us = 60000 }

[[frames]]
name = "data"
parts = [{ pulses = [1, -20] }, { bits = 24 }, { pulses = [1] }]

[[fields]]
name = "rolling"
bits = "15-0"
role = "rolling"
""", "gate.toml")  # fmt: skip
    codes = {}
    for button in (1, 2):
        for roll in (0x1234, 0xABCD):
            bits = np.array([int(bit) for bit in f"{roll:016b}{button:08b}"], np.uint8)
            (press,) = read_pulses(pulses_from_signed(frames_of_bits(sheet, bits)[0]), [sheet]).presses
            codes[button, roll] = press_reading(press).code
    assert codes[1, 0x1234] == codes[1, 0xABCD] != codes[2, 0x1234] == codes[2, 0xABCD]
