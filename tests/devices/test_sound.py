"""Sound inputs: a recording played as a source, and a stand-in for the sound card's package."""

from __future__ import annotations

from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
import soundfile

from eager_tern.casebook.store import Casebook
from eager_tern.devices import sound
from eager_tern.devices.live import live_devices, open_live
from eager_tern.devices.sound import SoundInput
from eager_tern.errors import InputError
from eager_tern.intake.recording import keep_recording
from eager_tern.protocol.loading import library
from tests.handsets import nec, record
from tests.signal.test_following import RATE, line


def test_a_recording_is_played_as_if_it_came_in_now(tmp_path: Path, rng: np.random.Generator) -> None:
    keys = [1, 77, 200]
    presses = [record([*nec(4, key), -300_000.0], rng, jitter_us=20) for key in keys]
    soundfile.write(str(tmp_path / "a.wav"), line(np.concatenate(([-250_000.0], *presses)), rng), RATE)
    source = SoundInput.open(f"play:{tmp_path / 'a.wav'}", speed=100)
    casebook = Casebook.create(tmp_path / "c.tern")
    levels, heard = [], []
    with pytest.raises(InputError, match="to its end"):
        while True:
            received = source.poll()
            levels.append(received.level)
            heard += received.durations
    source.close()
    keep_recording(casebook, casebook.add_gadget("x"), "sound", np.concatenate(heard), library(), 0.0)
    assert [p.reading.fields for p in casebook.presses() if not p.stray] == [{"address": 4, "command": k} for k in keys]
    assert max(levels) == pytest.approx(0.62, abs=0.03)
    casebook.close()


class Card:
    """What the package gives for an open input."""

    def __init__(self, samples: np.ndarray) -> None:
        self._samples, self._at = samples, 0

    def start(self) -> None: ...

    def close(self) -> None: ...

    def read(self, size: int) -> tuple[np.ndarray, bool]:
        if self._at >= self._samples.size:
            raise RuntimeError("gone")
        part = self._samples[self._at : self._at + size]
        self._at += size
        return part[:, None], self._at > 3 * size


def test_a_sound_card_is_listened_to(monkeypatch: pytest.MonkeyPatch, rng: np.random.Generator) -> None:
    loud = np.clip(rng.normal(0, 0.9, 4 * RATE), -1, 1).astype(np.float32)
    asked: list[Any] = []

    def stream(*given: Any, **named: Any) -> Card:
        asked.append(given)
        if given[2] == "Busy":
            raise RuntimeError("Device unavailable [PaErrorCode -9985]")
        return Card(loud[: 40 * given[1]])

    found = [{"name": "Front mic", "max_input_channels": 2}, {"name": "Speaker", "max_input_channels": 0}]
    package = SimpleNamespace(query_devices=lambda: found, InputStream=stream, PortAudioError=RuntimeError)
    monkeypatch.setattr(sound, "sounddevice_if_there", lambda: package)
    (port,) = [port for port in live_devices() if port.device.startswith("sound:")]
    assert port.device == "sound:Front mic"
    source = open_live(port.device)
    first = source.poll()
    assert "clips" in first.news
    assert first.level == 1.0
    assert source.poll().news == ""  # once is enough
    assert "lost samples" in " ".join(source.poll().news for _ in range(4))
    with pytest.raises(InputError, match="disappeared"):
        while True:
            source.poll()
    source.close()
    with pytest.raises(InputError, match=r"\(Device unavailable\)"):
        open_live("sound:Busy")
    monkeypatch.setattr(sound, "sounddevice_if_there", lambda: None)
    assert sound.sound_inputs() == []
    with pytest.raises(InputError, match="sounddevice"):
        open_live("sound:Front mic")


def test_what_is_no_recording_is_not_played(tmp_path: Path) -> None:
    (tmp_path / "a.wav").write_bytes(b"no audio")
    with pytest.raises(InputError, match=r"a\.wav"):
        SoundInput.open(f"play:{tmp_path / 'a.wav'}")
