"""What people paste: lists, numbered lines, prefixes, prose around."""

from __future__ import annotations

import json
from collections.abc import Callable

import numpy as np
import pytest

from eager_tern.formats.timing_text import parse, parse_noted
from tests.handsets import join, nec

FRAME = [round(abs(d)) for d in join(nec(0x10, 0x45))[:-1].tolist()]
SIGNED = [d if at % 2 == 0 else -d for at, d in enumerate(FRAME)]
ROWS = [FRAME[i : i + 2] for i in range(0, len(FRAME), 2)]

PASTED: dict[str, Callable[[], str]] = {
    "json list": lambda: json.dumps(FRAME),
    "signed json": lambda: json.dumps(SIGNED),
    "json object": lambda: json.dumps({"name": "power", "frequency": 38000, "timings": FRAME}, indent=1),
    "prose around": lambda: f"hey, I got this (power button):\n{FRAME}\nany idea?\n",
    "numbered lines": lambda: "\n".join(f"{1 + i // 9}: {str(FRAME[i:i + 9])[1:-1]}," for i in range(0, 67, 9)),
    "indexed": lambda: "\n".join(f"[{i}] = {d};" for i, d in enumerate(FRAME)),
    "named and indexed": lambda: "\n".join(f"raw[{i}] = {d};" for i, d in enumerate(FRAME)),
    "columns": lambda: "\n".join(f"{n:3} " + " ".join(f"{d:7}" for d in row) for n, row in enumerate(ROWS)),
    "words in a row": lambda: " ".join(f"{('pulse', 'space')[i % 2]} {d}" for i, d in enumerate([*FRAME, 40000])),
    "chat": lambda: "\n".join(f"12:31 <bob> {' '.join(f'{d:+}' for d in SIGNED[i:i + 20])}" for i in range(0, 67, 20)),
    "a shell": lambda: "me@bench:~$ " + " ".join(f"{d:+}" for d in SIGNED),
}  # fmt: skip


@pytest.mark.parametrize("style", PASTED)
def test_the_durations_are_found(style: str) -> None:
    assert np.abs(parse(PASTED[style]()).durations_us[:67]).tolist() == FRAME


def test_a_carrier_that_is_named_is_kept() -> None:
    assert parse(PASTED["json object"]()).carrier_hz == 38000


def test_lists_of_lists_are_several_presses() -> None:
    pulses = parse(json.dumps([FRAME, FRAME]))
    assert pulses.durations_us.size == 135
    assert pulses.durations_us[67] >= 1e6


def test_an_ellipsis_is_said() -> None:
    _, _, warnings = parse_noted("9034, 4464, 630, 501, 623 ...\n", "x")
    assert any("ellipsis" in words for words in warnings)
