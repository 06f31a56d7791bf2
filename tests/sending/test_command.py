"""`targets`, `send` and `echo`, as scripts use them."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from eager_tern.casebook.store import Casebook
from eager_tern.cli.app import app
from eager_tern.formats.registry import write_pulses
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import nec, record, sony

CABINET = Path(__file__).parents[2] / "src/eager_tern/demo/climate-cabinet.toml"


def run(*words: object) -> tuple[int, str, str]:
    done = CliRunner().invoke(app, [str(word) for word in words])
    return done.exit_code, done.stdout, done.stderr


def sent(*words: object) -> dict[str, object]:
    status, out, err = run("send", *words, "--json")
    assert status == 0, err
    return json.loads(out)


def test_targets_are_listed() -> None:
    status, out, _ = run("targets", "--json")
    document = json.loads(out)
    assert status == 0
    assert document["schema"] == "eager-tern/targets/1"
    assert "simulated:climate-cabinet" in [target["id"] for target in document["targets"]]


def test_a_frame_nobody_captured_is_obeyed_and_heard() -> None:
    status, out, _ = run(
        "send", "simulated:climate-cabinet", CABINET, "temperature=17.5", "mode=dry", "power=on",
        "--echo", "simulated:climate-cabinet", "--json",
    )  # fmt: skip
    document = json.loads(out)
    (step,) = document["steps"]
    assert (status, document["schema"], document["target"]) == (0, "eager-tern/sent/1", "simulated:climate-cabinet")
    assert (step["made"], step["frames"], step["start_s"], step["carrier_hz"]) == (True, 1, 0.0, 38_000)
    assert step["obeyed"]["temperature"] == 17.5
    assert step["echo"]["same_bits"] is True
    assert step["echo"]["heard"] == 1
    assert step["echo"]["mark_excess_us"] == pytest.approx(45, abs=6)
    assert step["echo"]["clock"] == pytest.approx(1.012, abs=0.001)


def test_a_capture_is_sent_press_by_press(tmp_path: Path) -> None:
    signed = [-2e5, *nec(1, 2, 1), -3e5, *sony(50, 21, 3), -3e5, *nec(1, 3)]
    write_pulses(tmp_path / "in.txt", pulses_from_signed(np.array(signed)))
    document = sent(tmp_path / "out.vcd", tmp_path / "in.txt", "--every", "0.7")
    steps = document["steps"]
    assert [(s["frames"], s["made"], s["echo"], s["obeyed"]) for s in steps] == [  # type: ignore[attr-defined]
        (2, False, None, None), (3, False, None, None), (1, False, None, None),
    ]  # fmt: skip
    (take,) = read_file(tmp_path / "out.vcd", library())
    presses = take.take.presses
    assert [press.lead.reading.protocol for press in presses] == ["nec", "sirc12", "nec"]
    assert [len(press.frames) for press in presses] == [2, 3, 1]
    assert presses[1].start_us - (presses[0].start_us + presses[0].held_us) == pytest.approx(700_000, abs=50)
    only = sent(tmp_path / "one.csv", tmp_path / "in.txt", "--press", 1, "--times", 5)
    assert [s["frames"] for s in only["steps"]] == [5]  # type: ignore[attr-defined]


def test_keys_and_fields_of_a_casebook(tmp_path: Path, demo_casebook: Path) -> None:
    out = tmp_path / "keys.txt"
    document = sent(out, demo_casebook, "Next slide", "Lamp", "--gadget", "slide projector", "--carrier", 0)
    assert [s["what"] for s in document["steps"]] == ["Next slide", "Lamp"]  # type: ignore[attr-defined]
    assert [s["carrier_hz"] for s in document["steps"]] == [0, 0]  # type: ignore[attr-defined]
    (take,) = read_file(out, library())
    assert [p.lead.reading.fields["command"] for p in take.take.presses] == [0x16, 0x40]
    raw = sent(out, demo_casebook, "Lamp", "--gadget", "Slide projector", "--as-recorded")
    assert raw["steps"][0]["made"] is False  # type: ignore[index]


@pytest.mark.parametrize(
    ("words", "reason"),
    [
        (["out.txt", "BOOK"], "holds 7 gadgets; --gadget says which"),
        (["out.txt", "BOOK", "Nope", "--gadget", "Audio guide"], 'Audio guide: has no key "Nope"'),
        (["out.txt", "BOOK", "--gadget", "Nobody"], 'has no gadget "Nobody"'),
        (["out.txt", "nec", "address=999"], "address = 999 is outside 0 to 255"),
        (["out.txt", "nec", "colour=1"], 'has no field "colour"'),
        (["out.txt", "nec", "seven"], "seven: is not of the form field=value"),
        (["out.xyz", "nec"], 'cannot write the suffix ".xyz"'),
        (["out.txt", "nec", "--every", "0.05"], "0.1 s is the least"),
        (["out.txt", "nowhere.txt"], "there is no such file, and no built-in sheet of that name"),
        (["simulated:toaster", "nec"], "there is no such simulated gadget"),
        (["/dev/ttyNowhere9", "nec"], "there is no such port"),
        (["out.txt", "nec", "--routine", "r.txt"], "is no casebook; a routine needs one"),
    ],
)
def test_what_cannot_be_sent_is_said(
    words: list[str], reason: str, demo_casebook: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    status, _, err = run("send", *(str(demo_casebook) if word == "BOOK" else word for word in words))
    assert status == 1
    assert reason in err
    assert err.count("\n") == 1
    assert not (tmp_path / "out.txt").exists()


def test_an_echo_that_is_missing_is_status_3(tmp_path: Path) -> None:
    status, out, _ = run(
        "send", tmp_path / "o.txt", "nec", "address=1", "--echo", f"play:{silence(tmp_path)}", "--json"
    )
    assert status == 3
    assert json.loads(out)["steps"][0]["echo"]["heard"] == 0


def silence(folder: Path) -> Path:
    import soundfile

    soundfile.write(folder / "silence.wav", np.zeros(400_000, np.float32), 48_000)
    return folder / "silence.wav"


def test_two_captures_are_held_against_each_other(tmp_path: Path, rng: np.random.Generator) -> None:
    signed = [-2e5, *nec(1, 2, 2), -4e5, *sony(50, 21, 3), -4e5]
    write_pulses(tmp_path / "meant.txt", pulses_from_signed(np.array(signed)))
    heard = record(signed, rng, jitter_us=15, excess_us=60, clock=0.98)
    write_pulses(tmp_path / "heard.txt", pulses_from_signed(heard))
    status, out, _ = run("echo", tmp_path / "meant.txt", tmp_path / "heard.txt", "--json")
    document = json.loads(out)
    assert (status, document["schema"]) == (0, "eager-tern/echo/1")
    assert [(p["meant"], p["heard"], p["same_bits"]) for p in document["presses"]] == [(0, 3, True), (1, 3, True)]
    assert document["presses"][0]["clock"] == pytest.approx(0.98, abs=0.001)
    write_pulses(tmp_path / "half.txt", pulses_from_signed(np.array(signed[:70])))
    status, out, _ = run("echo", tmp_path / "meant.txt", tmp_path / "half.txt")
    assert status == 3
    assert "Heard once of 3" in out
    assert "Nothing of it was heard" in out


def test_interrupted_nothing_more_goes_out_and_it_is_reported(tmp_path: Path, book: Casebook) -> None:
    (tmp_path / "r.txt").write_text("Next slide x 50\n")
    words = ["send", "simulated:slide-projector", str(book.path), "--gadget", "Slide projector"]
    words += ["--routine", str(tmp_path / "r.txt"), "--json"]
    process = subprocess.Popen(
        [sys.executable, "-m", "eager_tern", *words], stdout=subprocess.PIPE, text=True, env=os.environ.copy()
    )
    time.sleep(7.0)  # of the 28 that it would take; a slow machine needs some for its start
    process.send_signal(signal.SIGINT)
    out, _ = process.communicate(timeout=10)
    assert process.returncode == 130
    assert 1 <= len(json.loads(out)["steps"]) < 40
