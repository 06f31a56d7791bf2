"""Repeats that repair one another, and clear frames that teach how the others are to be read."""

from __future__ import annotations

import numpy as np

from eager_tern.protocol.consensus import repaired_by_repeats
from eager_tern.protocol.loading import library
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import read_frame
from eager_tern.protocol.wholeness import DOUBTED
from eager_tern.signal.values import Pulses, pulses_from_signed
from tests.handsets import denon, nec_frame, sony, sony_long
from tests.radio import code_24

CODE = [1, 0, 1, 1, 0, 0, 1, 0] * 4


def frames_of(signed: list[list[float]], gap: float = 40_000.0) -> tuple[Pulses, list[Frame]]:
    """A take of frames with a gap between them, and each frame read by itself."""
    rows = [d for frame in signed for d in (*frame, -gap)]
    pulses = pulses_from_signed(np.array(rows))
    found, at = [], 0
    for frame in signed:
        last = at + len(frame) - 1
        part = pulses.part(at, last)
        found.append(Frame(at, last, part, read_frame(part, library())))
        at = last + 2
    return pulses, found


def test_a_frame_whose_check_fails_takes_the_bit_from_its_repeats() -> None:
    bits = CODE[:8] + [1 - b for b in CODE[:8]] + CODE[:8] + [1 - b for b in CODE[:8]]
    wrong = [*bits]
    wrong[21] ^= 1
    pulses, frames = frames_of([nec_frame(bits), nec_frame(wrong), nec_frame(bits)])
    mended, taken = repaired_by_repeats(pulses, frames, [])
    assert [frame.reading.bits.tolist() for frame in mended] == [bits] * 3
    assert mended[1].mended == "1 bit of 32 taken from the repeats"
    assert not mended[0].mended
    assert not taken


def test_two_keys_of_one_handset_are_left_as_they_are() -> None:
    pulses, frames = frames_of([sony(21, 1, 1)[:-1], sony(22, 1, 1)[:-1]])
    mended, _ = repaired_by_repeats(pulses, frames, [])
    assert mended == frames


def test_a_damaged_burst_beside_a_clear_frame_is_its_copy() -> None:
    good = nec_frame(CODE)
    hurt = [*good]
    hurt[20:23] = [sum(abs(d) for d in hurt[20:23])]  # a space swallowed by two marks that ran together
    pulses, frames = frames_of([good, hurt])
    model = frames[0]
    stray = (frames[1].first, frames[1].last, frames[1].pulses)
    mended, taken = repaired_by_repeats(pulses, [model], [stray])
    assert len(mended) == 2
    assert taken == {stray[0]}
    assert mended[1].reading.bits.tolist() == model.reading.bits.tolist()
    assert "repeat" in mended[1].mended


def test_a_first_copy_that_lost_its_first_bit_says_what_the_others_do() -> None:
    """Its sync then passes for the last bit: as good a frame of the sheet as the others."""
    bits = [1, 0, 1, 0, 1, 1, 0, 1, 0, 1, 1, 0, 1, 1, 0, 1, 1, 0, 0, 0, 1, 0, 1, 1]
    cut = code_24([*bits[1:], 0], 350.0)[:-3]
    pulses, frames = frames_of([cut, *[code_24(bits, 350.0)[:-1]] * 3], 11_000.0)
    assert frames[0].reading.protocol == "fixed-code"
    mended, _ = repaired_by_repeats(pulses, frames, [])
    assert [frame.reading.bits.tolist() for frame in mended] == [bits] * 4
    assert mended[0].mended.startswith("damaged")
    alone, _ = repaired_by_repeats(*frames_of([cut, code_24(bits, 350.0)[:-1]], 11_000.0), [])
    assert [frame.mended for frame in alone] == ["", ""]


def test_a_last_copy_that_was_cut_is_a_repeat() -> None:
    bits = [*CODE, 1, 1, 0, 1]
    whole = [d for bit in bits for d in ((500.0, -4000.0) if bit else (500.0, -2000.0))][:-1]
    pulses, frames = frames_of([*[[*whole, -2000.0, 500.0]] * 3, whole], 9_000.0)
    mended, _ = repaired_by_repeats(pulses, frames, [])
    assert [frame.reading.bits.size for frame in frames] == [36, 36, 36, 35]
    assert [frame.reading.bits.tolist() for frame in mended] == [frames[0].reading.bits.tolist()] * 4


def test_an_uneven_frame_beside_known_copies_of_its_length_is_doubted() -> None:
    """A copy in which two marks ran together: the rest reads as an unknown code of some 22 bits."""
    sure = 0
    for seed in range(10):
        rng = np.random.default_rng(seed)
        good = np.array(code_24(rng.integers(0, 2, 24).tolist(), 320.0)[:-1])
        copies = [(good + rng.normal(0, 12, good.size)).tolist() for _ in range(3)]
        at = 2 * int(rng.integers(2, 20)) + 1
        hurt = np.concatenate((good[: at - 1], [np.abs(good[at - 1 : at + 2]).sum()], good[at + 2 :]))
        pulses, frames = frames_of([*copies, (hurt + rng.normal(0, 85, hurt.size)).tolist()], 11_000.0)
        if frames[3].readings and not frames[3].reading.known:
            sure += frames[3].reading.confidence > 0.9
            mended, _ = repaired_by_repeats(pulses, frames, [])
            assert mended[3].reading.confidence <= 0.5 or mended[3].mended
    assert sure >= 5


def test_one_damaged_copy_that_is_another_code_by_itself_turns_no_whole_ones_into_it() -> None:
    """A long Sony frame that lost its last bit is one of a laser game, parity and all; its five repeats are not."""
    whole = sony_long(0b0011110, [int(bit) for bit in "11001110"], 1)[:-1]
    pulses, frames = frames_of([whole, whole, whole, whole[:-2], whole, whole], 20_000.0)
    assert [frame.reading.protocol for frame in frames] == ["sirc15"] * 3 + ["milestag"] + ["sirc15"] * 2
    mended, _ = repaired_by_repeats(pulses, frames, [])
    assert [frame.reading.protocol for frame in mended].count("milestag") <= 1
    assert [mended[at].reading.bits.tolist() for at in (0, 1, 2, 4, 5)] == [frames[0].reading.bits.tolist()] * 5


def test_the_beginning_of_a_frame_beside_a_whole_one_is_no_other_protocol() -> None:
    """Ten bits of a Denon frame are one of Akai; the second half of the press stands whole beside them."""
    whole = [float(d) for d in denon(22, 45, 1)]
    ends = [at for at, d in enumerate(whole) if d < -20_000]
    first, second = whole[: ends[0]], whole[ends[0] + 1 : ends[1]]
    pulses, frames = frames_of([first[:21], second])
    assert [frame.reading.protocol for frame in frames] == ["akai", "denon"]
    mended, _ = repaired_by_repeats(pulses, frames, [])
    assert mended[0].reading.confidence <= DOUBTED
    assert mended[1] is frames[1]
