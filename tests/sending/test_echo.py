"""What came back, held against what was meant."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.sending.echo import Echo, Meant, echoes
from eager_tern.sending.wording import echo_in_words
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import nec, record
from tests.sending.echoing import Frame, at_worst, returned


def meant(frames: list[Frame], bits: list[int], start_us: float = 0.0) -> Meant:
    starts = start_us + np.concatenate(([0.0], np.cumsum([sum(map(abs, frame)) for frame in frames])))
    pulses = tuple(pulses_from_signed(np.array(frame)) for frame in frames)
    return Meant(pulses, tuple(starts[:-1].tolist()), np.array(bits, np.uint8))


def echo_of(frames: list[Frame], bits: list[int], heard: np.ndarray) -> Echo | None:
    (found,) = echoes([meant(frames, bits)], read_pulses(pulses_from_signed(heard), library()), library())
    return found


def test_every_verdict_is_right(rng: np.random.Generator) -> None:
    """One bit turned in a fifth, one frame missing in a tenth; strays and chatter beside them."""
    wrong = 0
    for _ in range(60):
        r = at_worst(rng, jitter_us=45)
        echo = echo_of(r.meant, r.bits, r.heard)
        wrong += echo is None or echo.heard != r.frames or echo.same_bits == r.turned
    assert wrong == 0


@pytest.mark.parametrize(("excess", "clock"), [(-150.0, 0.93), (0.0, 1.0), (48.0, 1.001), (150.0, 1.08)])
def test_clock_and_mark_excess_are_measured(rng: np.random.Generator, excess: float, clock: float) -> None:
    for _ in range(6):
        r = returned(rng, 8.0, excess, clock, turn=False, miss=False)
        echo = echo_of(r.meant, r.bits, r.heard)
        assert echo is not None
        assert echo.clock == pytest.approx(clock, abs=5e-4)
        assert echo.mark_excess_us == pytest.approx(excess, abs=5.0)
        assert 4 < echo.rms_us < 14
        assert echo.worst_us < 40


def test_the_first_bit_that_differs_is_told(rng: np.random.Generator) -> None:
    frame = nec(0x5B, 0x16)
    bits = [1, 1, 0, 1, 1, 0, 1, 0]
    heard = list(frame)
    heard[2 + 2 * 10 + 1] = -1687.5 if heard[2 + 2 * 10 + 1] > -1000 else -562.5
    truth = read_pulses(pulses_from_signed(np.array(frame)), library()).frames[0].reading.bits.tolist()
    assert truth[:8] == bits
    echo = echo_of([frame], truth, record([-2e5, *heard], rng, jitter_us=15))
    assert echo is not None
    assert not echo.same_bits
    assert echo.first_different == 10
    assert echo_in_words(echo) == "Heard once; the first bit that differs is 10."


def test_of_three_presses_of_one_key_the_one_that_is_missing_is_told(rng: np.random.Generator) -> None:
    frame = nec(1, 2)
    bits = read_pulses(pulses_from_signed(np.array(frame)), library()).frames[0].reading.bits.tolist()
    wanted = [meant([frame], bits, at * 700_000.0) for at in range(3)]
    gone = [-sum(map(abs, frame))]
    pause = [-(700_000.0 - sum(map(abs, frame)))]
    heard = record([-3e5, *frame, *pause, *gone, *pause, *frame, -3e5], rng, jitter_us=10, clock=1.02)
    found = echoes(wanted, read_pulses(pulses_from_signed(heard), library()), library())
    assert [echo is not None for echo in found] == [True, False, True]


def test_nothing_is_heard_in_silence_and_in_other_frames() -> None:
    frame = nec(1, 2)
    assert echo_of([frame], [0] * 32, np.array([-1e6])) is None
    assert echo_of([frame], [0] * 32, np.array([-2e5, *[900.0, -2700.0] * 40, 900.0, -3e5])) is None
    assert echo_in_words(None) == "Nothing of it was heard."


def test_repeats_out_of_rhythm_are_told(rng: np.random.Generator) -> None:
    frame = nec(1, 2)
    bits = read_pulses(pulses_from_signed(np.array(frame)), library()).frames[0].reading.bits.tolist()
    late = [*frame[:-1], frame[-1] - 7000.0]
    echo = echo_of([frame, frame], bits, record([-2e5, *late, *frame, -3e5], rng, jitter_us=10))
    assert echo is not None
    assert echo.right
    assert "repeats 7.0 ms late" in echo_in_words(echo)
