"""What a sheet makes, it reads: with any values, at any clock it tolerates."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.errors import InputError
from eager_tern.protocol.loading import library, library_sheet, parse_sheet
from eager_tern.protocol.making import make_bits, make_frame, press_frames
from eager_tern.protocol.reading import read_frame
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import Pulses, pulses_from_signed
from tests.handsets import join, nec, rc5, sony
from tests.protocol.test_sheets import SHEET

SECTIONS = """\
id = "two-sections"
name = "Two sections with a gap"
unit_us = 430
zero = [1, -1]
one = [1, -3]

[press]
first = "state"
held = "state"
gap_us = 60000

[[frames]]
name = "state"
parts = [
  { pulses = [8, -4] }, { bits = 24 }, { pulses = [1] },
  { gap_us = 9000 },
  { pulses = [8, -4] }, { bits = 16 }, { pulses = [1] },
]

[[fields]]
name = "setting"
bits = "25, 24, 3-0"

[[checks]]
name = "sum"
kind = "sum"
at = "39-32"
covers = [[0, 31]]
"""

DOUBLE = """\
id = "double-bit"
name = "Bi-phase with a leader and one bit of double width"
unit_us = 444
zero = [-1, 1]
one = [1, -1]

[press]
first = "full"
held = "full"
gap_us = 80000

[[frames]]
name = "full"
parts = [{ pulses = [6, -2] }, { bits = 4 }, { bits = 1, stretch = 2 }, { bits = 8 }]

[[fields]]
name = "mode"
bits = "1-3"

[[fields]]
name = "turn"
bits = "4"
role = "toggle"

[[fields]]
name = "command"
bits = "5-12"

[[checks]]
name = "start"
kind = "constant"
at = "0"
value = 1
"""

OTHERS = tuple(parse_sheet(text, "test") for text in (SHEET, SECTIONS, DOUBLE))
ALL = (*library(), *OTHERS)


@given(st.sampled_from(ALL), st.data(), st.floats(0.85, 1.15), st.floats(-0.2, 0.2), st.integers(0, 2**32 - 1))
def test_reading_and_making_are_inverse(
    sheet: Sheet, data: st.DataObject, clock: float, excess: float, seed: int
) -> None:
    values = {}
    for field in sheet.fields:
        bits = np.zeros(sheet.bit_count, np.uint8)
        field.bits.write(bits, data.draw(st.integers(0, (1 << field.bits.width) - 1), field.name))
        values[field.name] = field.read(bits)
    if sheet.id == "kaseikyo":  # the low nibble of the device is the vendor's parity
        vendor = values["vendor"]
        values["device"] = values["device"] & 0xF0 | (vendor ^ vendor >> 4 ^ vendor >> 8 ^ vendor >> 12) & 15
    made = make_frame(sheet, values)
    edges = made.pulses.edge_times_us * clock
    edges += np.random.default_rng(seed).normal(0, 0.03 * sheet.unit_us, edges.size)
    edges[1::2] += excess * sheet.unit_us
    readings = read_frame(Pulses(np.diff(edges)), (sheet,))
    assert readings
    assert readings[0].protocol == sheet.id
    assert {name: readings[0].fields[name] for name in values} == values
    assert np.array_equal(readings[0].bits, made.bits)
    assert readings[0].checks_hold
    assert readings[0].clock.unit_us == pytest.approx(sheet.unit_us * clock, rel=0.02)


@pytest.mark.parametrize(
    ("sheet_id", "values", "published"),
    [
        ("nec", {"address": 0x5B, "command": 0x16}, nec(0x5B, 0x16)),
        ("nec-ext", {"address": 0x1234, "command": 0xFE}, nec(0x1234, 0xFE, extended=True)),
        ("sirc12", {"command": 21, "address": 1}, sony(21, 1, 1)),
        ("rc5", {"toggle": 1, "address": 5, "command": 53}, rc5(5, 53, 1)),
        ("rc5", {"toggle": 0, "address": 31, "command": 64 + 10}, rc5(31, 74, 0)),
    ],
)
def test_frames_are_as_published(sheet_id: str, values: dict[str, int], published: list[float]) -> None:
    sheet = library_sheet(sheet_id)
    assert sheet is not None
    wanted = pulses_from_signed(np.array(published)).durations_us
    np.testing.assert_allclose(make_frame(sheet, values).pulses.durations_us, wanted)


@pytest.mark.parametrize("sheet", ALL, ids=lambda sheet: sheet.id)
def test_a_press_is_sent_in_the_sheets_rhythm(sheet: Sheet) -> None:
    frames = press_frames(sheet, {}, 4)
    assert len(frames) == max(4, sheet.press.count * len(sheet.press.first))
    for frame in frames:
        assert frame[0] > 0 > frame[-1]
        if sheet.press.period_us is not None:
            assert np.abs(frame).sum() == pytest.approx(sheet.press.period_us, abs=sheet.unit_us)
    take = read_pulses(pulses_from_signed(np.array(join([d for frame in frames for d in frame]))), ALL)
    assert len(take.presses) >= 1
    assert len(take.presses) == 1
    assert len(take.presses[0].frames) == len(frames)
    best = take.presses[0].lead.best
    assert best is not None
    assert best.sheet is not None
    assert best.sheet.family == sheet.family  # an address of 0 may be another variant's


def test_unknown_names_and_values_out_of_range_are_refused() -> None:
    sheet = library_sheet("sirc12")
    assert sheet is not None
    with pytest.raises(InputError, match=r'no field "volume"; it has command, address'):
        make_bits(sheet, {"volume": 1})
    with pytest.raises(InputError, match=r"command = 128 is outside 0 to 127"):
        make_bits(sheet, {"command": 128})
    with pytest.raises(InputError, match=r"address = -1 is outside 0 to 31"):
        make_bits(sheet, {"address": -1})


def test_what_is_not_given_takes_its_default() -> None:
    sheet = library_sheet("rc5")
    assert sheet is not None
    assert make_bits(sheet, {}).tolist() == [1, 1] + [0] * 12
