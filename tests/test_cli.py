"""The command's contract: documents, messages, exit codes."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from click.testing import CliRunner, Result

from eager_tern import __version__
from eager_tern.cli.app import app
from eager_tern.demo.gadgets import GADGETS
from eager_tern.errors import InputError
from eager_tern.intake import recording
from eager_tern.signal.values import Pulses
from tests.files import audio_line, write_audio, write_text
from tests.handsets import IDLE_US, distance_frame, lsb_first, nec, record, serial, sony
from tests.protocol.test_fields import AIR
from tests.protocol.test_sheets import SHEET


def run(*arguments: object) -> Result:
    return CliRunner().invoke(app, [str(a) for a in arguments])


def document(result: Result) -> Any:
    assert result.exit_code in (0, 1), result.output
    return json.loads(result.stdout)


@pytest.fixture
def capture(tmp_path: Path, rng: np.random.Generator) -> Path:
    path = tmp_path / "projector-next.wav"
    signed = record([-IDLE_US, *nec(0x5B, 0x16, 1), -IDLE_US, *nec(0x5B, 0x40)], rng, jitter_us=10, excess_us=41)
    write_audio(path, audio_line(signed, 48_000, rng, mark_high=False), 48_000)
    return path


def test_a_reading_has_every_key_of_the_contract(capture: Path) -> None:
    found = document(run("read", capture, "--json"))
    assert found["schema"] == "eager-tern/readings/1"
    (take,) = found["takes"]
    assert {k: take[k] for k in ("format", "sample_rate_hz", "channel", "polarity", "carrier_hz", "keying")} == {
        "format": "audio", "sample_rate_hz": 48_000, "channel": 0, "polarity": "mark-low", "carrier_hz": None,
        "keying": None,
    }  # fmt: skip
    assert take["path"] == str(capture)
    first, repeat, second = take["frames"]
    assert [f["press"] for f in (first, repeat, second)] == [0, 0, 1]
    assert [f["repeat"] for f in (first, repeat, second)] == [False, True, False]
    assert first["start_us"] == pytest.approx(IDLE_US, abs=30)
    assert first["duration_us"] == pytest.approx(sum(first["pulses_us"]), abs=1)
    assert len(first["pulses_us"]) == 67
    assert first["modulation"]["code"] == "pulse-distance"
    assert first["modulation"]["unit_us"] == pytest.approx(562.5, rel=0.01)
    assert first["modulation"]["mark_excess_us"] == pytest.approx(41, abs=8)
    best = first["readings"][0]
    assert best["protocol"] == "nec"
    assert best["bits"] == "11011010001001010110100010010111"
    assert best["fields"] == {"address": 91, "command": 22}
    assert best["checks"] == [{"name": "address complement", "ok": True}, {"name": "command complement", "ok": True}]
    assert repeat["readings"][0]["protocol"] == "nec"
    assert repeat["readings"][0]["bits"] == ""


def test_noise_is_listed_on_request(tmp_path: Path) -> None:
    path = tmp_path / "t.txt"
    write_text(path, np.array([200.0, -90_000.0, *nec(1, 2)]), "signed")
    assert len(document(run("read", path, "--json"))["takes"][0]["frames"]) == 1
    frames = document(run("read", path, "--json", "--noise"))["takes"][0]["frames"]
    assert [f["noise"] for f in frames] == [True, False]
    assert frames[0]["readings"] == []


def test_text_for_a_person(capture: Path) -> None:
    result = run("read", capture)
    assert result.exit_code == 0
    assert "2 presses" in result.stdout
    assert "nec, address 91 (0x5B), command 22 (0x16)" in result.stdout
    assert "1 repeat" in result.stdout


def test_what_cannot_be_used_does_not_spoil_the_rest(tmp_path: Path, capture: Path) -> None:
    bad = tmp_path / "bad.txt"
    bad.write_text("500 600\n500 x 3\n")
    result = run("read", bad, capture, tmp_path / "none.txt", "--json")
    assert result.exit_code == 1
    assert len(json.loads(result.stdout)["takes"]) == 1
    lines = result.stderr.strip().splitlines()
    assert lines[0] == f'eager-tern: {bad}: line 2: "x" is no duration'
    assert lines[1] == f"eager-tern: {tmp_path / 'none.txt'}: does not exist"


def test_nothing_recognised_is_no_failure(tmp_path: Path) -> None:
    path = tmp_path / "t.txt"
    path.write_text("100 200 100\n")
    result = run("read", path, "--json")
    assert result.exit_code == 0
    assert json.loads(result.stdout)["takes"][0]["frames"] == []


def test_a_file_cut_short_is_read_with_a_warning(tmp_path: Path, capture: Path) -> None:
    cut = tmp_path / "cut.wav"
    cut.write_bytes(capture.read_bytes()[:-20_000])
    result = run("read", cut, "--json")
    assert result.exit_code == 0
    assert "is cut short at byte" in result.stderr
    assert json.loads(result.stdout)["takes"][0]["frames"]


def test_polarity_and_channel_can_be_overruled(capture: Path) -> None:
    wrong = document(run("read", capture, "--polarity", "mark-high", "--json"))["takes"][0]
    assert wrong["polarity"] == "mark-high"
    assert all(f["readings"][0]["protocol"] != "nec" for f in wrong["frames"])
    assert run("read", capture, "--channel", "3").exit_code == 1


def test_wrong_arguments_are_status_2(capture: Path) -> None:
    assert run("read").exit_code == 2
    assert run("read", capture, "--polarity", "up").exit_code == 2
    assert run("make", "nec", "address").exit_code == 2
    assert run("nonsense").exit_code == 2


def test_a_sheet_of_ones_own_reads_and_makes(tmp_path: Path) -> None:
    sheet = tmp_path / "lamp.toml"
    sheet.write_text(SHEET)
    made = document(run("make", sheet, "group=9", "level=0x3", "--to", tmp_path / "l.txt", "--json"))
    assert made["protocol"] == "hide-lamp"
    assert made["bits"] == "100111000011"
    assert made["carrier_hz"] is None
    found = document(run("read", tmp_path / "l.txt", "--sheet", sheet, "--json"))
    reading = found["takes"][0]["frames"][0]["readings"][0]
    assert (reading["protocol"], reading["fields"]) == ("hide-lamp", {"group": 9, "level": 3})


def test_presses_of_another_gadget_are_set_apart_in_one_line(tmp_path: Path, rng: np.random.Generator) -> None:
    presses = [nec(0x5B, command) for command in range(1, 7)]
    for at in (2, 4, 5):
        presses.insert(at, sony(at, 1, 2))
    signed = np.concatenate([part for press in presses for part in ([-IDLE_US], record(press, rng))])
    write_text(tmp_path / "two.txt", signed, "signed")
    result = run("compare", tmp_path / "two.txt")
    assert result.exit_code == 0
    assert [line for line in result.stderr.splitlines() if "set apart" in line] == [
        "eager-tern: two.txt, press 2, 4, 5: 12 bits; set apart"
    ]


def test_values_are_words_and_numbers_with_a_point(tmp_path: Path) -> None:
    sheet = tmp_path / "cabinet.toml"
    sheet.write_text(AIR)
    made = run("make", sheet, "mode=dry", "temperature=21.5", "outside=-3", "--to", tmp_path / "c.wav")
    assert made.exit_code == 0
    found = document(run("read", tmp_path / "c.wav", "--sheet", sheet, "--json"))
    fields = found["takes"][0]["frames"][0]["readings"][0]["fields"]
    assert (fields["mode"], fields["temperature"], fields["outside"]) == ("dry", 21.5, -3)
    refused = run("make", sheet, "mode=warm")
    assert refused.exit_code == 1
    assert 'mode = "warm" is none of auto, cool, dry, fan' in refused.stderr
    assert run("make", sheet, "mode").exit_code == 2


def test_serial_and_sections_in_json(tmp_path: Path, rng: np.random.Generator) -> None:
    data = [0x54, 0x45, 0x52, 0x4E, 0x0A]
    write_text(tmp_path / "s.txt", np.array([-70_000.0, *serial(data, 1200)]), "signed")
    frame = document(run("read", tmp_path / "s.txt", "--json"))["takes"][0]["frames"][0]
    assert frame["modulation"]["code"] == "async-serial"
    assert frame["readings"][0]["protocol"] == "async-serial"
    assert frame["readings"][0]["fields"] == {"bytes": data}
    assert len(frame["readings"][0]["bits"]) == 40
    parts = [distance_frame([4000.0, -2000.0], 500.0, (1, 3), rng.integers(0, 2, n).tolist()) for n in (48, 64)]
    write_text(tmp_path / "a.txt", np.array([-70_000.0, *parts[0], -12_000.0, *parts[1], -90_000.0]), "signed")
    (whole,) = document(run("read", tmp_path / "a.txt", "--json"))["takes"][0]["frames"]
    assert whole["sections"] == [48, 64]
    assert len(whole["readings"][0]["bits"]) == 112


def test_make_refuses_by_name_and_range(tmp_path: Path) -> None:
    for arguments, words in (
        (("nec", "address=256"), "address = 256 is outside 0 to 255"),
        (("nec", "volume=1"), 'no field "volume"'),
        (("nec", "address=many"), 'address = "many" is no number'),
        (("no-such-sheet",), "no-such-sheet"),
        (("nec", "--to", tmp_path / "x.doc"), '".doc"'),
    ):
        result = run("make", *arguments)
        assert result.exit_code == 1
        assert words in result.stderr
        assert len(result.stderr.strip().splitlines()) == 1


def test_make_prints_timing_text() -> None:
    assert run("make", "sirc12", "command=1").stdout.startswith("+2400 -600 +1200 -600 +600")
    assert document(run("make", "nec", "--json"))["carrier_hz"] == 38_000


@pytest.mark.parametrize("suffix", [".csv", ".wav", ".flac", ".tern", ".txt"])
def test_convert_keeps_the_pulses(tmp_path: Path, suffix: str) -> None:
    source = tmp_path / "in.txt"
    write_text(source, np.array([-70_000.0, *nec(1, 2, 1), -IDLE_US, *sony(3, 4)]), "signed")
    target = tmp_path / f"out{suffix}"
    assert run("convert", source, target).exit_code == 0
    one, other = (document(run("read", path, "--json"))["takes"][0]["frames"] for path in (source, target))
    assert [f["readings"][0]["fields"] for f in other] == [f["readings"][0]["fields"] for f in one]
    for a, b in zip(one, other, strict=True):
        np.testing.assert_allclose(a["pulses_us"], b["pulses_us"], atol=0.5)
        assert a["start_us"] == pytest.approx(b["start_us"], abs=1)


def test_convert_refuses_what_it_cannot_write(tmp_path: Path, capture: Path) -> None:
    result = run("convert", capture, tmp_path / "x.xyz")
    assert result.exit_code == 1
    assert '".xyz"' in result.stderr


def test_sources_lists_the_simulated_handsets() -> None:
    found = document(run("sources", "--json"))
    assert {"simulated:slide-projector", "simulated:audio-guide", "simulated:nest-box-lamp"} <= {
        s["id"] for s in found["sources"]
    }
    assert "simulated:audio-guide" in run("sources").stdout


def test_record_writes_what_a_simulated_handset_sends(tmp_path: Path) -> None:
    target = tmp_path / "r.txt"
    assert run("record", "simulated:audio-guide", target, "--seconds", "1.2").exit_code == 0
    frames = document(run("read", target, "--json"))["takes"][0]["frames"]
    assert frames[0]["readings"][0]["protocol"] == "sirc12"
    assert frames[0]["readings"][0]["fields"]["address"] == 21
    assert not target.with_suffix(".partial").exists()


def test_record_refuses_before_it_listens(tmp_path: Path) -> None:
    for source, target, words in (
        ("simulated:toaster", "r.txt", "no such simulated gadget"),
        ("/dev/no-such", "r.txt", "no such port"),
        ("simulated:audio-guide", "r.xyz", '".xyz"'),
        ("simulated:audio-guide", "none/r.txt", "folder does not exist"),
    ):
        result = run("record", source, tmp_path / target, "--seconds", "0.2")
        assert result.exit_code == 1
        assert words in result.stderr


def test_a_recording_that_cannot_be_written_is_put_elsewhere(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    target = tmp_path / "r.txt"

    def refuse(path: Path, pulses: Pulses, notes: object = ()) -> None:
        raise InputError(path, "cannot be written because the disk is full")

    monkeypatch.setattr(recording, "write_pulses", refuse)
    result = run("record", "simulated:nest-box-lamp", target, "--seconds", "0.8")
    assert result.exit_code == 1
    assert "disk is full" in result.stderr
    rescued = Path(result.stderr.strip().splitlines()[-1].split(": ")[0])
    assert rescued.read_text().startswith(("+", "-"))
    book = tmp_path / "there.tern"
    book.write_bytes(b"")
    assert "exists already" in run("record", "simulated:nest-box-lamp", book, "--seconds", "0.2").stderr


def test_the_example_runs_without_a_window(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """One of its gadgets; all of them are played on a clean clone (scripts/first-command)."""
    monkeypatch.setattr("eager_tern.demo.headless.GADGETS", [g for g in GADGETS if g.name == "Nest-box lamp"])
    result = run("demo", "--headless", "--folder", tmp_path)
    assert result.exit_code == 0, result.output
    assert "Nest-box lamp: 5 of 5 keys caught" in result.stdout
    assert "5 of 5 exported keys read back the same" in result.stdout
    exported = json.loads((tmp_path / "nest-box-lamp-keys.json").read_text())
    assert len(exported["keys"]) == 5


def test_what_the_contract_asks_of_an_unknown_frame(tmp_path: Path) -> None:
    signed = [-4e5]
    for number in (3, 77, 200, 9):
        bits = [b for v in (0x5A, number, 0x10, (0x5A + number + 0x10) & 255) for b in lsb_first(v, 8)]
        signed += [*distance_frame([6000.0, -2900.0], 480.0, (1, 2), bits), -4e5]
    write_text(tmp_path / "a.txt", np.array(signed), "signed")
    document = json.loads(run("read", "--json", "--why", "nec", str(tmp_path / "a.txt")).stdout)
    frames = document["takes"][0]["frames"]
    assert {frame["readings"][0]["protocol"] for frame in frames} == {"unknown"}
    assert frames[0]["readings"][0]["codes"]["turned"] == "0x6D10035A"
    (check,) = frames[0]["structure"]["checks"]
    assert (check["kind"], check["covers"], check["parameters"]["order"]) == ("sum", [[0, 23]], "lsb")
    assert any("leader" in reason for reason in frames[0]["why"])
    compared = json.loads(run("compare", "--json", str(tmp_path / "a.txt")).stdout)
    assert (compared["rows"], compared["bit_count"]) == (4, 32)
    assert [each["kind"] for each in compared["checks"]] == ["sum"]
    said = json.loads(run("read", "--json", "--as", "pulse-width", str(tmp_path / "a.txt")).stdout)
    assert said["takes"][0]["path"].endswith("a.txt")


@pytest.mark.parametrize(
    ("words", "meant"),
    [
        (("make", "ncc"), '"nec"'),
        (("make", "nec", "adress=3"), '"address"'),
        (("make", "nec", "colour=3"), "it has address"),
    ],
)
def test_a_slip_of_the_pen_gets_a_suggestion(words: tuple[str, ...], meant: str) -> None:
    result = run(*words)
    assert result.exit_code == 1
    assert meant in result.output


def test_the_version_is_told() -> None:
    assert run("--version").output == f"eager-tern {__version__}\n"
    assert "Examples:" in run("--help").output
