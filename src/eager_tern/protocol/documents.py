"""Frames as HEADLESS.md has them in JSON."""

from __future__ import annotations

from typing import Any

import numpy as np

from eager_tern.linecode.values import bit_text
from eager_tern.protocol.codes import codes_of
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading, serial_words
from eager_tern.signal.values import Floats, Pulses


def frame_document(frame: Frame, press: int, repeat: bool) -> dict[str, Any]:
    """A frame as one of ``frames``."""
    best = frame.best
    document = _stretch(frame.pulses)
    modulation = {"code": "unknown", "unit_us": None, "mark_excess_us": None, "confidence": 0.0}
    if best is not None:
        modulation = {
            "code": best.code,
            "unit_us": round(best.clock.unit_us, 2),
            "mark_excess_us": round(best.clock.excess_us, 2),
            "confidence": round(min(sum(r.confidence for r in frame.readings if r.code == best.code), 0.999), 4),
        }
    if frame.mended:
        document["mended"] = frame.mended
    if best is not None and best.sections:
        document["sections"] = list(best.sections)
    return {
        **document, "press": press, "repeat": repeat, "noise": False, "modulation": modulation,
        "readings": [_reading(reading) for reading in frame.readings],
    }  # fmt: skip


def noise_document(pulses: Pulses) -> dict[str, Any]:
    """A stretch that is no frame."""
    modulation = {"code": "unknown", "unit_us": None, "mark_excess_us": None, "confidence": 0.0}
    return {
        **_stretch(pulses),
        "press": None,
        "repeat": False,
        "noise": True,
        "modulation": modulation,
        "readings": [],
    }


def _stretch(pulses: Pulses) -> dict[str, Any]:
    return {
        "start_us": round(pulses.start_us, 2),
        "duration_us": round(pulses.duration_us, 2),
        "pulses_us": durations_us(pulses.durations_us),
    }


def durations_us(durations: Floats) -> list[float]:
    """Durations to the hundredth of a µs."""
    rounded: list[float] = np.round(durations, 2).tolist()
    return rounded


def _reading(reading: Reading) -> dict[str, Any]:
    codes = codes_of(reading.bits)
    return {
        "protocol": reading.protocol,
        "confidence": round(reading.confidence, 4),
        "bits": bit_text(reading.bits),
        "codes": None if codes is None else {"as_sent": codes.as_sent, "turned": codes.turned},
        **({"sections": list(reading.sections)} if reading.sections else {}),
        "fields": reading.fields,
        **({"framing": serial_words(reading)} if reading.framing is not None else {}),
        "checks": [{"name": check.name, "ok": check.ok} for check in reading.checks],
        **({"beyond_seen": list(reading.beyond)} if reading.beyond else {}),
    }
