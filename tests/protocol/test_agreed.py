"""Frames of a take agree: what is doubtful, or read in part only, is read as what is clear."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.agreed import doubtful_read_again
from eager_tern.protocol.loading import library
from eager_tern.protocol.reading import UNKNOWN, symbol_numbers
from eager_tern.protocol.take import read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import distance_frame, record

SILENCE = -250_000.0


def simple(bits: np.ndarray) -> list[float]:
    """Pulse distance behind a leader that no sheet of the library has."""
    return distance_frame([3100.0, -1550.0], 410.0, (1, 3), bits.tolist())


@pytest.mark.parametrize("jitter", [0.0, 30.0])
def test_a_burst_that_was_left_over_is_read_as_the_clear_ones_are(rng: np.random.Generator, jitter: float) -> None:
    rows = [simple(rng.integers(0, 2, 28)) for _ in range(5)]
    rows = [[d + np.sign(d) * rng.normal(0, jitter) for d in row] for row in rows]
    signed = np.array([d for row in rows for d in (*row, SILENCE)])
    take = read_pulses(pulses_from_signed(signed), library())
    assert [frame.reading.bits.size for frame in take.frames] == [28] * 5
    frames, odd = list(take.frames[:4]), take.frames[4]
    left = [(odd.first, odd.last)]
    read, rest = doubtful_read_again(take.pulses, take.pulses.edge_times_us, frames, left)
    assert not rest
    assert read[4].reading.bits.tolist() == odd.reading.bits.tolist()
    assert read[4].reading.protocol == UNKNOWN


def test_one_frame_alone_teaches_nothing(rng: np.random.Generator) -> None:
    signed = np.array([*simple(rng.integers(0, 2, 28)), SILENCE])
    take = read_pulses(pulses_from_signed(signed), library())
    assert doubtful_read_again(take.pulses, take.pulses.edge_times_us, list(take.frames), []) == (list(take.frames), [])


def test_noise_is_not_made_a_frame_by_clear_ones_beside_it(rng: np.random.Generator) -> None:
    rows = [simple(rng.integers(0, 2, 28)) for _ in range(3)]
    noise = rng.uniform(100, 2000, 59) * np.where(np.arange(59) % 2, -1, 1)
    signed = np.array([d for row in [*rows, noise] for d in (*row, SILENCE)])
    pulses = pulses_from_signed(signed)
    take = read_pulses(pulses, library())
    clear = [frame for frame in take.frames if frame.reading.bits.size == 28][:3]
    begin = 3 * 60
    span = (begin, begin + 58)
    read, rest = doubtful_read_again(pulses, pulses.edge_times_us, clear, [span])
    assert rest == [span]
    assert len(read) == 3


@pytest.mark.parametrize("in_marks", [False, True])
def test_a_frame_in_which_one_of_four_symbols_never_stands_is_read_as_the_others_are(
    rng: np.random.Generator, in_marks: bool
) -> None:
    """By itself it has three, which would be other numbers."""
    keys = ["10320123213302", "13313101131013", "22203002300232"]
    signed = [-600_000.0]
    for key in keys:
        pairs = [(1 + int(n), 1) if in_marks else (1, 1 + int(n)) for n in key]
        pulses = [500.0 * d for mark, space in pairs for d in (mark, -space)]
        frame = [4500.0, -2250.0, *(pulses[:-1] if in_marks else [*pulses, 500.0])]
        signed += [*frame, -40_000.0, *frame, -600_000.0]
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=8)), library())
    said = ["".join(map(str, symbol_numbers(frame.reading))) for frame in take.frames]
    assert said == [key for key in keys for _ in range(2)]
    assert {frame.reading.symbols for frame in take.frames} == {4}


def test_a_symbol_that_stands_once_is_read_where_other_frames_show_it(rng: np.random.Generator) -> None:
    """By itself it would be damage, and only a part of its frame a row of bits."""
    keys = ["211101202112", "000101002110"]
    signed = [-600_000.0]
    for key in keys:
        symbols = [d for n in key for d in (697.0, -697.0 * (1 + int(n)))]
        frame = [5860.0, -3380.0, 5860.0, -3380.0, *symbols, 697.0]
        signed += [*frame, -42_000.0, *frame, -600_000.0]
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=9)), library())
    said = ["".join(map(str, symbol_numbers(frame.reading))) for frame in take.frames]
    assert said == [key for key in keys for _ in range(2)]


def test_one_whole_frame_shows_what_the_others_are(rng: np.random.Generator) -> None:
    """By themselves their middle symbol, which is the seldomest, is a sync among bits or the end of a row."""
    keys = ["0221100000222002200", "0201122011222202002", "0221200000222122200"]
    signed = [-600_000.0]
    for key in keys:
        symbols = [d for n in key for d in (459.0, -459.0 * (1 + int(n)))]
        signed += [4950.0, -3630.0, *symbols, 459.0, -600_000.0]
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=4)), library())
    said = ["".join(map(str, symbol_numbers(frame.reading))) for frame in take.frames]
    assert said == keys


@pytest.mark.parametrize("in_marks", [False, True])
def test_sections_that_lack_one_symbol_each_are_sections(rng: np.random.Generator, in_marks: bool) -> None:
    keys = [("301130330101", "122112021021"), ("301033310111", "122112021200"), ("310130331101", "202112021021")]
    signed = [-600_000.0]
    for key in keys:
        for section, silence in zip(key, (-21_000.0, -600_000.0), strict=True):
            pairs = [(1 + int(n), 1) if in_marks else (1, 1 + int(n)) for n in section]
            symbols = [410.0 * d for mark, space in pairs for d in (mark, -space)]
            signed += [4900.0, -2460.0, *(symbols[:-1] if in_marks else [*symbols, 410.0]), silence]
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=5)), library())
    assert [frame.reading.sections for frame in take.frames] == [(24, 24)] * 3
    said = ["".join(map(str, symbol_numbers(frame.reading))) for frame in take.frames]
    assert said == ["".join(key) for key in keys]
