"""Files that other people's programs wrote."""

from __future__ import annotations

from pathlib import Path

import pytest

from eager_tern.errors import InputError
from eager_tern.formats.capture import ReadOptions
from eager_tern.intake.files import read_file
from eager_tern.protocol.loading import library

OTHERS = Path(__file__).parents[1] / "others"


def test_a_simulators_dump() -> None:
    (take,) = read_file(OTHERS / "shutter.vcd", library())
    assert take.capture.channel_name == "bench.pulled"
    fields = [press.lead.best.fields for press in take.take.presses if press.lead.best is not None]
    assert fields == [{"address": 0x5B, "command": 0x16}, {"address": 0x5B, "command": 0x40}]
    driven = read_file(OTHERS / "shutter.vcd", library(), ReadOptions(channel=42))
    assert driven[0].capture.channel_name == "bench.line"
    assert [p.lead.best.fields for p in driven[0].take.presses if p.lead.best is not None] == fields


@pytest.mark.parametrize("name", ["lamp.flac", "lamp-24.wav", "lamp-alaw.wav", "lamp.aiff"])
def test_an_audio_converters_files(name: str) -> None:
    (take,) = read_file(OTHERS / name, library())
    first, second = (press.lead.best for press in take.take.presses)
    assert first is not None
    assert second is not None
    assert (first.fields, second.fields) == ({"address": 33, "command": 53}, {"command": 50, "address": 21})
    assert [len(press.frames) for press in take.take.presses] == [2, 3]


@pytest.mark.parametrize("path", sorted(OTHERS.glob("*.*")), ids=lambda path: path.name)
@pytest.mark.parametrize("seed", range(6))
def test_a_mutated_file_is_read_or_refused(tmp_path: Path, path: Path, seed: int) -> None:
    import numpy as np

    rng = np.random.default_rng(seed)
    data = bytearray(path.read_bytes())
    for at in rng.integers(0, min(len(data), 4000 if seed % 2 else len(data)), 12).tolist():
        data[at] = int(rng.integers(0, 256))
    if seed > 3:
        data = data[: int(rng.integers(1, len(data)))]
    bad = tmp_path / path.name
    bad.write_bytes(bytes(data))
    try:
        read_file(bad, library())
    except InputError as error:
        assert str(bad) in str(error)
