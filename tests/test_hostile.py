"""What comes from outside, made to hurt: names, labels, files and lines that nobody in good faith would write."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest

from eager_tern.casebook.shots import Shot, shots_csv, shots_from_csv
from eager_tern.compare.labels import parse_labels
from eager_tern.compare.writeup import Rows, Text, as_markdown
from eager_tern.devices.line_protocol import decode_line
from eager_tern.devices.serial_port import Recorder
from eager_tern.errors import InputError
from eager_tern.export.keys import ExportedKey, to_c_header, to_csv
from eager_tern.formats.registry import read_captures, write_pulses
from eager_tern.linecode.serial import async_serial
from eager_tern.protocol.loading import library_sheet, parse_sheet
from eager_tern.protocol.making import press_frames
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import NO_PULSES, Pulses, pulses_from_signed
from tests.casebook.test_store import child_env
from tests.handsets import nec, record, serial
from tests.protocol.test_sheets import SHEET

HANGS_S = 20.0  # no measure: what hurts would take minutes and more
HOSTILE = (
    "▲", "Key", "Keys", "key", "A 2", "A", "a", "a\n#error x", "*/ int x; /*", 'say "hi"', "back\\slash",
    "??/ trigraph",
    "😀", "\x00\x1b[2J", "x" * 1000, "", "1", "int", "%s%n", "=cmd|' /C calc'!A0", "+1", "@SUM(A1)", "-2",
)  # fmt: skip


def keys() -> list[ExportedKey]:
    return [
        ExportedKey(name, "nec */", None, 3, {"mode */": "\n*/"}, "01", None, None, [9000.0, 99_000.0, 560.4])
        for name in HOSTILE
    ]


@pytest.mark.parametrize("compiler", ["gcc", "g++"])
def test_any_label_makes_a_header_that_compiles(tmp_path: Path, compiler: str) -> None:
    if shutil.which(compiler) is None:
        pytest.skip(f"{compiler} is not here")
    header = to_c_header("Gadget */ 😀", keys())
    (tmp_path / "keys.h").write_text(header)
    program = (
        '#include <stdio.h>\n#include "keys.h"\nint main(void) { unsigned i; for (i = 0; i < '
        f'{len(HOSTILE)}; i++) printf("%u %u\\n", (unsigned)gadget_keys[i].count, '
        "(unsigned)gadget_keys[i].pulses[1]); return 0; }\n"
    )
    source = tmp_path / ("main.c" if compiler == "gcc" else "main.cpp")
    source.write_text(program)
    flags = ["-Wall", "-Wextra", "-Werror", "-pedantic", *(["-std=c99"] if compiler == "gcc" else [])]
    made = subprocess.run([compiler, *flags, source, "-o", tmp_path / "p"], capture_output=True, text=True, check=False)
    assert made.returncode == 0, made.stderr
    out = subprocess.run([tmp_path / "p"], capture_output=True, text=True, check=True).stdout
    assert out.split() == ["3", "99000"] * len(HOSTILE)  # what does not fit 16 bits is not cut to them


def test_no_cell_is_a_formula() -> None:
    cells = [line.split(",")[0].strip('"') for line in to_csv("x", keys()).splitlines()]
    assert not any(cell.startswith(("=", "@")) for cell in cells)
    assert {"'=cmd|' /C calc'!A0", "'@SUM(A1)", "+1", "-2"} <= set(cells)  # a number with its sign computes nothing
    shots = tuple(Shot((("mode", word),)) for word in ("=1+1", "-2", "dry", "@x"))
    assert shots_from_csv(shots_csv(shots)) == shots


def test_markdown_takes_no_markup() -> None:
    text = as_markdown(
        [Text("<img src=x> *a* [b](c)"), Rows(("a|b",), (("<script>\nx",),)), Text("```\n`x`", code=True)]
    )
    assert "<img" not in text
    assert "<script>" not in text
    assert "\\*a\\*" in text
    assert text.count("````") == 2


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("word.txt", b"a" * 10_000, "is no duration"),
        ("digits.txt", b"2" * 10_000, "no possible duration"),
        ("names.c", b"a" * 5000 + b"[] = {" + b"500," * 5000, None),
        ("braces.txt", b"{" * 5000, "is no duration"),
        ("cr.csv", b"time_us,level\r0,0\r10,1\r20,0\r30,1\r", None),
        ("cell.csv", b'time_us,level\n0,"' + b"x" * 200_000 + b'"\n', "no table that can be read"),
        ("time.vcd", b"$timescale 1us $end\n$var wire 1 ! a $end\n$enddefinitions $end\n#0\n0!\n#" + b"9" * 40, None),
        ("scopes.vcd", b"$timescale 1us $end\n" + b"$scope module a $end\n" * 60_000, "more than 50000 scopes"),
    ],
)  # fmt: skip
def test_heavy_files_are_read_or_refused_soon(tmp_path: Path, name: str, content: bytes, words: str | None) -> None:
    (tmp_path / name).write_bytes(content)
    began = time.process_time()
    if words is None:
        assert read_captures(tmp_path / name)
    else:
        with pytest.raises(InputError, match=words):
            read_captures(tmp_path / name)
    assert time.process_time() - began < HANGS_S


@pytest.mark.parametrize(
    ("text", "words"),
    [
        (".".join("a" * 50_000) + " = 1", "without end"),
        ("\n".join(f"a{n}.b.c = 1" for n in range(50_000)), "too long for a sheet"),
        (SHEET.replace("400", "5" * 5000), "digits"),
        ("x = " + "[" * 5000 + "]" * 5000, "without end"),
        (SHEET.replace("unit_us = 400", "unit_us = inf"), "unit_us: expected a number below 1e"),
        (SHEET + '[[fields]]\nname = "z"\nbits = "11"\ndefault = inf\n', "default: expected a number below 1e"),
    ],
)
def test_sheets_without_end_are_refused_at_once(text: str, words: str) -> None:
    began = time.process_time()
    with pytest.raises(InputError, match=words):
        parse_sheet(text, "sheet")
    assert time.process_time() - began < HANGS_S


def test_a_mark_that_is_stuck_hangs_nothing(rng: np.random.Generator) -> None:
    frame = record(nec(1, 2), rng)[:-1]
    for stuck_us in (2e5, 1e6, 8e6):
        signed = np.concatenate((frame[:30], [stuck_us], frame[30:], [-3e5], frame))
        began = time.process_time()
        take = read_pulses(pulses_from_signed(signed), (library_sheet("nec"),))  # type: ignore[arg-type]
        assert time.process_time() - began < HANGS_S
        assert take.frames[-1].reading.fields == {"address": 1, "command": 2}


def test_a_mark_of_minutes_is_no_row_of_characters() -> None:
    sent = pulses_from_signed(np.array(serial(list(b"gannet colony"), 2400))).durations_us
    assert async_serial(sent) is not None
    began = time.process_time()
    found = async_serial(np.concatenate((sent, [417.0, 6e8, 417.0, 417.0])))
    assert time.process_time() - began < HANGS_S
    assert found is None


def test_lines_that_hurt_are_scrambled_ones_and_a_repeated_line_counts_once() -> None:
    began = time.process_time()
    for line in ("a" * 4096, "# tern-recorder " + "9" * 4310 + " tick 4 us, x # 00", "+1 # " + "9" * 4310 + " 00"):
        decode_line(line)
    assert time.process_time() - began < HANGS_S
    from eager_tern.devices.line_protocol import encode_durations

    recorder = Recorder("x", 115_200, None)
    lines = [encode_durations(np.array([500.0 + n, -600.0]), n) + "\n" for n in range(3)]
    received = recorder._decoded("".join([lines[0], lines[1], lines[1], lines[2]]).encode())
    assert [part[0] for part in received.durations] == [500, 501, 502]
    assert received.lost_lines == 0


def test_nothing_is_written_where_there_is_nothing_or_over_what_is_there(tmp_path: Path) -> None:
    for name in ("a.csv", "a.sigmf-meta", "a.wav", "a.txt"):
        with pytest.raises(InputError, match="no pulses to write"):
            write_pulses(tmp_path / name, NO_PULSES)
    assert list(tmp_path.iterdir()) == []
    pulses = Pulses(np.array([500.0, 600.0, 500.0]))
    write_pulses(tmp_path / "t.tsv", pulses)
    assert "," not in (tmp_path / "t.tsv").read_text()
    assert read_captures(tmp_path / "t.tsv")[0].marks()[0].durations_us.tolist() == [500, 600, 500]


@pytest.mark.parametrize("name", ["o.txt", "o.csv", "o.vcd", "o.wav", "o.sigmf-meta"])
def test_a_write_that_fails_leaves_what_was_there(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    pulses = Pulses(np.array([500.0, 600.0, 500.0]))
    write_pulses(tmp_path / name, pulses)
    before = {path.name: path.read_bytes() for path in tmp_path.iterdir()}

    def full(_: Path) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("eager_tern.replacing._on_disk", full)
    with pytest.raises(InputError, match="disk is full"):
        write_pulses(tmp_path / name, Pulses(np.array([900.0, 600.0, 900.0])))
    assert {path.name: path.read_bytes() for path in tmp_path.iterdir()} == before


def test_a_period_shorter_than_its_frame_is_said() -> None:
    sheet = parse_sheet(SHEET.replace("gap_us = 30000", "period_us = 100"), "short")
    with pytest.raises(InputError, match=r"longer than its period_us"):
        press_frames(sheet, {})


def test_labels_tables_of_any_kind() -> None:
    names, rows, *_ = parse_labels("file,t\ra.txt,nan\rb.txt,2\r", "labels.csv")
    assert (names, rows["a.txt", 0]["t"], rows["b.txt", 0]["t"]) == (["t"], "nan", "2")
    with pytest.raises(InputError, match=r"labels.csv: .*no table that can be read"):
        parse_labels('file,t\na,"' + "x" * 200_000 + '"\n', "labels.csv")


def command(*args: object, cwd: Path) -> subprocess.CompletedProcess[bytes]:
    line = [sys.executable, "-m", "eager_tern", *map(str, args)]
    return subprocess.run(line, capture_output=True, check=False, env=child_env(), cwd=cwd)


def test_the_command_goes_on_behind_what_it_cannot_use(tmp_path: Path, rng: np.random.Generator) -> None:
    good = tmp_path / "good.txt"
    good.write_text(" ".join(f"{d:+.0f}" for d in record(nec(1, 2), rng)))
    (tmp_path / "bad.tern").write_bytes(b"SQLite format 3\0" + bytes(range(256)) * 40)
    odd = Path(str(tmp_path) + "/\udcff\udcfe.txt")
    odd.write_bytes(good.read_bytes())
    done = command("read", good, tmp_path / "bad.tern", odd, "--json", cwd=tmp_path)
    assert done.returncode == 1
    takes = json.loads(done.stdout)["takes"]
    assert [take["frames"][0]["readings"][0]["fields"]["command"] for take in takes] == [2, 2]
    assert b"bad.tern" in done.stderr
    assert b"Traceback" not in done.stderr
