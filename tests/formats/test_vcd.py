"""Value change dumps: timescales, buses, unknown levels, and what is wrong with the rest."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.errors import InputError
from eager_tern.formats import vcd
from eager_tern.signal.values import pulses_from_signed
from tests.handsets import nec, record

HEAD = "$timescale {scale} $end $scope module top $end {vars} $upscope $end $enddefinitions $end\n"


def dump(tmp_path: Path, variables: str, body: str, scale: str = "1 us") -> Path:
    path = tmp_path / "a.vcd"
    path.write_text(HEAD.format(scale=scale, vars=variables) + body)
    return path


def wire(code: str, name: str, size: int = 1) -> str:
    return f"$var wire {size} {code} {name} $end"


@pytest.mark.parametrize(
    ("scale", "us"), [("1 s", 1e6), ("10 ms", 1e4), ("1us", 1.0), ("100 ns", 0.1), ("1 ps", 1e-6), ("10 fs", 1e-8)]
)
def test_any_timescale(tmp_path: Path, scale: str, us: float) -> None:
    (capture,) = vcd.read(dump(tmp_path, wire("!", "line"), "#0 0!\n#10 1!\n#40 0!\n#90 1!\n#95 0!\n", scale))
    assert capture.edges is not None
    assert capture.edges.times_us.tolist() == pytest.approx([10 * us, 40 * us, 90 * us, 95 * us])
    assert capture.channel_name == "top.line"


def turns(code: str, times: list[int]) -> dict[int, str]:
    return {t: f"{(i + 1) % 2}{code}" for i, t in enumerate(times)}


def test_of_many_signals_those_that_look_like_one(tmp_path: Path) -> None:
    changes: dict[int, list[str]] = {0: ["0!", '0"', "0#"]}
    for t in range(100, 4000, 100):
        changes.setdefault(t, []).append(f'{t // 100 % 2}"')  # a clock
    changes.setdefault(50, []).append("1#")  # a reset
    for t, text in turns("!", [500, 1100, 1700, 3300, 3500, 3550, 3700, 3900]).items():
        changes.setdefault(t, []).append(text)
    body = "".join(f"#{t} {' '.join(c)}\n" for t, c in sorted(changes.items()))
    (capture,) = vcd.read(dump(tmp_path, wire("!", "line") + wire('"', "clock") + wire("#", "reset"), body))
    assert capture.channel_name == "top.line"


@pytest.mark.parametrize(
    ("declared", "name"), [("ch 1", "top.ch_1"), ("IR  in", "top.IR_in"), ("the pin [0]", "top.the_pin[0]")]
)
def test_names_of_several_words_are_one(tmp_path: Path, declared: str, name: str) -> None:
    (capture,) = vcd.read(dump(tmp_path, wire("!", declared), "#0 0!\n#10 1!\n#40 0!\n#90 1!\n#95 0!\n"))
    assert capture.channel_name == name
    assert capture.edges is not None
    assert capture.edges.times_us.size == 4


def test_the_bits_of_a_bus_are_channels(tmp_path: Path) -> None:
    values = [0, 3, 2, 1, 3, 0, 2, 3, 0, 1, 3, 0, 1, 2, 0]
    steps = [7, 11, 3, 20, 9, 31, 4, 8, 15, 6, 27, 5, 13, 2, 9]
    body = "".join(f"#{t} b{v:b} !\n" for t, v in zip(np.cumsum(steps).tolist(), values, strict=True))
    captures = vcd.read(dump(tmp_path, wire("!", "pins [1:0]", 2), body))
    assert [capture.channel_name for capture in captures] == ["top.pins[0]", "top.pins[1]"]


def test_unknown_and_undriven_levels(tmp_path: Path) -> None:
    body = "#0 x!\n#5 1!\n#10 x!\n#15 0!\n#30 1!\n#40 z!\n#50 0!\n"
    (capture,) = vcd.read(dump(tmp_path, wire("!", "line"), body))
    assert capture.edges is not None
    assert capture.edges.times_us.tolist() == [15, 30, 50]
    (pulled,) = vcd.read(dump(tmp_path, wire("!", "line"), "#0 z!\n#5 0!\n#10 z!\n#15 0!\n#30 z!\n"))
    assert pulled.edges is not None
    assert pulled.edges.starts_high
    assert pulled.edges.times_us.tolist() == [5, 10, 15, 30]


def test_a_real_signal_is_cut_at_its_middle(tmp_path: Path) -> None:
    body = "#0 r0.1 !\n#10 r1.0 !\n#12 r3.2 !\n#20 r2.9 !\n#40 r0.2 !\n#60 r3.3 !\n"
    (capture,) = vcd.read(dump(tmp_path, "$var real 64 ! volts $end", body))
    assert capture.edges is not None
    assert capture.edges.times_us.tolist() == [12, 40, 60]


@pytest.mark.parametrize(
    ("variables", "body", "words"),
    [
        ("", "#0\n", "declares no"),
        (wire("!", "a"), "#0\n#5\n", "no level"),
        (wire("!", "a"), "#nonsense\n", "from here on"),
        (wire("!", "a", 80), "#0\n", "declares no"),
    ],
)
def test_what_is_wrong_is_told(tmp_path: Path, variables: str, body: str, words: str) -> None:
    with pytest.raises(InputError, match=words) as caught:
        vcd.read(dump(tmp_path, variables, body))
    assert "a.vcd" in str(caught.value)


def test_what_stands_before_the_damage_is_read(tmp_path: Path) -> None:
    body = "#0 0!\n#10 1!\n#40 0!\n#30 1!\n#95 0!\n"
    (capture,) = vcd.read(dump(tmp_path, wire("!", "line"), body))
    assert capture.edges is not None
    assert capture.edges.times_us.tolist() == [10, 40]
    assert "backwards" in capture.warnings[0]
    assert "line 5" in capture.warnings[0]


def test_what_is_written_is_read_back(tmp_path: Path, rng: np.random.Generator) -> None:
    pulses = pulses_from_signed(record([-700.0, *nec(3, 4, 2)], rng, jitter_us=11))
    vcd.write(tmp_path / "w.vcd", pulses)
    assert vcd.claims((tmp_path / "w.vcd").read_bytes()[:100], "")
    again, polarity = vcd.read(tmp_path / "w.vcd")[0].marks()
    assert polarity == "mark-high"
    np.testing.assert_allclose(again.durations_us, pulses.durations_us, atol=0.0011)
    assert again.start_us == pytest.approx(pulses.start_us, abs=0.001)


@given(st.text(alphabet='#0123456789 !xzbr.\n$end"', max_size=150))
def test_nothing_but_our_own_error_leaves_the_reader(text: str) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        try:
            for capture in vcd.read(dump(Path(folder), wire("!", "a") + wire('"', "b [3:0]", 4), text)):
                capture.marks()
        except InputError as error:
            assert str(error)
