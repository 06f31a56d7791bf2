"""A recording as it arrives gives what the whole recording gives."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from eager_tern.protocol.loading import library
from eager_tern.protocol.take import LOOK_PULSES, Passage, TakeReader, read_pulses
from eager_tern.signal.values import Floats, pulses_from_signed
from tests.handsets import evening, nec, record, serial, sony

Span = tuple[int, int]


class Told:
    """What passages say of a take, each in place of what was told of its marks before."""

    def __init__(self) -> None:
        self.presses: dict[int, tuple[Span, ...]] = {}
        self.starts: dict[int, float] = {}
        self.noise: set[Span] = set()

    def take(self, passages: list[Passage]) -> None:
        for passage in passages:
            inside = range(passage.first, passage.end)
            self.presses = {first: spans for first, spans in self.presses.items() if first not in inside}
            self.noise = {span for span in self.noise if span[0] not in inside}
            for press in passage.presses:
                assert press.lead.first in inside
                self.presses[press.lead.first] = tuple((f.first, f.last) for f in press.frames)
                self.starts[press.lead.first] = press.start_us
            self.noise |= set(passage.noise)


def heard(signed: Floats, sizes: list[int], at_once: bool = True, **settings: bool) -> Told:
    """A recording read in pieces of these sizes, over and over."""
    reader, told = TakeReader(library(), at_once=at_once, **settings), Told()
    at = n = 0
    while at < signed.size:
        size = sizes[n % len(sizes)]
        told.take(list(reader.feed(signed[at : at + size])))
        at, n = at + size, n + 1
    told.take(list(reader.finish()))
    return told


def chatter(rng: np.random.Generator, seconds: float) -> Floats:
    """A receiver that hears nothing: full-swing pulses of any length, never a rest."""
    lengths = rng.exponential(120.0, int(seconds * 8000)) + 20.0
    return np.where(np.arange(lengths.size) % 2 == 0, lengths, -lengths)


@given(st.integers(0, 1000), st.lists(st.integers(1, 200), min_size=1, max_size=30), st.booleans())
@settings(max_examples=15)
def test_pieces_of_any_size_make_no_difference(seed: int, sizes: list[int], cut: bool) -> None:
    recording = evening(np.random.default_rng(seed), 5, jitter_us=20)
    signed = np.array([*recording.signed[37 if cut else 0 : -1], -50_000.0, 150.0, -400_000.0])
    whole = read_pulses(pulses_from_signed(signed), library(), cut=cut)
    told = heard(signed, sizes, cut=cut)
    assert [told.presses[first] for first in sorted(told.presses)] == [
        tuple((f.first, f.last) for f in p.frames) for p in whole.presses
    ]
    assert [told.starts[p.lead.first] for p in whole.presses] == pytest.approx([p.start_us for p in whole.presses])
    assert sorted(told.noise) == list(whole.noise)


@pytest.mark.parametrize("size", [700, 60_000])
def test_a_line_that_never_rests_is_read_in_passages_that_it_sets_itself(size: int) -> None:
    rng = np.random.default_rng(4)
    frames = [record([*nec(5, n), *nec(5, n)], rng)[:-1] for n in range(4)]
    signed = np.concatenate([part for n in range(4) for part in (chatter(rng, 2.0), frames[n])])
    one, other = heard(signed, [size]), heard(signed, [signed.size], at_once=False)
    assert one.presses == other.presses
    assert one.noise == other.noise


def test_frames_in_chatter_are_told_while_it_goes_on() -> None:
    rng = np.random.default_rng(8)
    frame = record([*nec(5, 6), *nec(5, 6)], rng)[:-1]
    reader, told = TakeReader(library(), at_once=True), Told()
    for part in (chatter(rng, 1.0), frame, chatter(rng, 2 * LOOK_PULSES / 8000)):
        for piece in np.array_split(part, 20):
            told.take(list(reader.feed(piece)))
    assert told.presses


def test_a_frame_is_read_as_soon_as_silence_follows(rng: np.random.Generator) -> None:
    reader = TakeReader(library(), at_once=True)
    frame = record(nec(1, 2), rng)
    assert list(reader.feed(frame[:40])) == []
    assert list(reader.feed(frame[40:-1])) == []
    (told,) = reader.feed(np.array([-20_000.0]))
    (press,) = told.presses
    assert press.lead.reading.fields == {"address": 1, "command": 2}
    # The rest of the silence, then a repeat: the press grows.
    (told,) = reader.feed(np.concatenate(([-20_000.0], record(nec(1, 2, 1)[68:], rng))))
    (grown,) = told.presses
    assert (grown.lead.first, len(grown.frames)) == (press.lead.first, 2)
    # Silence of more than 150 ms in pieces, then the same code: another press.
    assert list(reader.feed(np.array([-100_000.0]))) == []
    list(reader.feed(np.array([-60_000.0])))
    (told,) = reader.feed(record([*nec(1, 2)], rng))
    assert told.presses[-1].lead.first > press.lead.first


def test_frames_of_a_hold_repair_one_another(rng: np.random.Generator) -> None:
    frames = [record(sony(21, 3, frames=1), rng) for _ in range(4)]
    lead = frames[1][0]
    # A hole in the leader, as a lamp makes.
    frames[1] = np.concatenate(([lead / 3, -lead / 3, lead / 3], frames[1][1:]))
    reader, told = TakeReader(library(), at_once=True), Told()
    for frame in frames:
        told.take(list(reader.feed(frame)))
    ((first, spans),) = told.presses.items()
    assert (first, len(spans)) == (0, 4)


def test_frames_of_characters_agree_when_the_passage_ends(rng: np.random.Generator) -> None:
    """Seven bits with parity look like eight without in one frame by itself; in all of them together they do not."""
    said = [tuple(rng.integers(0, 128, 5).tolist()) for _ in range(12)]
    reader = TakeReader(library(), at_once=True)
    for data in said:
        list(reader.feed(record(serial(list(data), 600, 7, "even"), rng, jitter_us=10)))
    (passage,) = reader.finish()
    assert [press.lead.reading.fields["bytes"] for press in passage.presses] == said
