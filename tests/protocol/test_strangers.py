"""Gadgets that no sheet describes: read right whatever their leader, and what is written of them reads them."""

from __future__ import annotations

import numpy as np
import pytest

from eager_tern.protocol.describing import describe
from eager_tern.protocol.loading import library, parse_sheet
from eager_tern.protocol.take import TakeRead, TakeReader, joined, read_pulses
from eager_tern.signal.values import pulses_from_signed, signed_from_start
from tests.handsets import record
from tests.strangers import CODES, LEADERS, Pressed, Stranger, a_stranger, take_of


def heard(
    rng: np.random.Generator, code: str, leader: str, sections: int, hard: bool
) -> tuple[np.ndarray, Stranger, list[Pressed]]:
    stranger = a_stranger(rng, code, leader, sections)
    signed, sent = take_of(rng, stranger)
    if not hard:
        return record(signed, rng, jitter_us=10), stranger, sent
    clock = float(rng.uniform(0.92, 1.08))
    return record(signed, rng, jitter_us=40, excess_us=float(rng.uniform(-60, 60)), clock=clock), stranger, sent


def right(take: TakeRead, stranger: Stranger, sent: list[Pressed]) -> int:
    """How many presses were read right: line code, bits and sections."""
    leads = [press.lead.best for press in take.presses if press.lead.best is not None]
    sections = stranger.sections if len(stranger.sections) > 1 else ()
    said = [(lead.code, lead.sections, lead.bits.tolist()) for lead in leads]
    return sum((stranger.code, sections, each.bits) in said for each in sent)


@pytest.mark.parametrize("hard", [False, True])
@pytest.mark.parametrize("code", CODES)
def test_every_leader_is_told_from_the_data(rng: np.random.Generator, code: str, hard: bool) -> None:
    good = asked = 0
    for number, leader in enumerate(LEADERS * 2):
        noisy, stranger, sent = heard(rng, code, leader, 1 + number % 3 % 2, hard)
        take = read_pulses(pulses_from_signed(noisy), library())
        good, asked = good + right(take, stranger, sent), asked + len(sent)
        assert all(f.reading.protocol == "unknown" or f.reading.confidence < 0.5 for f in take.frames)
        assert all(f.reading.confidence <= 0.98 for f in take.frames)
    assert good >= (0.94 if hard else 0.98) * asked


@pytest.mark.parametrize("leader", LEADERS)
@pytest.mark.parametrize("code", CODES)
def test_what_is_written_of_a_gadget_reads_its_frames(rng: np.random.Generator, code: str, leader: str) -> None:
    noisy, _, sent = heard(rng, code, leader, int(rng.integers(1, 3)), False)
    pulses = pulses_from_signed(noisy)
    draft = describe(read_pulses(pulses, library()).frames, "Stranger")
    assert draft is not None
    again = read_pulses(pulses, (parse_sheet(draft.text, "test"), *library()))
    leads = [press.lead.reading for press in again.presses]
    assert [(lead.protocol, lead.bits.tolist()) for lead in leads] == [("stranger", each.bits) for each in sent]


def test_pieces_of_any_size_say_the_same(rng: np.random.Generator) -> None:
    for code, leader in (("pulse-distance", "double"), ("biphase", "run-in"), ("duty", "few-bits")):
        noisy, _, _ = heard(rng, code, leader, 2, True)
        pulses = pulses_from_signed(noisy)
        whole = read_pulses(pulses, library())
        signed = signed_from_start(pulses)
        cuts = np.sort(rng.integers(0, signed.size, 9))
        reader = TakeReader(library())
        passages = [passage for piece in np.split(signed, cuts) for passage in reader.feed(piece)]
        pieces = joined(pulses, [*passages, *reader.finish()])
        assert [(f.first, f.last, f.reading.bits.tolist()) for f in pieces.frames] == [
            (f.first, f.last, f.reading.bits.tolist()) for f in whole.frames
        ]


@pytest.mark.parametrize("rest_us", [4_000.0, 9_000.0])
def test_copies_are_told_by_their_recurrence(rng: np.random.Generator, rest_us: float) -> None:
    """A sensor as it is built: a sync space before each copy, twice the longest of the data."""
    signed, sent = [-9e5], []
    for _ in range(4):
        bits = rng.integers(0, 2, 36).tolist()
        copy = [500.0, -rest_us, *(d for bit in bits for d in (500.0, -2000.0 if bit else -1000.0))]
        signed += [*copy * 6, 500.0, -9e5]
        sent.append(bits)
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=20, excess_us=30)), library())
    assert [press.lead.reading.bits.tolist() for press in take.presses] == sent
    assert [len(press.frames) for press in take.presses] == [6] * 4


@pytest.mark.parametrize("count", [3, 5])
def test_symbols_may_be_any_number(rng: np.random.Generator, count: int) -> None:
    """Of a fixed period, each symbol with a longer mark than the one before; a sync mark stands behind them."""
    unit, signed, sent = 260.0, [-6e5], []
    for _ in range(6):
        digits = [*rng.permutation(count).tolist(), *rng.integers(0, count, 12).tolist()]
        frame = [d for digit in digits for d in ((1 + digit) * unit, -(count + 1 - 1 - digit) * unit)]
        signed += [*[*frame, unit, -40 * unit] * 3, -6e5]
        sent.append(digits)
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=15, excess_us=20)), library())
    read = [press.lead.reading for press in take.presses]
    assert [r.symbols for r in read] == [count] * 6
    bits = [(r.bits.reshape(-1, r.symbol_bits) @ (1 << np.arange(r.symbol_bits)[::-1])).tolist() for r in read]
    assert sum(b == s for b, s in zip(bits, sent, strict=True)) == 6
    assert read[0].fields == {"digits": "".join(map(str, sent[0]))}
    draft = describe(take.frames, "Fan")
    assert draft is not None
    again = read_pulses(take.pulses, (parse_sheet(draft.text, "test"), *library()))
    assert {press.lead.reading.protocol for press in again.presses} == {"fan"}


@pytest.mark.parametrize("run_in", [9, 20])
def test_three_symbols_of_a_fixed_period_behind_a_run_in_are_no_characters(
    rng: np.random.Generator, run_in: int
) -> None:
    """Each begins with a mark and ends with a space, so that two of them are a start bit, six bits and a stop bit."""
    unit, signed, sent = 640.0, [-6e5], []
    symbols = [(unit, -3 * unit), (2 * unit, -2 * unit), (3 * unit, -unit)]
    for _ in range(4):
        digits = [*rng.permutation(3).tolist(), *rng.integers(0, 3, 30).tolist()]
        signed += [*[unit, -unit] * run_in, 4 * unit, -10 * unit, *(d for digit in digits for d in symbols[digit])]
        signed[-1] -= 5e5
        sent.append("".join(map(str, digits)))
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=10)), library())
    assert [press.lead.reading.fields.get("digits") for press in take.presses] == sent


@pytest.mark.parametrize("seed", range(6))
def test_a_section_that_looks_like_a_socket_remotes_frame_is_none(seed: int) -> None:
    """24 bits of 1 to 3 and their sync are such a frame by themselves; beside others of the same code they are not."""
    rng = np.random.default_rng(seed)
    signed: list[float] = [-600_000.0]
    sent = []
    for _ in range(3):
        sections = [rng.integers(0, 2, size).tolist() for size in (24, 32, 40)]
        sent.append([bit for own in sections for bit in own])
        for own in sections:
            signed += [d for bit in own for d in ((1500.0, -500.0) if bit else (500.0, -1500.0))]
            signed[-1] -= float(rng.uniform(3500, 5500))
            signed += [500.0, -20_000.0]
        signed[-1] = -600_000.0
    take = read_pulses(pulses_from_signed(record(signed, rng, jitter_us=30)), library())
    assert [press.lead.reading.bits.tolist() for press in take.presses] == sent
    assert {press.lead.reading.protocol for press in take.presses} == {"unknown"}


def lone(rng: np.random.Generator, bits: int) -> list[float]:
    spaces = np.where(rng.integers(0, 2, bits), -1290.0, -430.0).tolist()
    return [3500.0, -1700.0, *(d for space in spaces for d in (430.0, space)), 430.0]


@pytest.mark.parametrize("seed", range(4))
def test_a_lone_frame_of_sections_with_leaders_of_their_own_is_whole(seed: int) -> None:
    rng = np.random.default_rng(seed)
    signed = record([-6e5, *lone(rng, 48), -9_000.0, *lone(rng, 64), -6e5], rng, jitter_us=20)
    (press,) = read_pulses(pulses_from_signed(signed), library()).presses
    assert press.lead.reading.sections == (48, 64)
    assert press.lead.reading.confidence > 0.9


def test_a_lone_frame_that_lost_a_space_is_doubted(rng: np.random.Generator) -> None:
    frame = lone(rng, 48)
    frame[38:41] = [frame[38] - frame[39] + frame[40]]
    signed = record([-6e5, *frame, -6e5], rng, jitter_us=20)
    leads = [press.lead.reading for press in read_pulses(pulses_from_signed(signed), library()).presses]
    assert all(lead.confidence <= 0.5 for lead in leads)
