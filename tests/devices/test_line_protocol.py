"""The recorder's line protocol."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.devices.line_protocol import (
    Durations,
    Hello,
    LineSplitter,
    Remark,
    Scrambled,
    checksum,
    decode_line,
    encode_durations,
    encode_hello,
)
from eager_tern.formats.timing_text import parse

durations = st.lists(st.integers(-(2**31), 2**31).filter(bool), min_size=1, max_size=60)


def test_the_checksum_is_crc_8() -> None:
    assert checksum("123456789") == 0xF4


@given(durations, st.integers(0, 1000))
def test_what_is_said_is_heard(values: list[int], number: int) -> None:
    heard = decode_line(encode_durations(np.array(values, dtype=float), number) + "\r\n")
    assert isinstance(heard, Durations)
    assert heard.signed_us.tolist() == values
    assert heard.number == number % 256


@given(durations, st.data())
def test_a_changed_character_is_noticed(values: list[int], data: st.DataObject) -> None:
    line = encode_durations(np.array(values, dtype=float), 7)
    at = data.draw(st.integers(0, len(line) - 1))
    other = data.draw(st.sampled_from("0123456789+-# abcdef").filter(lambda c: c != line[at]))
    heard = decode_line(line[:at] + other + line[at + 1 :])
    if isinstance(heard, Durations):
        # Only the mark of the comment itself can hide that there was a checksum.
        assert heard.number is None or heard.signed_us.tolist() == values


def test_a_device_says_what_it_is() -> None:
    assert decode_line(encode_hello("bench recorder", 4)) == Hello(2, 4, "bench recorder")
    assert isinstance(decode_line(encode_hello("bench", 4).replace("bench", "bunch")), Scrambled)


def test_a_plain_sketch_is_understood() -> None:
    heard = decode_line("+9012 -4480 +560")
    assert isinstance(heard, Durations)
    assert heard.number is None
    assert decode_line("# just a remark") == Remark("just a remark")
    assert decode_line("") is None


@pytest.mark.parametrize("text", ["\x80\xff garbage", "9012 4480", "+12x -4", "+1 # 3 zz", "+500 # 300"])
def test_what_is_no_line_is_scrambled(text: str) -> None:
    assert isinstance(decode_line(text), Scrambled)


def test_a_log_of_lines_is_timing_text() -> None:
    log = "\n".join(
        [
            encode_hello("stand-in", 4),
            *(encode_durations(np.array([500.0, -600.0, 500.0, -40_000.0]), n) for n in range(3)),
        ]
    )
    assert parse(log).durations_us.tolist() == [500, 600, 500, 40_000] * 2 + [500, 600, 500]


@given(st.binary(max_size=300), st.integers(1, 40))
def test_lines_come_whole_however_they_are_cut(data: bytes, size: int) -> None:
    splitter = LineSplitter()
    lines = [line for i in range(0, len(data), size) for line in splitter.feed(data[i : i + size])]
    assert lines == [part.decode("ascii", "replace") for part in data.split(b"\n")[:-1]]


def test_text_without_an_end_is_not_collected_for_ever() -> None:
    splitter = LineSplitter()
    for _ in range(100):
        splitter.feed(b"x" * 1000)
    assert len(splitter._rest) <= 4096
