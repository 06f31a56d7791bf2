"""Timing text in all the styles people paste, and what is wrong with the rest."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.errors import InputError
from eager_tern.formats.timing_text import parse, parse_noted, to_text
from eager_tern.signal.values import Pulses, signed_from_start


@pytest.mark.parametrize(
    "text",
    [
        "+9012 -4480 +560 -1690 +561",
        "9012 -4480 560 -1690 561",
        "9012, 4480, 560, 1690, 561",
        "9012\n4480\n560\n1690\n561\n",
        "9012 4480\n560 1690 561",
        "mark 9012\nspace 4480\nmark 560\nspace 1690\nmark 561",
        "Mark 9012\nSPACE 4480\nmark 560\nspace 1690\nmark 561\nspace 40000",
        "const uint16_t raw[5] = {9012, 4480,\n  560, 1690, 561};",
        "{9012,4480,560,1690,561}",
        "# copied\n9012;4480;560;1690;561  # the end",
        "/* a note, 12 */ unsigned raw[] = { 9012, 4480, /* 3 */ 560, 1690, 561 }; // done",
        "+9000 +12 -4480 +560 -1690 +561",
        "\ufeff9012 4480 560 1690 561",
    ],
)
def test_every_style_is_read(text: str) -> None:
    pulses = parse(text.removeprefix("\ufeff"))
    assert pulses.durations_us.tolist() == [9012.0, 4480.0, 560.0, 1690.0, 561.0]
    assert pulses.start_us == 0.0


def test_a_space_in_front_moves_the_start() -> None:
    assert parse("-2500 +560 -560 +560").start_us == 2500.0


def test_a_blank_line_is_a_second_of_silence() -> None:
    pulses = parse("500 600 500\n\n700 800 700\n")
    assert pulses.durations_us.tolist() == [500.0, 600.0, 500.0, 1_000_000.0, 700.0, 800.0, 700.0]
    with_end = parse("+500 -40000\n\n+700")
    assert with_end.durations_us.tolist() == [500.0, 1_040_000.0, 700.0]
    assert parse("500\n\n\n\n600").durations_us.tolist() == [500.0, 1_000_000.0, 600.0]


def test_a_comment_line_is_no_blank_line() -> None:
    assert parse("500 600\n# still the same\n500").durations_us.tolist() == [500.0, 600.0, 500.0]


def test_arrays_are_bursts_of_their_own() -> None:
    pulses = parse("int a[] = {500, 600, 500};\nint b[] = {700, 800, 700};\n")
    assert pulses.durations_us[3] == 1_000_000.0


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("500 600\n500 6x0 500", "line 2", '"6x0" is no duration'),
        ("500 nan 500", "line 1", "no possible duration"),
        ("500\ninf", "line 2", "no possible duration"),
        ("9000\n4500\n560\n99999999999999\n560", "line 4", "no possible duration"),
        ("9000\n-4500\n560\n-560\n-560\n560", "line 5", "second negative duration"),
        ("500 1e30 5", "line 1", "no possible duration"),
        ("500, 600, 500, -600, -500", "line 1", "in a row"),
        ("500 600\n-3", "line 1", "in a row"),
        ("mark 500\nspace", "line 2", "followed by one duration"),
        ("mark 500\nspace -500", "line 2", "negative length"),
        ("# nothing\n", "", "no durations"),
        ("", "", "no durations"),
        ("hello world", "line 1", '"hello" is no duration'),
    ],
)
def test_what_is_wrong_is_told_with_its_line(text: str, place: str, words: str) -> None:
    with pytest.raises(InputError) as caught:
        parse(text, "copied.txt")
    assert caught.value.source == "copied.txt"
    assert caught.value.place == place
    assert words in caught.value.reason


def test_a_million_durations_on_one_line() -> None:
    pulses = parse(" ".join(["560"] * 1_000_001))
    assert pulses.durations_us.size == 1_000_001


@given(
    st.lists(st.floats(1, 1e7), min_size=1, max_size=99).filter(lambda d: len(d) % 2 == 1),
    st.floats(0, 1e9),
)
def test_what_is_written_is_read_back_exactly(durations: list[float], start: float) -> None:
    pulses = Pulses(np.array(durations), start)
    again = parse(to_text(pulses))
    assert np.array_equal(signed_from_start(again), signed_from_start(pulses))


@given(st.text(max_size=200))
def test_nothing_but_our_own_error_leaves_the_reader(text: str) -> None:
    try:
        parse(text)
    except InputError as error:
        assert str(error)


def test_lines_break_at_silences(tmp_path: Path) -> None:
    text = to_text(parse("+500 -600 +500 -30000 +500"))
    assert text == "+500 -600 +500 -30000\n+500\n"


SIGNED = " ".join(f"{d:+d}" for d in [9012, -4480, *[560, -1690] * 16, 561])
PLAIN = SIGNED.replace("+", "").replace("-", "").replace(" ", ", ")


@pytest.mark.parametrize(
    ("text", "bursts"),
    [
        ("> " + PLAIN, 1),
        (">>> " + SIGNED, 1),
        ("12:00:01.123 -> " + SIGNED, 1),
        ("[2026-11-23 08:15:30] " + PLAIN, 1),
        (f"Raw (35): {PLAIN}\nRaw (35): {PLAIN}", 2),
        (f"12:00:01 Ready.\n12:00:02 raw: {SIGNED}\n12:00:03 sent 3 bytes\n12:00:05 raw: {SIGNED}\n", 2),
        (f"\x1b[32mraw\x1b[0m: {SIGNED}\r\n\r\nraw: {SIGNED}\r\n", 2),
        ("\n".join(f"12:00:01 -> {d}" for d in PLAIN.split(", ")), 1),
        (PLAIN.replace(",", "us,"), 1),
        (SIGNED.replace("+", "pulse ").replace(" -", "\nspace ").replace(" pulse", "\npulse"), 1),
        ("\n".join(SIGNED[i : i + 80] for i in range(0, len(SIGNED), 80)), 1),
        ("\n".join(PLAIN[i : i + 72] for i in range(0, len(PLAIN), 72)), 1),
        (f"uint16_t rawData[35] PROGMEM = {{{PLAIN}}};", 1),
    ],
)
def test_text_however_it_was_copied(text: str, bursts: int) -> None:
    d = parse(text).durations_us
    assert d.size == 36 * bursts - 1
    assert d[:5].tolist() == [9012, 4480, 560, 1690, 560]
    assert (d == 1_000_000).sum() == bursts - 1


def test_rows_of_numbers_are_not_taken_for_a_broken_line() -> None:
    assert parse("560 1690 560 560\n" * 20).durations_us.size == 79
    assert parse(("560 1690 560 560 " * 4 + "\n") * 20).durations_us.size == 319


@pytest.mark.parametrize("style", ["<{}>", '"{}"', "|{}|", "= {}", "* {}", "[{}]"])
def test_a_column_of_numbers_between_signs(style: str) -> None:
    durations = [9012, 4480, *[560, 1690, 560, 565] * 8, 561]
    pulses = parse("\n".join(map(style.format, durations)))
    assert pulses.durations_us.tolist() == durations


def test_arrays_name_their_stretches_and_prose_is_said() -> None:
    pulses, notes, warnings = parse_noted(f"int power[] = {{{PLAIN}}};\nint mute[3] = {{500, 600, 500}};", "keys.h")
    assert [note.text for note in notes] == ["power", "mute"]
    assert notes[1].start_us == pytest.approx(pulses.durations_us[:36].sum())
    assert warnings == ()
    assert "line 2" in parse_noted(f"{SIGNED}\nReady.\n", "log.txt")[2][0]


def test_a_word_that_is_neither_mark_nor_space_is_told() -> None:
    with pytest.raises(InputError, match="neither a mark nor a space") as caught:
        parse("mark 500\nspce 600\nmark 500")
    assert caught.value.place == "line 2"
