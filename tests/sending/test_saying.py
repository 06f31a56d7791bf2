"""What is to be sent: made where a sheet makes the very bits, else as it was recorded; routines and sweeps."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.casebook.store import Casebook
from eager_tern.casebook.sweep import Sweep, did_nothing, next_presses, reacted, went_out
from eager_tern.errors import InputError
from eager_tern.protocol.loading import library
from eager_tern.protocol.take import read_pulses
from eager_tern.sending.routine import pauses_between, steps_of
from eager_tern.sending.saying import Handset
from eager_tern.sending.sender import expect_unhurried, prepared
from eager_tern.signal.values import pulses_from_signed
from tests.sending.conftest import gadget


def handset(book: Casebook, name: str, as_recorded: bool = False) -> Handset:
    return Handset.of_casebook(book, gadget(book, name), as_recorded)


def test_a_key_is_made_from_the_sheet_that_reproduces_it(book: Casebook) -> None:
    said = handset(book, "Slide projector").key("next slide")
    assert said.made
    assert said.values == {"address": 0x5B, "command": 0x16}
    (press,) = read_pulses(pulses_from_signed(np.concatenate(said.frames)), library()).presses
    assert press.lead.reading.fields == {"address": 0x5B, "command": 0x16}


def test_as_recorded_is_as_it_was_measured(book: Casebook) -> None:
    said = handset(book, "Slide projector", as_recorded=True).key("Focus +")
    assert not said.made
    assert len(said.frames) == 6  # it had been held
    assert np.any(said.frames[0] % 562.5)
    assert [len(said.times(count).frames) for count in (1, 6, 9)] == [1, 6, 9]


def test_what_no_sheet_reproduces_is_sent_as_recorded(book: Casebook) -> None:
    cabinet = handset(book, "Climate cabinet")
    said = cabinet.key(cabinet.key_names[0])
    assert not said.made
    assert said.bits.size == 112
    with pytest.raises(InputError, match="has no sheet yet"):
        cabinet.fields("temperature 21", {"temperature": 21})


def test_a_toggle_goes_on_from_the_last_press_heard(book: Casebook) -> None:
    lamp = handset(book, "Nest-box lamp")
    toggles = [lamp.key("Brighter").values["toggle"] for _ in range(4)]
    assert toggles in ([0, 1, 0, 1], [1, 0, 1, 0])
    heard = [p.reading.fields["toggle"] for p in book.presses(gadget(book, "Nest-box lamp").id) if p.reading.fields]
    assert toggles[0] != heard[-1]


def test_a_unit_that_hangs_on_a_resistor_is_the_gadgets_own(book: Casebook) -> None:
    shutters = handset(book, "Window shutters")
    said = shutters.fields("code", {"code": 0x69C58C})
    assert np.abs(said.frames[0]).min() == pytest.approx(340, rel=0.03)
    assert -said.frames[0][-1] == pytest.approx(10_540, rel=0.05)


def test_the_address_of_all_keys_is_the_gadgets(book: Casebook) -> None:
    said = handset(book, "Slide projector").fields("command 3", {"command": 3})
    assert said.values["address"] == 0x5B


ROUTINE = """
# in the evening
Lamp
pause 2 s
Next slide x 3
Freeze every 1.5 s
command 3..5 every 300 ms   # what nobody pressed
"""


def test_a_routine_becomes_steps(book: Casebook) -> None:
    voice = handset(book, "Slide projector")
    steps = steps_of(ROUTINE, voice)
    assert [step.what for step in steps] == [
        "Lamp", "pause 2 s", "Next slide", "Next slide", "Next slide", "Freeze", "command 3", "command 4", "command 5",
    ]  # fmt: skip
    assert pauses_between(steps, 0.5) == [0.0, 2.0, 0.5, 0.5, 0.5, 1.5, 0.3, 0.3, 0.0]
    sayings = prepared(steps, voice)
    assert sayings[1] is None
    assert [s.values["command"] for s in sayings[-3:] if s is not None] == [3, 4, 5]


def test_bits_are_swept_with_their_checks(book: Casebook) -> None:
    voice = handset(book, "Slide projector")
    steps = steps_of("bits 16-23 0..3 every 0.05 s fast", voice)
    assert all(step.fast for step in steps)
    frames = [pulses_from_signed(said.frames[0]) for said in prepared(steps, voice) if said is not None]
    read = [read_pulses(pulses, library()).frames[0].reading for pulses in frames]
    assert [reading.checks_hold for reading in read] == [True] * 4
    assert [reading.bits[16:24].tolist() for reading in read] == [[0] * 6 + [n >> 1, n & 1] for n in range(4)]
    with pytest.raises(InputError, match="it has bits 0 to 31"):
        prepared(steps_of("bits 30-40 1", voice), voice)


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("Lamp\nNope", r'line 2: "Nope": is neither a key \(Lamp, .*\) nor a field and its value \(address, command\)'),
        ("temperature 21", 'line 1: "temperature 21": is neither a key'),
        ("command 1..99999", "line 1: .* has too many values"),
        ("Lamp x 0", "line 1: x 0: a step is said 1 to 5,000 times"),
        ("pause 900000 s", "line 1: .* is longer than a day"),
    ],
)
def test_what_a_routine_cannot_mean_is_said_with_its_line(book: Casebook, line: str, words: str) -> None:
    with pytest.raises(InputError, match=words):
        steps_of(line, handset(book, "Slide projector"))


def test_a_value_out_of_range_names_line_and_range(book: Casebook) -> None:
    voice = handset(book, "Slide projector")
    with pytest.raises(InputError, match=r"line 2: .*command = 300 is outside 0 to 255"):
        prepared(steps_of("Lamp\ncommand 300", voice), voice)


def test_presses_too_close_to_each_other_are_refused() -> None:
    expect_unhurried([0.1, 0.0, 2.0])
    with pytest.raises(InputError, match=r"every 0.05 s: .* 0.1 s is the least"):
        expect_unhurried([0.05])


@given(st.integers(1, 40), st.data())
def test_a_sweep_finds_the_press_that_did_it(count: int, data: st.DataObject) -> None:
    """Whoever watches notes it up to three presses late, and sees it again each time it is said."""
    right = data.draw(st.integers(0, count - 1))
    late = data.draw(st.integers(0, min(3, count - 1 - right)))
    sweep = Sweep(count)
    for _ in range(400):
        if sweep.found is not None:
            break
        if sweep.phase == "sweeping":
            sweep = went_out(sweep)
            if sweep.said == right + 1 + late:
                sweep = reacted(sweep)
        else:
            sweep = reacted(sweep) if right in next_presses(sweep) else did_nothing(sweep)
    assert sweep.found == right


def test_a_false_alarm_lets_the_sweep_go_on() -> None:
    sweep = Sweep(10)
    for _ in range(3):
        sweep = went_out(sweep)
    sweep = reacted(sweep)
    while sweep.phase == "narrowing":
        sweep = did_nothing(sweep)
    assert sweep.phase == "sweeping"
    assert sweep.said == 3
    assert reacted(sweep) == sweep  # those were tried one by one and did nothing


def test_a_sweep_and_its_routine_are_kept(book: Casebook) -> None:
    number = gadget(book, "Slide projector").id
    assert (book.routine(number), book.sweep(number)) == ("", None)
    book.put_routine(number, "command 0..9")
    sweep = reacted(went_out(went_out(Sweep(10))))
    book.put_sweep(number, sweep)
    assert (book.routine(number), book.sweep(number)) == ("command 0..9", sweep)
    book.put_routine(number, "Lamp")  # another routine: that sweep is over
    assert book.sweep(number) is None
