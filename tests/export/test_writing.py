"""Kinds of files, from a casebook as somebody has it: hostile names, keys that a sheet makes, keys that none does."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import cast

import numpy as np
import pytest
from click.testing import CliRunner
from msgspec.structs import replace

from eager_tern.cli.app import app
from eager_tern.cli.files import EXPORTS
from eager_tern.errors import InputError
from eager_tern.export.keys import ExportedKey
from eager_tern.export.payloads import TEMPLATES, payloads
from eager_tern.export.subject import Subject
from eager_tern.export.writing import KINDS, cannot, files_of, write_out
from eager_tern.formats.registry import read_captures
from eager_tern.protocol.codes import codes_of
from eager_tern.protocol.loading import library_sheet, load_sheet
from eager_tern.protocol.making import make_frame, press_frames
from eager_tern.signal.values import Floats
from tests.test_hostile import HOSTILE

HERE = Path(__file__).parent
DEMO = HERE.parents[1] / "src/eager_tern/demo"
CXX = ["-std=c++11", "-Wall", "-Wextra", "-Werror"]


def key(name: str, **more: object) -> ExportedKey:
    made = make_frame(library_sheet("nec"), {"address": 91, "command": 3})  # type: ignore[arg-type]
    bits = "".join(map(str, made.bits.tolist()))
    usual: dict[str, object] = {
        "protocol": "nec", "address": 91, "command": 3, "fields": {"address": 91, "command": 3}, "bits": bits,
        "codes": codes_of(made.bits), "carrier_hz": None, "pulses_us": made.pulses.durations_us.tolist(),
    }  # fmt: skip
    return ExportedKey(name, **{**usual, **more})  # type: ignore[arg-type]


def hostile() -> Subject:
    nec = library_sheet("nec")
    assert nec is not None
    keys = [key(name) for name in (*HOSTILE, "Power", "Power")]
    keys.append(key("slow", pulses_us=[9000.0, 99_000.0, 560.0]))
    bits = make_frame(nec, {"address": 91, "command": 3}).bits
    return Subject('gadget */ "😀"\n', "Gadget", "Gadget", '*/ """ \\', nec, tuple(keys), {"Power": bits})


def run(*words: object) -> tuple[int, str]:
    result = CliRunner().invoke(app, [str(word) for word in words])
    return result.exit_code, result.output


def sketch(subject: Subject, folder: Path) -> Path:
    """The sketch, built for this machine."""
    write_out(subject, [KINDS["sketch"]], folder)
    place = folder / f"{subject.name}_sketch"
    source = place / f"{subject.name}_sketch.ino"
    host = HERE.parents[1] / "firmware/host"
    objects = []
    if subject.sheet is not None:
        objects = [str(place / "library.o")]
        subprocess.run(["gcc", "-c", str(place / f"{subject.name}.c"), "-o", objects[0]], check=True)
    command = ["g++", *CXX, f"-I{host}", "-x", "c++", str(source), str(HERE / "board.cpp"), "-x", "none", *objects]
    subprocess.run([*command, "-o", str(place / "board")], check=True)
    return place / "board"


def say(board: Path, text: str, *button: object) -> tuple[str, Floats]:
    """What it answers, and what its pin did: signed durations in µs from the first mark on, the carrier taken out."""
    pin = board.with_name("pin.txt")
    command = [str(board), str(pin), *map(str, button)]
    answer = subprocess.run(command, input=text.encode(), check=True, capture_output=True, timeout=60).stdout.decode()
    edges = np.array(pin.read_text().split(), float)[1:]
    joined: list[float] = []
    for at, each in enumerate(edges.tolist()):
        carrier = each < 0 and -each < 60 and at + 1 < edges.size  # a low half of a cycle is part of the mark
        if joined and (carrier or (each > 0 and joined[-1] > 0)):
            joined[-1] += abs(each)
        else:
            joined.append(each)
    return answer, np.array(joined)


def test_a_sketch_sends_keys_by_name_and_frames_by_their_fields(tmp_path: Path) -> None:
    cabinet = load_sheet(DEMO / "climate-cabinet.toml")
    bits = make_frame(cabinet, {"mode": "dry", "temperature": 21}).bits
    board = sketch(
        Subject("cabinet", "Cabinet", sheet=cabinet, keys=(key("Dry", bits=""),), made={"Dry": bits}), tmp_path
    )
    assert say(board, "?\n")[0] == "Dry\n"
    meant = {"temperature": 22.5, "mode": "cool"}
    for line, values in (("Dry\n", {"mode": "dry", "temperature": 21}), ("temperature=22.5 mode=cool\n", meant)):
        answer, edges = say(board, line)
        assert answer == "sent\n"
        wanted = press_frames(cabinet, values)[0][:-1]
        assert edges[: wanted.size] == pytest.approx(wanted, abs=45)  # a cycle and a half of the carrier
    for wrong in ("Wet\n", "temperature=99\n", "mode=wet\n", "colour=1\n", "x" * 500 + "\n"):
        assert say(board, wrong)[0].startswith("cannot"), wrong
    # Held for a while, its button repeats the frame.
    assert np.count_nonzero(say(board, "", 4, 4)[1] > 3000) >= 2


@pytest.mark.parametrize("name", ["cabinet", "lamp"])
def test_a_sketch_fits_the_board_that_it_is_for(name: str, tmp_path: Path) -> None:
    cabinet = load_sheet(DEMO / "climate-cabinet.toml")
    subject = Subject(name, "X", sheet=cabinet) if name == "cabinet" else Subject(name, "X", keys=hostile().keys)
    write_out(subject, [KINDS["sketch"]], tmp_path)
    place = tmp_path / f"{name}_sketch"
    board = ["-mmcu=atmega328p", "-Os", "-Wall", "-Wextra", "-Werror"]
    host = f"-I{HERE.parents[1] / 'firmware/host'}"
    source = str(place / f"{name}_sketch.ino")
    subprocess.run(
        ["avr-g++", "-std=c++11", *board, host, "-c", "-x", "c++", source, "-o", str(place / "s.o")], check=True
    )
    sizes = subprocess.run(["avr-size", str(place / "s.o")], check=True, capture_output=True, text=True).stdout
    flash, data, bss, *_ = map(int, sizes.splitlines()[1].split()[:3])
    assert flash < 20_000
    assert data + bss < 1500  # of 2,048 bytes, beside the stack


def test_no_label_breaks_what_is_generated(tmp_path: Path) -> None:
    subject = hostile()
    board = sketch(Subject("gadget", subject.title, keys=subject.keys), tmp_path / "recorded")
    answer, _ = say(board, "?\n")
    names = answer.splitlines()
    assert len(set(names)) == len(subject.keys)
    for number in (0, 7, len(names) - 1):
        answer, edges = say(board, f"{names[number]}\n")
        assert answer == "sent\n"
        wanted = subject.keys[number].pulses_us
        assert np.abs(edges[: len(wanted)]) == pytest.approx(wanted, abs=45)  # 99 ms are not cut to 16 bits
    for kind in KINDS.values():
        texts = files_of(replace(subject, name="gadget"), kind) if not cannot(subject, kind) else {}
        for name, text in texts.items():
            if name.endswith(".py"):
                compile(text, name, "exec")
            elif name.endswith((".json", ".jsonl")):
                assert [json.loads(line) for line in ([text] if name.endswith(".json") else text.splitlines())]


def test_payloads_by_template() -> None:
    keys = [key('say "hi"\n'), key("Power")]
    for name in TEMPLATES:
        lines = [json.loads(line) for line in payloads(keys, name).splitlines()]
        assert [line["key"] for line in lines] == ['say "hi"\n', "Power"]
    assert payloads(keys[1:], "{label}: {code} to {address}") == "Power: 0xDA25C03F to 91\n"
    assert json.loads(payloads(keys[1:], '{"Data": {pulses_us}}'))["Data"][:2] == [9000, 4500]
    with pytest.raises(InputError, match="no JSON"):
        payloads(keys, '{"Data": {label}}')
    with pytest.raises(InputError, match=r"\{colour\}.*known are"):
        payloads(keys, "{colour}")


@pytest.mark.parametrize("gadget", ["Climate cabinet", "Tide gauge", "Turnstile", "Window shutters", "Audio guide"])
def test_every_gadget_of_the_example_becomes_code(gadget: str, demo_casebook: Path, tmp_path: Path) -> None:
    """Where no sheet is kept yet, by what comparing its presses says."""
    status, said = run("export", demo_casebook, "--gadget", gadget, "--as", "c", "--as", "python", "--to", tmp_path)
    assert status == 0, said
    name = json.loads((tmp_path / "export.json").read_text())["name"]
    sources = [str(tmp_path / f"{name}{end}.c") for end in ("", "_test")]
    subprocess.run(["gcc", "-std=c99", *CXX[1:], *sources, "-o", str(tmp_path / "proof")], check=True)
    said = subprocess.run([tmp_path / "proof"], check=True, capture_output=True, text=True).stdout
    good, _, every, *_ = said.split()
    assert good == every
    module: dict[str, object] = {}
    exec((tmp_path / f"{name}.py").read_text(), module)
    make, read = cast(Callable[..., list[int]], module["make"]), cast(Callable[..., object], module["read"])
    assert read(make()) is not None


def test_the_commands_help_names_every_kind() -> None:
    """It does so without loading what makes them."""
    assert tuple(KINDS) == EXPORTS


def test_what_was_exported_is_read_again(tmp_path: Path) -> None:
    sheet = library_sheet("nec")
    assert sheet is not None
    keys = []
    for number, name in enumerate(("Lamp", '=1+1 "x"', "Zoom −")):
        made = make_frame(sheet, {"address": 91, "command": number})
        keys.append(key(name, command=number, pulses_us=made.pulses.durations_us.tolist()))
    write_out(Subject("lamp", "Lamp", keys=tuple(keys)), [KINDS[k] for k in ("table", "payloads", "header")], tmp_path)
    for name in ("lamp_keys.csv", "lamp_keys.json", "lamp_keys.h", "lamp_payloads.jsonl"):
        status, said = run("read", tmp_path / name, "--json")
        assert status == 0, said
        frames = json.loads(said)["takes"][0]["frames"]
        assert [frame["readings"][0]["fields"]["command"] for frame in frames] == [0, 1, 2], name
        notes = read_captures(tmp_path / name)[0].notes
        assert name.endswith(".h") or [note.text for note in notes] == [each.name for each in keys], name
    (tmp_path / "bad.csv").write_text("name,pulses_us\nLamp,9000 x\n")
    status, said = run("read", tmp_path / "bad.csv")
    assert status == 1
    assert "line 2" in said


def test_the_command_lists_what_it_wrote(tmp_path: Path) -> None:
    status, said = run("export", "sensor-36", "--as", "c", "--as", "python", "--to", tmp_path / "out")
    assert status == 0, said
    listed = json.loads((tmp_path / "out/export.json").read_text())
    assert listed["schema"] == "eager-tern/export/1"
    assert listed["name"] == "sensor_36"
    assert listed["fields"] == ["id", "battery", "channel", "temperature", "humidity"]
    assert sorted(listed["files"]) == sorted(p.name for p in (tmp_path / "out").iterdir() if p.name != "export.json")


@pytest.mark.parametrize(
    ("words", "status", "reason"),
    [
        (("nec", "--as", "table"), 1, "no key"),
        (("nec", "--as", "poem"), 2, "poem"),
        (("no-such-file", "--as", "c"), 1, "no such file"),
        ((Path(__file__), "--as", "c"), 1, "neither a casebook nor a sheet"),
    ],
)
def test_what_cannot_be_is_refused_and_nothing_written(
    words: tuple[object, ...], status: int, reason: str, tmp_path: Path
) -> None:
    found, said = run("export", *words, "--to", tmp_path / "out")
    assert found == status
    assert reason in said
    assert not (tmp_path / "out").exists()
