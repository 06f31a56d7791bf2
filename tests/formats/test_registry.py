"""Files told by what is in them."""

from __future__ import annotations

import os
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from eager_tern.errors import InputError
from eager_tern.formats.capture import Description, Note, ReadOptions
from eager_tern.formats.registry import read_captures, write_pulses
from eager_tern.signal.values import Pulses, pulses_from_signed
from tests.files import audio_line, write_audio, write_changes_csv, write_text
from tests.handsets import IDLE_US, nec, record


@pytest.fixture
def signed(rng: np.random.Generator) -> np.ndarray:
    return record([-IDLE_US, *nec(0x5B, 0x16), -IDLE_US], rng)


def test_content_counts_more_than_the_suffix(tmp_path: Path, rng: np.random.Generator, signed: np.ndarray) -> None:
    write_text(tmp_path / "text.wav", signed, "signed")
    write_changes_csv(tmp_path / "table.txt", signed)
    write_audio(tmp_path / "sound.wav", audio_line(signed, 48_000, rng), 48_000)
    (tmp_path / "sound.wav").rename(tmp_path / "sound.csv")
    kinds = [read_captures(tmp_path / name)[0].format for name in ("text.wav", "table.txt", "sound.csv")]
    assert kinds == ["timing-text", "level-csv", "audio"]


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "is empty"),
        (b"\n \n", "is empty"),
        (b"\x00\x01\x02\x80" * 64, "neither text nor"),
        (b"\xff\xfe\xfd", "text"),
    ],
)
def test_rubbish_is_refused(tmp_path: Path, content: bytes, words: str) -> None:
    path = tmp_path / "rubbish.wav"
    path.write_bytes(content)
    with pytest.raises(InputError, match=words):
        read_captures(path)


def test_a_table_without_time_is_told_as_a_table(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("level\n0\n1\n0\n")
    with pytest.raises(InputError, match="no header with a time column"):
        read_captures(tmp_path / "t.csv")
    (tmp_path / "m.csv").write_text("mark 500\nspace 600\nmark 500\n")
    assert read_captures(tmp_path / "m.csv")[0].format == "timing-text"


def test_what_is_no_file_is_refused(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="is a directory"):
        read_captures(tmp_path)
    with pytest.raises(InputError, match="does not exist"):
        read_captures(tmp_path / "none.txt")
    os.mkfifo(tmp_path / "pipe")
    with pytest.raises(InputError, match="no end"):
        read_captures(tmp_path / "pipe")
    with pytest.raises(InputError, match="no end"):
        read_captures(Path("/dev/zero"))


def test_a_channel_can_be_picked(tmp_path: Path) -> None:
    path = tmp_path / "two.csv"
    path.write_text("time_us,a,b\n0,0,0\n10,1,0\n20,0,1\n30,0,0\n")
    assert len(read_captures(path)) == 2
    assert read_captures(path, ReadOptions(channel=1))[0].channel == 1
    with pytest.raises(InputError, match="no signal on channel 7"):
        read_captures(path, ReadOptions(channel=7))


@pytest.mark.parametrize("name", ["out.txt", "out.csv", "out.wav", "out.flac", "out.tern"])
def test_every_format_that_writes_is_read_back(tmp_path: Path, name: str) -> None:
    pulses = Pulses(np.array([9000.0, 4500.0, 560.0, 560.0, 560.0, 1690.0, 560.0]), 20_000.0)
    write_pulses(tmp_path / name, pulses)
    again, _ = read_captures(tmp_path / name)[0].marks()
    np.testing.assert_allclose(again.durations_us, pulses.durations_us, atol=0.3)


def test_a_suffix_that_cannot_be_written_is_named(tmp_path: Path) -> None:
    pulses = Pulses(np.array([500.0]))
    with pytest.raises(InputError, match=r'"\.doc"; known are'):
        write_pulses(tmp_path / "x.doc", pulses)
    with pytest.raises(InputError, match="folder does not exist"):
        write_pulses(tmp_path / "none" / "x.txt", pulses)


@given(st.data())
@settings(max_examples=120, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_damaged_files_give_pulses_or_one_sentence(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    rng = np.random.default_rng(5)
    folder = tmp_path_factory.getbasetemp() / "damaged"
    if not folder.exists():
        folder.mkdir()
        signed = record([-20_000.0, *nec(1, 2), -20_000.0], rng)
        write_text(folder / "a.txt", signed, "words")
        write_changes_csv(folder / "b.csv", signed)
        write_audio(folder / "c.wav", audio_line(signed, 22_050, rng), 22_050)
        write_audio(folder / "d.flac", audio_line(signed, 22_050, rng), 22_050)
    source = folder / data.draw(st.sampled_from(["a.txt", "b.csv", "c.wav", "d.flac"]))
    content = bytearray(source.read_bytes())
    for _ in range(data.draw(st.integers(1, 8))):
        content[data.draw(st.integers(0, len(content) - 1))] = data.draw(st.integers(0, 255))
    content = content[: data.draw(st.integers(1, len(content)))]
    path = folder / f"mutant{source.suffix}"
    path.write_bytes(bytes(content))
    try:
        for capture in read_captures(path):
            pulses, _ = capture.marks()
            assert np.all(np.isfinite(pulses.durations_us))
            assert np.all(pulses.durations_us >= 0)
    except InputError as error:
        assert "mutant" in str(error)
        assert "\n" not in str(error)


@pytest.mark.parametrize("suffix", [".txt", ".csv", ".vcd", ".wav", ".sigmf-meta"])
def test_every_format_gives_back_what_was_written(tmp_path: Path, rng: np.random.Generator, suffix: str) -> None:
    pulses = pulses_from_signed(record([-30_000.0, *nec(3, 4, 1)], rng, jitter_us=20))
    write_pulses(tmp_path / f"w{suffix}", pulses, (Note(1000.0, 2000.0, "lamp"),))
    (capture,) = read_captures(tmp_path / f"w{suffix}")
    again, _ = capture.marks()
    exact = {".txt": 0.0, ".csv": 1e-6, ".vcd": 0.0011}.get(suffix, 2.0)
    np.testing.assert_allclose(again.durations_us, pulses.durations_us, rtol=0, atol=exact)
    assert again.start_us == pytest.approx(pulses.start_us, abs=max(exact, 1e-6))
    if suffix == ".sigmf-meta":
        assert capture.notes == (Note(1000.0, 2000.0, "lamp"),)


@pytest.mark.parametrize(
    ("meta", "words"),
    [
        ("{}", "global"),
        ('{"global": {"core:datatype": "cu8"}}', "sample_rate"),
        ('{"global": {"core:datatype": "cu9", "core:sample_rate": 1000}}', "cu9"),
        ('{"global": {"core:datatype": "cu8", "core:sample_rate": -4}}', "expected a number above 0"),
        ('{"global": {"core:datatype": "cu8", "core:sample_rate": 1e12}}', "not possible"),
        ('{"global": {"core:datatype": "cu8", "core:sample_rate": 1000, "core:num_channels": 2}}', "several channels"),
        ('{"global": ', "is no JSON document"),
        ("[]", "expected keys and values, got a list"),
    ],
)
def test_a_wrong_description_is_told(tmp_path: Path, meta: str, words: str) -> None:
    (tmp_path / "a.sigmf-meta").write_text(meta)
    (tmp_path / "a.sigmf-data").write_bytes(bytes(4000))
    with pytest.raises(InputError, match=f"(?i){words}") as caught:
        read_captures(tmp_path / "a.sigmf-data")
    assert "a.sigmf" in str(caught.value)


def test_half_a_pair_is_told(tmp_path: Path) -> None:
    (tmp_path / "a.sigmf-data").write_bytes(bytes(400))
    with pytest.raises(InputError, match="description of the recording is missing"):
        read_captures(tmp_path / "a.sigmf-data")
    (tmp_path / "b.sigmf-meta").write_text('{"global": {"core:datatype": "cu8", "core:sample_rate": 1000}}')
    with pytest.raises(InputError, match="other half"):
        read_captures(tmp_path / "b.sigmf-meta")
    (tmp_path / "c.cu8").write_bytes(bytes(400))
    with pytest.raises(InputError, match="--samples and --rate"):
        read_captures(tmp_path / "c.cu8")


@given(st.binary(min_size=1, max_size=3000), st.sampled_from(["cu8", "ci16_le", "cf32_le", "rf32_be", "cf64_le"]))
def test_any_bytes_are_samples_or_refused(data: bytes, datatype: str) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.iq"
        path.write_bytes(data)
        try:
            read_captures(path, ReadOptions(samples=Description(datatype, 250_000)))
        except InputError as error:
            assert str(path) in str(error)
