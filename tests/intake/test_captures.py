"""Files of all kinds, made independently, with impairments: at least 98 % of presses right, none invented."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from eager_tern.casebook.store import Casebook
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library
from tests.files import audio_line, write_audio, write_changes_csv, write_samples_csv, write_text
from tests.handsets import Recording, evening, nec, record
from tests.kept import keep

Writer = Callable[[Path, np.ndarray, np.random.Generator], Path]


def text(style: str) -> Writer:
    def write(folder: Path, signed: np.ndarray, rng: np.random.Generator) -> Path:
        write_text(folder / "t.txt", signed, style)
        return folder / "t.txt"

    return write


def table(folder: Path, signed: np.ndarray, rng: np.random.Generator) -> Path:
    write_changes_csv(folder / "c.csv", signed, "s", int(rng.integers(2)))
    return folder / "c.csv"


def samples(folder: Path, signed: np.ndarray, rng: np.random.Generator) -> Path:
    write_samples_csv(folder / "s.csv", signed, 40_000, 0.1, 3.2)
    return folder / "s.csv"


def sound(rate: int, name: str, **more: float | bool) -> Writer:
    def write(folder: Path, signed: np.ndarray, rng: np.random.Generator) -> Path:
        write_audio(folder / name, audio_line(signed, rate, rng, mark_high=bool(rng.integers(2)), **more), rate)  # type: ignore[arg-type]
        return folder / name

    return write


WRITERS = {
    "signed text": text("signed"),
    "plain text": text("plain"),
    "changes": table,
    "samples": samples,
    "wav 48 kHz": sound(48_000, "a.wav"),
    "wav 44.1 kHz, coupled": sound(44_100, "b.wav", coupling_hz=12.0, noise=0.01),
    "flac 22 kHz": sound(22_050, "c.flac"),
}


def right(recording: Recording, path: Path) -> tuple[int, int]:
    """Presses read right, and presses found at all."""
    (found,) = read_file(path, library())
    read = [(p.lead.best.protocol, p.lead.best.fields, len(p.frames)) for p in found.take.presses if p.lead.best]
    return sum((s.protocol, s.fields, s.frames) in read for s in recording.presses), len(read)


@pytest.mark.parametrize("kind", WRITERS)
def test_presses_are_right_in_every_kind_of_file(tmp_path: Path, rng: np.random.Generator, kind: str) -> None:
    good = sent = 0
    for jitter, excess, clock in ((0, 0, 1.0), (30, 100, 0.9), (30, -100, 1.1), (30, 100, 1.1)):
        recording = evening(rng, 8, jitter_us=jitter, excess_us=excess, clock=clock)
        ok, found = right(recording, WRITERS[kind](tmp_path, np.array(recording.signed), rng))
        good, sent = good + ok, sent + len(recording.presses)
        assert found <= len(recording.presses)
    assert good >= 0.98 * sent


@pytest.mark.parametrize("kind", ["hiss", "hum", "chatter", "clicks"])
def test_noise_holds_no_frames(tmp_path: Path, rng: np.random.Generator, kind: str) -> None:
    rate, size = 48_000, 48_000 * 10
    line = rng.normal(0, 0.01, size)
    if kind == "hum":
        line += 0.2 * np.sin(np.arange(size) / rate * 2 * np.pi * 50)
    elif kind == "clicks":
        line[rng.integers(0, size, 200)] += 0.8
    elif kind == "chatter":
        turns = np.cumsum(rng.exponential(18, 30_000).astype(int) + 3)
        line = np.where(np.searchsorted(turns, np.arange(size)) % 2, 0.7, -0.7) + rng.normal(0, 0.02, size)
    write_audio(tmp_path / "n.wav", line, rate)
    for found in read_file(tmp_path / "n.wav", library()):
        assert found.take.presses == ()


def test_a_recording_that_begins_in_a_frame_keeps_the_others(tmp_path: Path, rng: np.random.Generator) -> None:
    signed = record([*nec(1, 2)[30:], *nec(1, 2, 1), -300_000.0, *nec(1, 3)], rng, jitter_us=20)
    write_text(tmp_path / "t.txt", signed, "signed")
    (found,) = read_file(tmp_path / "t.txt", library())
    codes = [p.lead.best.fields for p in found.take.presses if p.lead.best and p.lead.best.protocol == "nec"]
    assert codes == [{"address": 1, "command": 2}, {"address": 1, "command": 3}]


def test_chatter_is_kept_as_few_strays(tmp_path: Path, rng: np.random.Generator) -> None:
    lamp = [d for _ in range(900) for d in (float(rng.uniform(50, 300)), -30_000.0)]
    write_text(tmp_path / "t.txt", np.array([*lamp, *nec(1, 2), *lamp]), "signed")
    (found,) = read_file(tmp_path / "t.txt", library())
    casebook = Casebook.create(tmp_path / "b.tern")
    keep(casebook, casebook.add_gadget("x"), found)
    assert [press.stray for press in casebook.presses()] == [True, False, True]
    assert len(found.take.noise) == 1800
    casebook.close()


def test_what_is_kept_can_be_read_again(tmp_path: Path, rng: np.random.Generator) -> None:
    recording = evening(rng, 6, jitter_us=20)
    write_text(tmp_path / "t.txt", np.array([*recording.signed, 150.0, -40_000.0]), "signed")
    (found,) = read_file(tmp_path / "t.txt", library())
    casebook = Casebook.create(tmp_path / "b.tern")
    keep(casebook, casebook.add_gadget("x"), found, started_at=500.0)
    presses = [p for p in casebook.presses() if not p.stray]
    assert len(presses) == 6
    assert presses[0].caught_at == pytest.approx(500.0 + presses[0].reading.start_us / 1e6)
    assert sum(p.stray for p in casebook.presses()) == 1
    casebook.close()
    (again,) = read_file(tmp_path / "b.tern", library())
    assert again.capture.format == "casebook"
    assert [p.lead.best.fields for p in again.take.presses if p.lead.best] == [s.fields for s in recording.presses]
