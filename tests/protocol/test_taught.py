"""Frames that teach one another: what is clear in a take says what the rest of it is."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.linecode.closeness import CLEAN
from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.take import read_pulses
from eager_tern.protocol.taught import FEWEST_UNEVEN, read_as_taught, taught_by
from eager_tern.signal.values import Pulses, pulses_from_signed
from tests.handsets import distance_frame, record, serial
from tests.strangers import CODES, SILENCE_US, a_stranger, take_of

SILENCE = -250_000.0


@pytest.mark.parametrize("sections", [1, 2])
@pytest.mark.parametrize("code", CODES)
def test_a_frame_says_the_same_alone_as_among_many(rng: np.random.Generator, code: str, sections: int) -> None:
    stranger = a_stranger(rng, code, "mark-space", sections)
    signed, sent = take_of(rng, stranger, 30)
    noisy = record(signed, rng, jitter_us=25, excess_us=40)
    take = read_pulses(pulses_from_signed(noisy), library())
    assert [press.lead.reading.bits.tolist() for press in take.presses] == [each.bits for each in sent]
    for press in take.presses[::6]:
        lead = press.lead
        among = lead.reading
        few = [-SILENCE_US, *(d for d in noisy_part(take.pulses, press.frames)), -SILENCE_US]
        (alone,) = read_pulses(pulses_from_signed(np.array(few)), library()).presses
        by_itself = alone.lead.reading
        assert (among.code, among.sections, among.gaps) == (by_itself.code, by_itself.sections, by_itself.gaps)
        assert among.bits.tolist() == by_itself.bits.tolist()
        assert among.clock.unit_us == pytest.approx(by_itself.clock.unit_us, rel=0.02)
        leaders = [int(np.argmin(np.isnan(r.expected_us))) for r in (among, by_itself)]
        assert leaders[0] == leaders[1]


def noisy_part(pulses: Pulses, frames: tuple[Frame, ...]) -> np.ndarray:
    """The signed durations from the first of some frames to the last."""
    part = pulses.durations_us[frames[0].first : frames[-1].last + 1].copy()
    part[1::2] *= -1
    return part


def test_characters_of_several_speeds_teach_their_own(rng: np.random.Generator) -> None:
    sent = [(float(rng.choice([600, 1200])), rng.integers(0, 256, 7).tolist()) for _ in range(40)]
    signed = record([d for baud, data in sent for d in (*serial(data, baud), SILENCE)], rng, jitter_us=20)
    take = read_pulses(pulses_from_signed(signed), library())
    assert [frame.reading.fields["bytes"] for frame in take.frames] == [tuple(data) for _, data in sent]


def test_what_only_has_as_many_pulses_is_no_more_of_the_frames(rng: np.random.Generator) -> None:
    rows = [distance_frame([3100.0, -1550.0], 410.0, (1, 3), bits.tolist()) for bits in rng.integers(0, 2, (4, 28))]
    signed = np.array([d for row in rows for d in (*row, SILENCE)])
    taught = taught_by(read_pulses(pulses_from_signed(signed), library()).frames)
    size = read_pulses(pulses_from_signed(signed), library()).frames[0].pulses.durations_us.size
    others = [Pulses(rng.uniform(300, 1800, size)) for _ in range(200)]
    assert taught
    assert not any(read_as_taught(others, taught))


def wide(bits: list[int], long: float = 2.7) -> list[float]:
    """Pulse width of a fixed period behind a long mark."""
    return [3170.0, -430.0, *(d for b in bits for d in (430 * (long if b else 1), -430 * (1 if b else long)))]


def test_a_frame_with_one_long_pulse_is_read_as_its_neighbours_are(rng: np.random.Generator) -> None:
    said = [[0, 1, *[0] * 12, last, 0] for last in (1, 1, 0, 1)]  # the third by itself would pass for characters
    signed = record([d for bits in said for d in (*wide(bits)[:-1], SILENCE)], rng, jitter_us=6)
    take = read_pulses(pulses_from_signed(signed), library())
    assert [frame.reading.bits.tolist() for frame in take.frames] == said
    assert {frame.reading.code for frame in take.frames} == {"pulse-width"}


def test_frames_that_jitter_made_uneven_teach_too(rng: np.random.Generator) -> None:
    stranger = a_stranger(np.random.default_rng([77, 1]), "pulse-width", "mark-space")
    signed, sent = take_of(rng, stranger, 30)
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=0.14 * stranger.unit_us)), library())
    frames = [frame for frame in take.frames if frame.reading.bits.size]
    assert np.median([frame.reading.clock.rms_us / frame.reading.clock.unit_us for frame in frames]) > CLEAN
    taught = taught_by(frames[:FEWEST_UNEVEN])
    assert [sheet.bit_count for sheet in taught.uneven] == [len(sent[0].bits)]
    assert not taught.sheets
    assert not taught_by(frames[: FEWEST_UNEVEN - 1]).uneven
    read = read_as_taught([frame.pulses for frame in frames], taught)
    assert sum(map(bool, read)) > 0.9 * len(frames)
    size = frames[0].pulses.durations_us.size
    assert not any(read_as_taught([Pulses(rng.uniform(200, 1500, size)) for _ in range(200)], taught))


DIGITS = {
    "pulse-width": (325.0, ((1, -3), (2, -2), (3, -1)), (),
        ("10001202120112200012", "10001201120212000112", "10100201110112010122", "10201222010202200012",
         "10002202200012000112")),
    "pulse-distance": (496.0, ((1, -1), (1, -2), (1, -3)), (1.0,),
        ("2212002112120001", "0202102210201101", "0002101110110001", "0201102100121001", "1212102110221011")),
}  # fmt: skip


@pytest.mark.parametrize("code", DIGITS)
def test_digits_of_three_symbols_are_no_characters_where_their_neighbours_show_it(
    rng: np.random.Generator, code: str
) -> None:
    """Lengths of one to three units are a grid of characters, too; by itself one of the presses would pass for some,
    which end before its last mark.
    """
    unit, symbols, end, said = DIGITS[code]
    digits = [[int(digit) for digit in word] for word in said]
    signed = []
    for word in digits:
        frame = [1.0, -1.0] * 12 + [4.0, -4.0] + [length for digit in word for length in symbols[digit]]
        frame = [*frame, *end] if end else frame[:-1]
        signed += [*(length * unit for length in ([*frame, -60.0] * 4)[:-1]), SILENCE]
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=6)), library())
    assert {frame.reading.code for frame in take.frames} == {code}
    bits = [[bit for digit in word for bit in (digit >> 1, digit & 1)] for word in digits]
    assert [press.lead.reading.bits.tolist() for press in take.presses] == bits
