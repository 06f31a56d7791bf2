"""Frames read again where they are looked at."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.values import press_reading
from eager_tern.protocol.loading import library
from eager_tern.session.frames import Frames
from tests.protocol.test_as_they_are import heard, levels, packet


def test_bits_as_they_are_are_shown_as_they_were_kept(tmp_path: Path) -> None:
    """That the packets begin alike shows what they are; looked at by itself, a frame must not say less."""
    rng = np.random.default_rng(4)
    take = heard(rng, [levels(packet(rng)) for _ in range(3)], 420.0)
    casebook = Casebook.create(tmp_path / "mast.tern")
    number = casebook.add_take(casebook.add_gadget("Mast sensor"), "mast.txt", "timing-text")
    pulses = take.pulses
    signs = np.where(np.arange(pulses.durations_us.size) % 2 == 0, 1.0, -1.0)
    casebook.append_durations(number, signs * pulses.durations_us)
    for press in take.presses:
        casebook.put_press(number, press_reading(press))
    frames = Frames(casebook, library)
    for kept, press in zip(casebook.presses(), take.presses, strict=True):
        for shown, read in zip(frames.all_of(kept), press.frames, strict=True):
            assert shown.reading.code == "unknown"
            assert shown.reading.bits.tolist() == read.reading.bits.tolist()
            assert shown.reading.confidence == read.reading.confidence
    casebook.close()
