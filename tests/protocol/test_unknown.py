"""Handsets that no sheet describes: sections, and sheets begun from the evidence."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.describing import describe
from eager_tern.protocol.loading import library, parse_sheet
from eager_tern.protocol.take import TakeRead, read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import distance_frame, record


def long_frame(
    rng: np.random.Generator, sections: int, unit: float, leader: tuple[float, ...], spaces: tuple[float, float]
) -> tuple[list[float], list[int]]:
    """A frame as air conditioners send it, and its bits."""
    signed: list[float] = []
    bits: list[int] = []
    for _ in range(sections):
        own = rng.integers(0, 2, 8 * int(rng.integers(5, 14))).tolist()
        signed += [*distance_frame([part * unit for part in leader], unit, spaces, own), -float(rng.uniform(8e3, 3e4))]
        bits += own
    return signed[:-1], bits


def read(signed: list[float], rng: np.random.Generator, sheets: tuple = ()) -> TakeRead:
    noisy = record(signed, rng, jitter_us=25, excess_us=float(rng.uniform(-70, 70)))
    return read_pulses(pulses_from_signed(noisy), (*sheets, *library()))


@pytest.mark.parametrize("sections", [1, 2, 3])
@pytest.mark.parametrize("repeats", [1, 2])
def test_sections_are_one_frame_and_repeats_are_repeats(rng: np.random.Generator, sections: int, repeats: int) -> None:
    right = 0
    for _ in range(8):
        frame, bits = long_frame(rng, sections, float(rng.uniform(380, 600)), (8, -4), (1, 3))
        press = [*frame, -36_000.0] * repeats
        take = read([-3e5, *press[:-1], -4e5, *press[:-1], -4e5], rng)
        right += len(take.presses) == 2 and all(
            p.lead.best is not None and p.lead.best.bits.tolist() == bits and len(p.frames) == repeats
            for p in take.presses
        )
        if sections > 1 and len(take.presses) == 2 and take.presses[0].lead.best is not None:
            assert sum(take.presses[0].lead.best.sections) == len(bits)
    assert right >= 7


@pytest.mark.parametrize("leader", [(8, -4), (16, -8), ()])
@pytest.mark.parametrize("spaces", [(1, 3), (1, 2), (2, 4)])
def test_a_sheet_begun_from_the_evidence_reads_what_it_was_begun_from(
    rng: np.random.Generator, leader: tuple[float, ...], spaces: tuple[float, float]
) -> None:
    right = 0
    for sections in (1, 1, 2, 2, 3):
        unit = float(rng.uniform(380, 600))
        frame, bits = long_frame(rng, sections, unit, leader, spaces)
        press = [*frame, -4e5]
        text = describe(read([-3e5, *press, *press], rng).frames, "Climate cabinet")
        if text is None:
            continue
        sheet = parse_sheet(text, "test")
        assert sheet.id == "climate-cabinet"
        again = read([-3e5, *press], rng, (sheet,)).presses[0].lead.best
        right += again is not None and again.protocol == sheet.id and again.bits.tolist() == bits
    assert right >= 4


def test_nothing_is_described_where_nothing_is_clear() -> None:
    assert describe([], "x") is None
