"""Gadgets of the kinds that were once misread, each built as its maker would: read right, and described by a sheet."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from eager_tern.protocol.describing import describe
from eager_tern.protocol.loading import library, parse_sheet
from eager_tern.protocol.take import TakeRead, read_pulses
from eager_tern.signal.values import Pulses, pulses_from_signed
from tests.handsets import distance_frame, msb_first, nec_frame, record

Press = tuple[list[float], list[int]]  # signed durations of all its frames, and the bits
BETWEEN_US = -700_000.0


def halves(bits: list[int], half: float) -> list[float]:
    """Bi-phase, mark then space for 1."""
    return [part for bit in bits for part in ((half, -half) if bit else (-half, half))]


def bi_phase_behind_a_long_leader(rng: np.random.Generator) -> Press:
    """Its leader's space is as long as two half bits, and the first bit begins behind it."""
    bits = [1, *msb_first(int(rng.integers(1 << 23)), 23)]
    return [*([2700.0, -900.0, *halves(bits, 450.0), -40_000.0] * 2)], bits


def bi_phase_that_joins_seldom(_rng: np.random.Generator) -> Press:
    """All but three of its pulses are single half bits."""
    bits = [0, 0, 1, *[1] * 7, *[0] * 5, 1, 1, 1]
    return [*halves(bits, 500.0), -60_000.0, *halves(bits, 500.0)], bits


def bits_of_its_own_with_a_usual_repeat_code(rng: np.random.Generator) -> Press:
    """A light strip's handset: the chip of a common protocol, two bytes of its own, the chip's repeat code."""
    bits = msb_first(0xF70000 | int(rng.integers(1 << 16)), 24)
    repeat = [-40_000.0, 9000.0, -2250.0, 562.5]
    return [*nec_frame(bits), *repeat, *repeat], bits


def a_wake_up_shorter_than_the_repeats_leader(rng: np.random.Generator) -> Press:
    """A blind's handset: two pulses that wake the motor, in the repeat seven of them."""
    bits = msb_first(0xA7 << 32 | int(rng.integers(1 << 32)), 40)
    frame = [4550.0, -640.0, *halves(bits, 640.0)]
    return [*([2560.0, -2560.0] * 2), *frame, -30_000.0, *([2560.0, -2560.0] * 7), *frame], bits


def short_flashes(rng: np.random.Generator) -> Press:
    """Single flashes, far apart, to spare the battery: the mark is no tenth of a space."""
    bits = msb_first(0b101 << 6 | int(rng.integers(64)), 9)
    frame = distance_frame([], 160.0, (31.25, 46.875), bits)
    return [*frame, -45_000.0, *frame], bits


MAKERS: list[Callable[[np.random.Generator], Press]] = [
    bi_phase_behind_a_long_leader,
    bi_phase_that_joins_seldom,
    bits_of_its_own_with_a_usual_repeat_code,
    a_wake_up_shorter_than_the_repeats_leader,
    short_flashes,
]


def a_take(rng: np.random.Generator, presses: list[list[float]], hard: bool) -> Pulses:
    signed = [part for press in presses for part in (*press, BETWEEN_US)]
    clock, excess, jitter = (float(rng.uniform(0.92, 1.08)), float(rng.uniform(-60, 60)), 40.0) if hard else (1, 0, 10)
    return pulses_from_signed(record(signed, rng, jitter_us=jitter, excess_us=excess, clock=clock))


def leads(take: TakeRead) -> list[tuple[str, list[int]]]:
    return [(press.lead.reading.protocol, press.lead.reading.bits.tolist()) for press in take.presses]


@pytest.mark.parametrize("hard", [False, True])
@pytest.mark.parametrize("maker", MAKERS)
def test_each_press_is_read_and_a_sheet_of_them_reads_them(
    rng: np.random.Generator, maker: Callable[[np.random.Generator], Press], hard: bool
) -> None:
    sent = [maker(rng) for _ in range(4)]
    pulses = a_take(rng, [signed for signed, _ in sent], hard and maker is not short_flashes)
    take = read_pulses(pulses, library())
    assert leads(take) == [("unknown", bits) for _, bits in sent]
    draft = describe(take.frames, "Gadget")
    assert draft is not None
    again = read_pulses(pulses, (parse_sheet(draft.text, "test"), *library()))
    assert leads(again) == [("gadget", bits) for _, bits in sent]
    assert [len(press.frames) for press in again.presses] == [len(press.frames) for press in take.presses]


def test_no_receiver_adds_half_a_millisecond_to_a_flash(rng: np.random.Generator) -> None:
    take = read_pulses(a_take(rng, [short_flashes(rng)[0]], False), library())
    clock = take.frames[0].reading.clock
    assert abs(clock.excess_us) < 20
    assert clock.unit_us == pytest.approx(160, abs=10)


@pytest.mark.parametrize("spaces", [(1, 2, 4), (1, 2, 5), (1, 3, 9), (1, 2, 4, 8)])
def test_symbols_need_not_be_evenly_apart(rng: np.random.Generator, spaces: tuple[int, ...]) -> None:
    unit = 250.0 if max(spaces) > 5 else 400.0
    symbols = np.concatenate([np.tile(np.arange(len(spaces)), 3), rng.integers(0, len(spaces), 14)])
    frame = distance_frame([16 * unit, -8 * unit], unit, spaces, symbols.tolist())  # type: ignore[arg-type]
    take = read_pulses(a_take(rng, [frame, frame], False), library())
    width = (len(spaces) - 1).bit_length()
    bits = [bit for symbol in symbols.tolist() for bit in msb_first(symbol, width)]
    assert leads(take)[0] == ("unknown", bits)
    assert take.frames[0].reading.symbols == len(spaces)


def test_marks_that_only_jitter_are_no_symbols(rng: np.random.Generator) -> None:
    """Three levels of spaces, of which the longest is seldom: the marks' jitter is no fourth explanation."""
    for _ in range(12):
        spaces = rng.choice(3, 20, p=[0.5, 0.3, 0.2])
        frame = distance_frame([6400.0, -3200.0], 400.0, (1, 2, 3), spaces.tolist())  # type: ignore[arg-type]
        for each in read_pulses(a_take(rng, [frame], True), library()).frames:
            assert each.reading.code != "pulse-width"


def test_a_symbol_is_measured_on_all_frames(rng: np.random.Generator) -> None:
    """One frame's jitter would leave lengths in the sheet that add up, from edge to edge, to what the code is not."""
    for _ in range(6):
        presses = []
        for _press in range(3):
            bits = [*[1] * 6, *msb_first(int(rng.integers(1 << 12)), 12), *[1] * 22]
            frame = distance_frame([], 500.0, (2, 4), bits)
            presses.append([*([*frame, -3900.0] * 6), *frame])
        take = read_pulses(a_take(rng, presses, True), library())
        draft = describe(take.frames, "Gadget")
        assert draft is not None
        short, long = (symbol[1] / symbol[0] for symbol in draft.sheet.alphabet)
        assert abs(long / short - 2) < 0.02
