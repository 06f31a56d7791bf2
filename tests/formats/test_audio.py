"""WAV and FLAC."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from eager_tern.errors import InputError
from eager_tern.formats import audio
from eager_tern.signal.values import pulses_from_signed
from tests.files import audio_line, write_audio
from tests.handsets import IDLE_US, nec, rc5, record


@pytest.fixture
def signed(rng: np.random.Generator) -> np.ndarray:
    return record([-IDLE_US, *nec(0x5B, 0x16, 1), -IDLE_US], rng, jitter_us=15)


@pytest.mark.parametrize(
    ("suffix", "subtype"),
    [("wav", "PCM_16"), ("wav", "PCM_24"), ("wav", "PCM_32"), ("wav", "FLOAT"), ("wav", "DOUBLE"), ("wav", "PCM_U8"),
     ("wav", "ALAW"), ("wav", "ULAW"), ("flac", "PCM_16"), ("flac", "PCM_24")],
)  # fmt: skip
def test_every_kind_of_sample_is_read(
    tmp_path: Path, rng: np.random.Generator, signed: np.ndarray, suffix: str, subtype: str
) -> None:
    path = tmp_path / f"a.{suffix}"
    write_audio(path, audio_line(signed, 44_100, rng, mark_high=False), 44_100, subtype)
    (capture,) = audio.read(path)
    pulses, polarity = capture.marks()
    assert polarity == "mark-low"
    assert capture.sample_rate_hz == 44_100
    assert pulses.durations_us.size == signed.size - 2
    assert np.abs(pulses.durations_us - np.abs(signed[1:-1])).max() < 12


def test_only_channels_with_a_signal_are_takes(tmp_path: Path, rng: np.random.Generator, signed: np.ndarray) -> None:
    line = audio_line(signed, 48_000, rng)
    silence = rng.normal(0, 0.002, line.size)
    write_audio(tmp_path / "s.wav", np.column_stack((silence, line, silence)), 48_000)
    captures = audio.read(tmp_path / "s.wav")
    assert [c.channel for c in captures] == [1]
    write_audio(tmp_path / "n.wav", np.column_stack((silence, silence)), 48_000)
    assert [c.channel for c in audio.read(tmp_path / "n.wav")] == [0]


def test_a_file_cut_short_is_read_as_far_as_it_goes(
    tmp_path: Path, rng: np.random.Generator, signed: np.ndarray
) -> None:
    line = audio_line(np.concatenate((signed, signed)), 48_000, rng)
    write_audio(tmp_path / "w.wav", line, 48_000)
    whole = (tmp_path / "w.wav").read_bytes()
    cut = tmp_path / "cut.wav"
    cut.write_bytes(whole[: len(whole) * 6 // 10])
    (capture,) = audio.read(cut)
    assert "cut short" in capture.warnings[0]
    assert capture.marks()[0].durations_us.size >= signed.size - 2


def test_a_flac_cut_short_is_read_as_far_as_it_goes(
    tmp_path: Path, rng: np.random.Generator, signed: np.ndarray
) -> None:
    write_audio(tmp_path / "w.flac", audio_line(np.concatenate((signed, signed)), 48_000, rng), 48_000)
    whole = (tmp_path / "w.flac").read_bytes()
    cut = tmp_path / "cut.flac"
    cut.write_bytes(whole[: len(whole) * 7 // 10])
    (capture,) = audio.read(cut)
    assert capture.warnings
    assert capture.marks()[0].durations_us.size > 40


@pytest.mark.parametrize("size", [0, 12, 30, 44])
def test_a_header_alone_is_refused(tmp_path: Path, size: int) -> None:
    soundfile.write(tmp_path / "w.wav", np.zeros(100), 48_000)
    path = tmp_path / "h.wav"
    path.write_bytes((tmp_path / "w.wav").read_bytes()[:size])
    with pytest.raises(InputError, match=r"h\.wav"):
        audio.read(path)


def test_what_is_written_is_read_back(tmp_path: Path, signed: np.ndarray) -> None:
    pulses = pulses_from_signed(signed)
    for name in ("w.wav", "w.flac"):
        audio.write(tmp_path / name, pulses)
        again, polarity = audio.read(tmp_path / name)[0].marks()
        assert polarity == "mark-high"
        np.testing.assert_allclose(again.durations_us, pulses.durations_us, atol=0.2)
        assert again.start_us == pytest.approx(pulses.start_us, abs=0.5)


@pytest.mark.parametrize("seed", range(4))
def test_a_line_sampled_fast_is_no_carrier_in_noise(tmp_path: Path, seed: int) -> None:
    rng = np.random.default_rng(seed)
    signed = np.concatenate(([-250_000.0], record(rc5(29, 48, 0, 1), rng, jitter_us=10), [-300_000.0]))
    line = audio_line(signed, 192_000, rng, mark_high=False, amplitude=0.05, noise=0.002, coupling_hz=120)
    soundfile.write(tmp_path / "fast.wav", line, 192_000)
    (capture,) = audio.read(tmp_path / "fast.wav")
    assert capture.edges is not None
    assert capture.edges.times_us.size in (21, 22, 23)
