"""The compare command: files and a table of labels in, meaning and a sheet out."""

from __future__ import annotations

import csv
import json
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from click.testing import CliRunner

from eager_tern.cli.app import app
from eager_tern.compare.labels import parse_labels
from eager_tern.errors import InputError
from eager_tern.formats.registry import write_pulses
from eager_tern.protocol.loading import sheet_text
from eager_tern.signal.values import pulses_from_signed
from tests.gadgets import Gadget, climate
from tests.handsets import distance_frame, nec, record


def signal(gadget: Gadget, bits: list[int], rng: np.random.Generator) -> str:
    signed: list[float] = []
    at = 0
    for count in gadget.sections:
        signed += [*distance_frame([3600.0, -1800.0], 450.0, (1, 3), bits[at : at + count]), -9500.0]
        at += count
    return " ".join(f"{d:+.0f}" for d in record(signed[:-1], rng, jitter_us=18, excess_us=50))


@pytest.fixture
def cabinet(tmp_path: Path, rng: np.random.Generator) -> tuple[Gadget, Path]:
    """Thirty captures of a climate cabinet and their labels."""
    gadget = climate(np.random.default_rng(11), "crc8")
    bits, labels = gadget.frames(rng, 30)
    with (tmp_path / "labels.csv").open("w", newline="") as file:
        table = csv.writer(file)
        table.writerow(["file", *labels])
        for row, frame in enumerate(bits):
            (tmp_path / f"{row:02d}.txt").write_text(signal(gadget, frame.tolist(), rng))
            table.writerow([f"{row:02d}.txt", *(labels[name][row] for name in labels)])
    return gadget, tmp_path


def run(*words: object) -> tuple[int, str, str]:
    result = CliRunner().invoke(app, [str(word) for word in words])
    return result.exit_code, result.stdout, result.stderr


def test_what_is_learned_reads_and_makes(cabinet: tuple[Gadget, Path], rng: np.random.Generator) -> None:
    gadget, folder = cabinet
    files = sorted(folder.glob("*.txt"))
    code, out, err = run(
        "compare", *files, "--labels", folder / "labels.csv", "--write-sheet", folder / "s.toml", "--json"
    )
    assert (code, err) == (0, "")
    document = json.loads(out)
    assert document["schema"] == "eager-tern/comparison/1"
    assert (document["rows"], document["bit_count"]) == (30, gadget.columns)
    assert {field["name"] for field in document["fields"]} >= {"temperature", "mode", "swing"}
    assert all(0 <= check["chance"] < 1e-4 for check in document["checks"])
    new, labels = gadget.frames(rng, 1)
    (folder / "new.txt").write_text(signal(gadget, new[0].tolist(), rng))
    code, out, _ = run("read", "--sheet", folder / "s.toml", "--json", folder / "new.txt")
    reading = json.loads(out)["takes"][0]["frames"][0]["readings"][0]
    assert reading["bits"] == "".join(map(str, new[0]))
    assert reading["fields"]["mode"] == labels["mode"][0]
    assert reading["fields"]["temperature"] == labels["temperature"][0]
    words = [f"{name}={labels[name][0]}" for name in labels]
    code, out, err = run("make", folder / "s.toml", *words, "--json")
    assert code == 0, err
    assert json.loads(out)["bits"] == "".join(map(str, new[0]))


def test_words_for_a_person_and_inputs_that_cannot_be_used(cabinet: tuple[Gadget, Path]) -> None:
    _, folder = cabinet
    (folder / "05.txt").write_text("")
    (folder / "06.txt").write_text("+500 -500 +500")
    files = sorted(folder.glob("*.txt"))
    code, out, err = run("compare", *files, "--labels", folder / "labels.csv", "--proof")
    assert code == 1
    assert "05.txt" in err
    assert 'no frame in "06.txt"' in err
    assert "temperature = " in out
    assert "predicted unseen" in out


def test_a_gadget_is_written_up(cabinet: tuple[Gadget, Path]) -> None:
    gadget, folder = cabinet
    files = [*sorted(folder.glob("*.txt")), "--labels", folder / "labels.csv"]
    assert run("compare", *files, "--write-up", folder / "page.html")[0] == 0
    page = (folder / "page.html").read_text("utf-8")
    assert page.count("<svg") == 2
    for words in ("Frame layout", "temperature", "predicted unseen", "[[frames]]"):
        assert words in page
    assert run("compare", *files, "--write-up", folder / "page.md")[0] == 0
    assert "![One frame" in (folder / "page.md").read_text("utf-8")
    layout = ElementTree.parse(folder / "page-layout.svg").getroot()
    cells = [node for node in layout if node.tag.endswith("rect")]
    assert len(cells) == gadget.columns
    assert "a write-up is" in run("compare", *files, "--write-up", folder / "page.pdf")[2]


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("name,temperature\na.txt,3\n", 'line 1: has no column "file"'),
        ("file,t\n", "has no rows"),
        ("file,t\na.txt,1,2\n", "line 2: 3 columns under a header of 2"),
        ("file,t,t\na.txt,1,2\n", "two columns have one name"),
        ("file,t\n,1\n", "line 2: names no capture"),
    ],
)
def test_tables_that_cannot_be_used_are_refused_with_their_line(text: str, said: str) -> None:
    with pytest.raises(InputError) as raised:
        parse_labels(text, "labels.csv")
    assert said in str(raised.value)


def test_tables_of_any_dialect() -> None:
    names, rows, words, *_ = parse_labels("\ufefffile;mode;t\na.txt;dry;21.5\nb.txt;;\n", "labels.csv")
    assert names == ["mode", "t"]
    assert rows == {("a.txt", 0): {"mode": "dry", "t": 21.5}, ("b.txt", 0): {"mode": None, "t": None}}
    assert not words


@pytest.mark.parametrize(
    ("cells", "said"),
    [
        (("21,5", "22", "-3,0"), [21.5, 22.0, -3.0]),
        (("21 °C", "22°C", "23"), [21.0, 22.0, 23.0]),
        (("50%", "55 %", ""), [50.0, 55.0, None]),
        (("2h", "30min", "4h"), ["2h", "30min", "4h"]),
        (("off", "2", "4"), ["off", "2", "4"]),
        (("1,200 W", "900 W", "2,350 W"), ["1,200 W", "900 W", "2,350 W"]),
        (("7:30", "8:00", "9:15"), ["7:30", "8:00", "9:15"]),
        (("nan", "1", "2"), ["nan", "1", "2"]),
        (("1.2.3", "1", "2"), ["1.2.3", "1", "2"]),
    ],
)
def test_numbers_are_read_as_people_write_them(cells: tuple[str, ...], said: list[object]) -> None:
    text = "file;t\n" + "".join(f"{name}.txt;{cell}\n" for name, cell in zip("abc", cells, strict=True))
    assert [row["t"] for row in parse_labels(text, "labels.csv").rows.values()] == said


def test_of_labels_that_contradict_each_other_neither_is_believed() -> None:
    text = "file,mode,t\na.txt,dry,1\nb.txt,cool,2\na.txt,dry,3\nb.txt,cool,2\n"
    _, rows, words, *_ = parse_labels(text, "labels.csv")
    assert rows == {("a.txt", 0): {"mode": "dry", "t": None}, ("b.txt", 0): {"mode": "cool", "t": 2.0}}
    assert words == ['labels.csv: labelled twice: "a.txt" in line 4 (what differs is left out: t), "b.txt" in line 5']


@pytest.mark.parametrize("how", ["in order", "press", "file and press"])
def test_the_presses_of_one_file_are_labelled(tmp_path: Path, how: str) -> None:
    values = [16, 21, 30, 18, 25, 17, 29, 22, 19, 27, 20, 28]
    signed = [d for value in values for d in (*nec(0x5B, value), -300_000.0)]
    write_pulses(tmp_path / "all.txt", pulses_from_signed(np.array(signed)))
    head = {"in order": "t", "press": "press,t", "file and press": "file,press,t"}[how]
    rows = {
        "in order": [f"{value}" for value in values],
        "press": [f"{n},{value}" for n, value in reversed(list(enumerate(values)))],
        "file and press": [f"all.txt,{n},{value}" for n, value in enumerate(values)],
    }[how]
    (tmp_path / "labels.csv").write_text("\n".join([head, *rows]) + "\n")
    status, out, err = run("compare", tmp_path / "all.txt", "--labels", tmp_path / "labels.csv", "--json")
    assert (status, err) == (0, "")
    document = json.loads(out)
    assert document["rows"] == 12
    (field,) = document["fields"]
    assert (field["name"], sorted(field["positions"])[0] // 8) == ("t", 2)
    (tmp_path / "labels.csv").write_text("t\n1\n2\n")
    status, _, err = run("compare", tmp_path / "all.txt", "--labels", tmp_path / "labels.csv")
    assert status == 1
    assert "has 2 rows, and all.txt has 12 presses" in err
    (tmp_path / "labels.csv").write_text("press,t\n0,16\n99,21\n1,21\n2,30\n")
    assert (
        'no such press: "all.txt", press 99 (12 presses, counted from 0)'
        in run("compare", tmp_path / "all.txt", "--labels", tmp_path / "labels.csv")[2]
    )
    from_one = "\n".join(f"{n},{value}" for n, value in enumerate(values, 1))
    (tmp_path / "labels.csv").write_text(f"press,t\n{from_one}\n")
    status, out, err = run("compare", tmp_path / "all.txt", "--labels", tmp_path / "labels.csv")
    assert (status, out) == (1, "")
    assert "numbers the presses of all.txt from 1 to 12; they are counted from 0" in err


def test_a_display_read_now_and_then_labels_the_nearest_press(tmp_path: Path) -> None:
    values = [16, 21, 30, 18, 25, 17, 29, 22, 19, 27, 20, 28]
    signed = [d for value in values for d in (*nec(0x5B, value), -1_900_000.0)]
    write_pulses(tmp_path / "all.txt", pulses_from_signed(np.array(signed)))
    rows = [f"{2.0 * n + 0.3:.1f},{value}" for n, value in enumerate(values) if n % 4]
    table = tmp_path / "labels.csv"
    table.write_text("\n".join(["time,t", *rows, "500,3"]) + "\n")
    status, out, err = run("compare", tmp_path / "all.txt", "--labels", table, "--json")
    assert status == 0
    found = json.loads(out)
    assert (found["rows"], found["fields"][0]["rows_explained"]) == (9, 9)
    assert "no press near 500 s" in err
    table.write_text("time,t\nnoon,3\n")
    assert '"noon" is no time' in run("compare", tmp_path / "all.txt", "--labels", table)[2]


def test_what_is_possible_is_left_out_of_the_sheet_unless_accepted(tmp_path: Path) -> None:
    signed = [d for value in range(16, 28) for d in (*nec(0x5B, value), -300_000.0)]
    write_pulses(tmp_path / "all.txt", pulses_from_signed(np.array(signed)))
    (tmp_path / "labels.csv").write_text("t\n" + "\n".join(map(str, range(16, 28))) + "\n")
    sheet = tmp_path / "made.toml"
    command = ("compare", tmp_path / "all.txt", "--labels", tmp_path / "labels.csv", "--write-sheet", sheet)
    _, out, err = run(*command, "--json")
    (field,) = json.loads(out)["fields"]
    assert field["possible"]
    name = f"t {' '.join(map(str, field['positions']))}"
    assert f"leaves out what is only possible: {name}" in err
    assert 'name = "t"' not in sheet.read_text()
    run(*command, "--accept", name)
    assert 'name = "t"' in sheet.read_text()


def test_the_options_of_read_are_those_of_compare(tmp_path: Path) -> None:
    write_pulses(tmp_path / "all.txt", pulses_from_signed(np.array([*nec(0x5B, 3), -300_000.0, *nec(0x5B, 9)])))
    (tmp_path / "nec.toml").write_text(sheet_text("nec") or "")
    by_sheet = json.loads(run("compare", tmp_path / "all.txt", "--sheet", tmp_path / "nec.toml", "--json")[1])
    assert by_sheet["rows"] == 2
    said = json.loads(run("compare", tmp_path / "all.txt", "--as", "pulse-distance", "--json")[1])
    assert said["bit_count"] == 32
    assert run("compare", tmp_path / "all.txt", "--as", "morse")[0] == 2
