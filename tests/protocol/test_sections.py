"""Sections, repeats and damaged repeats told apart by what recurs from press to press."""

from __future__ import annotations

from collections.abc import Callable
from itertools import chain

import numpy as np
import pytest

from eager_tern.protocol.loading import library
from eager_tern.protocol.sections import part_pulses
from eager_tern.protocol.take import TakeRead, read_pulses
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import distance_frame, record


def presses(
    rng: np.random.Generator, sections: list[list[list[int]]], gap_us: float, copies: int = 1, leaders: bool = True
) -> TakeRead:
    """A take of presses, each a list of sections' bits, behind a double leader."""
    signed: list[float] = [-3e5]
    for press in sections:
        for _ in range(copies):
            for at, bits in enumerate(press):
                leader = [2800, -2800, 2800, -4000] if leaders or at == 0 else []
                signed += [*distance_frame(leader, 500, (1, 3), bits), -gap_us]
            signed[-1] = -60_000.0
        signed[-1] = -6e5
    return read_pulses(pulses_from_signed(record(signed, rng, jitter_us=25)), library())


@pytest.mark.parametrize("sizes", [(48, 8), (8, 56), (12, 32), (24, 40, 16), (8, 8)])
@pytest.mark.parametrize("copies", [1, 2])
@pytest.mark.parametrize("leaders", [True, False])
def test_short_sections_beside_long_ones(
    sizes: tuple[int, ...], copies: int, leaders: bool, rng: np.random.Generator
) -> None:
    sent = [[rng.integers(0, 2, size).tolist() for size in sizes] for _ in range(4)]
    take = presses(rng, sent, float(rng.uniform(3e3, 34e3)), copies, leaders)
    leads = [press.lead.reading for press in take.presses]
    assert [(lead.sections, lead.bits.tolist()) for lead in leads] == [(sizes, list(chain(*each))) for each in sent]


def test_sections_that_once_say_the_same_stay_sections(rng: np.random.Generator) -> None:
    sent = [[rng.integers(0, 2, 24).tolist() for _ in range(2)] for _ in range(4)]
    sent[1][1] = sent[1][0]
    take = presses(rng, sent, 20_000.0)
    assert {frame.reading.sections for frame in take.frames} == {(24, 24)}


def test_repeats_of_which_one_is_damaged_stay_repeats(rng: np.random.Generator) -> None:
    sent = [[rng.integers(0, 2, 24).tolist()] * 2 for _ in range(4)]
    sent[2] = [sent[2][0], [*sent[2][0][:10], *(1 - bit for bit in sent[2][0][10:14]), *sent[2][0][14:]]]
    take = presses(rng, sent, 20_000.0)
    assert {frame.reading.sections for frame in take.frames} == {()}
    assert len(take.frames) == 8


def test_all_of_one_bit_is_a_section_beside_what_has_both(rng: np.random.Generator) -> None:
    """Its shorter pulses are another section's longer ones."""
    sent = [[[1] * 12, rng.integers(0, 2, 24).tolist()] for _ in range(3)]
    take = presses(rng, sent, 20_000.0)
    assert [press.lead.reading.bits.tolist() for press in take.presses] == [list(chain(*each)) for each in sent]


@pytest.mark.parametrize(("longer", "joined"), [(1.17, True), (1.24, False)])
def test_sections_have_symbols_of_one_length(longer: float, joined: bool, rng: np.random.Generator) -> None:
    """Senders keep one clock through a frame; what is a quarter slower is another gadget's."""
    signed: list[float] = [-3e5]
    for _ in range(4):
        for unit, size in ((500.0, 24), (500.0 * longer, 32)):
            bits = rng.integers(0, 2, size).tolist()
            signed += [*distance_frame([8 * unit, -4 * unit], unit, (1, 3), bits), -20_000.0]
        signed[-1] = -6e5
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=5)), library())
    assert {frame.reading.sections for frame in take.frames} == ({(24, 32)} if joined else {()})


@pytest.mark.parametrize("hurt", ["fade", "filled"])
def test_a_copy_that_lost_several_bits_is_no_section(hurt: str, rng: np.random.Generator) -> None:
    """One press, twice: what damage took from the second copy makes it no other section."""
    for _ in range(12):
        bits = rng.integers(0, 2, int(rng.integers(24, 49))).tolist()
        good = distance_frame([3000, -3000], 400, (1, 3), bits)
        edges = np.cumsum(np.abs(good))
        begin = float(rng.uniform(0.2, 0.7)) * edges[-1]
        lost = (edges >= begin) & (edges < begin + float(rng.uniform(1_500, 4_000)))
        keep = ~lost if np.count_nonzero(lost) % 2 == 0 else ~lost | (edges == edges[lost][0])
        if hurt == "filled":
            at = 2 * int(rng.integers(5, 20)) + 1
            keep = np.ones(edges.size, bool)
            keep[[at, at + 1, at + 4, at + 5]] = False
        left = np.diff(np.concatenate(([0.0], edges[keep])))
        damaged = (left * np.where(np.arange(left.size) % 2, -1, 1)).tolist()
        signed = [-3e5, *good, -12_000.0, *damaged, -3e5]
        frames = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=20)), library()).frames
        assert all(frame.reading.sections == () or frame.reading.confidence <= 0.5 for frame in frames)
        assert frames[0].reading.bits.tolist() == bits


def test_what_a_hole_parts_is_doubted(rng: np.random.Generator) -> None:
    """One press by itself, in the midst of which the signal faded: nothing tells it from two sections."""
    for _ in range(6):
        bits = rng.integers(0, 2, 41).tolist()
        signed = distance_frame([3000, -3000], 400, (1, 3), bits)
        hole = signed[36:48]
        holed = [-3e5, *signed[:35], -abs(signed[35]) - sum(map(abs, hole)), *signed[48:], -3e5]
        take = read_pulses(pulses_from_signed(record(holed, rng, jitter_us=20)), library())
        assert all(frame.reading.confidence <= 0.5 for frame in take.frames)


def test_a_frame_by_itself_of_an_odd_size_may_be_cut(rng: np.random.Generator) -> None:
    for bits, sure in ((37, False), (36, True)):
        signed = distance_frame([3000, -3000], 400, (1, 3), rng.integers(0, 2, bits).tolist())
        take = read_pulses(pulses_from_signed(record([-3e5, *signed, -3e5], rng, jitter_us=20)), library())
        (frame,) = take.frames
        assert frame.reading.bits.size == bits
        assert (frame.reading.confidence > 0.8) == sure


@pytest.mark.parametrize("symbols", [(3, 3), (5, 4), (3, 5)])
def test_the_digits_of_a_frame_run_through_all_its_sections(symbols: tuple[int, int], rng: np.random.Generator) -> None:
    signed: list[float] = []
    sent: list[str] = []
    for _ in range(4):
        sections = [rng.permutation([*range(count)] * (20 // count + 1)) for count in symbols]
        for digits in sections:
            signed += [4000, -2000, *chain(*((400, -400 * (1 + int(digit))) for digit in digits)), 400, -8000]
        signed[-1] = -400_000
        sent.append("".join(map(str, chain(*sections))))
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=8)), library())
    assert [frame.reading.fields["digits"] for frame in take.frames] == sent
    assert min(frame.reading.confidence for frame in take.frames) > 0.9


def holds(rng: np.random.Generator, frame: Callable[[list[list[int]]], list[float]], sizes: tuple[int, ...]) -> None:
    """Three presses, each held for ten copies of all sections, are read as that."""
    signed: list[float] = [-3e5]
    sent = []
    for _ in range(3):
        bits = [rng.integers(0, 2, size).tolist() for size in sizes]
        sent.append((list(chain(*bits)), 10))
        signed += [*frame(bits), -19_000.0] * 9 + [*frame(bits), -6e5]
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=20)), library())
    assert [(press.lead.reading.bits.tolist(), len(press.frames)) for press in take.presses] == sent
    assert {(each.reading.sections, len(part_pulses(each))) for each in take.frames} == {(sizes, len(sizes))}
    assert min(each.reading.confidence for each in take.frames) > 0.9


def in_sections(
    bits: list[list[int]], leader: list[float], one: list[float], zero: list[float], behind: list[float], gap_us: float
) -> list[float]:
    """Sections, each between a leader and what stands behind it."""
    signed: list[float] = []
    for own in bits:
        signed += [*leader, *(d for bit in own for d in (one if bit else zero)), *behind]
        if signed[-1] < 0:  # what ends in a space ends in the gap
            signed.pop()
        signed.append(-gap_us)
    return signed[:-1]


@pytest.mark.parametrize("ratio", [3.0, 3.5])
def test_a_long_hold_of_sections_is_one_press(ratio: float, rng: np.random.Generator) -> None:
    """Its copies have more pulses than are looked at together; lengths need not be whole units."""
    leader, one, zero = [4400.0, -4500.0] * 2, [500.0 * ratio, -500.0], [500.0, -500.0]
    holds(rng, lambda bits: in_sections(bits, leader, one, zero, [], 8_000.0), (88, 64, 56))


def test_a_run_in_before_each_section_stays_with_it(rng: np.random.Generator) -> None:
    leader = [*[550.0, -550.0] * 26, 550.0, -5_200.0]
    holds(rng, lambda bits: in_sections(bits, leader, [550, -2000], [550, -550], [550], 7_200.0), (32, 40, 24, 40))


def test_a_sync_behind_each_section_parts_no_section(rng: np.random.Generator) -> None:
    """Its silence is no gap between two sections, though both are silences before the next one's bits."""
    behind = [-3_900.0, 450.0]
    holds(rng, lambda bits: in_sections(bits, [], [1350, -450], [450, -450], behind, 16_600.0), (56, 24, 72))


@pytest.mark.parametrize("sizes", [(40, 88), (24, 60, 64), (32, 44, 96, 72)])
def test_damage_in_some_copies_does_not_take_a_hold_apart(sizes: tuple[int, ...], rng: np.random.Generator) -> None:
    """A stray pulse in two copies of six, each time in another section."""
    signed: list[float] = [-3e5]
    sent = []
    for _ in range(2):
        bits = [rng.integers(0, 2, size).tolist() for size in sizes]
        sent.append(list(chain(*bits)))
        for copy in range(6):
            frame = in_sections(bits, [4000, -2000], [500, -1500], [500, -500], [500], 14_000.0)
            if copy in (1, 4):
                at = 2 * int(rng.integers(4, sizes[0] - 2)) + 1 + (2 * sizes[0] + 4) * (copy // 4)
                frame[at : at + 1] = [frame[at] * 0.4, 40.0, frame[at] * 0.6 + 40]
            signed += [*frame, -40_000.0]
        signed[-1] = -6e5
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=20)), library())
    whole = [frame.reading for frame in take.frames if frame.reading.confidence > 0.9]
    assert {each.sections for each in whole} == {sizes}
    assert list(dict.fromkeys(tuple(each.bits.tolist()) for each in whole)) == [tuple(each) for each in sent]
    assert len(take.frames) == 12


def test_a_hold_that_is_longer_than_a_passage_is_parted_between_two_copies(rng: np.random.Generator) -> None:
    bits = rng.integers(0, 2, 24).tolist()
    frame = distance_frame([3600, -1600], 430, (1, 3), bits)
    take = read_pulses(pulses_from_signed(record([-3e5, *([*frame, -30_000.0] * 400)], rng, jitter_us=20)), library())
    assert [each.reading.bits.tolist() for each in take.frames] == [bits] * 400
