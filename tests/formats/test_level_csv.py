"""Level CSV: samples or changes, levels or volts, whatever the header calls the time."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.errors import InputError
from eager_tern.formats import level_csv
from eager_tern.formats.level_csv import claims, read
from tests.files import write_changes_csv, write_samples_csv
from tests.handsets import IDLE_US, nec, record


def text_file(tmp_path: Path, text: str) -> Path:
    path = tmp_path / "levels.csv"
    path.write_text(text)
    return path


@pytest.mark.parametrize(
    ("header", "factor"),
    [("time_s", 1e6), ("time_ms", 1e3), ("time_us", 1.0), ("time_ns", 1e-3), ("Time [s]", 1e6), ("Time(ms)", 1e3),
     ("t_us", 1.0), ("time (µs)", 1.0), ("TIME [NS]", 1e-3)],
)  # fmt: skip
def test_the_time_column_names_its_unit(tmp_path: Path, header: str, factor: float) -> None:
    path = text_file(tmp_path, f"{header},line\n0,0\n100,1\n300,0\n900,0\n")
    (capture,) = read(path)
    assert capture.edges is not None
    assert capture.edges.times_us.tolist() == pytest.approx([100 * factor, 300 * factor])
    assert capture.sample_rate_hz is None


@pytest.mark.parametrize("unit", ["s", "ms", "us", "ns"])
@pytest.mark.parametrize("mark", [0, 1])
def test_changes_give_the_pulses_back(tmp_path: Path, rng: np.random.Generator, unit: str, mark: int) -> None:
    signed = record([-IDLE_US, *nec(3, 4), -IDLE_US], rng, jitter_us=20)
    write_changes_csv(tmp_path / "c.csv", signed, unit, mark)
    pulses, polarity = read(tmp_path / "c.csv")[0].marks()
    assert polarity == ("mark-high" if mark else "mark-low")
    np.testing.assert_allclose(pulses.durations_us, np.abs(signed[1:-1]), atol=0.01)


def test_samples_of_volts_are_interpolated(tmp_path: Path, rng: np.random.Generator) -> None:
    signed = record([-IDLE_US, *nec(3, 4), -IDLE_US], rng)
    write_samples_csv(tmp_path / "v.csv", signed, 100_000, 0.15, 3.25)
    (capture,) = read(tmp_path / "v.csv")
    assert capture.sample_rate_hz == pytest.approx(100_000, rel=1e-4)
    pulses, polarity = capture.marks()
    assert polarity == "mark-low"
    np.testing.assert_allclose(pulses.durations_us, np.abs(signed[1:-1]), atol=11)


def test_each_column_is_a_channel(tmp_path: Path) -> None:
    path = text_file(tmp_path, "time_us;a;b\n0;0;1\n10,5;1;1\n20,5;0;0\n50;0;0\n")
    one, other = read(path)
    assert (one.channel, other.channel) == (0, 1)
    assert one.edges is not None
    assert other.edges is not None
    assert one.edges.times_us.tolist() == [10.5, 20.5]
    assert other.edges.times_us.tolist() == [20.5]
    assert other.edges.starts_high


def test_quotes_comments_and_tabs_are_borne(tmp_path: Path) -> None:
    path = text_file(tmp_path, '# from the bench\n"Time [s]"\t"Channel 0"\n0\t0\n1\t1\n2\t0\n')
    (capture,) = read(path)
    assert capture.edges is not None
    assert capture.edges.times_us.size == 2


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("level,volts\n0,1\n1,2\n", "line 1", "no time column"),
        ("time,level\n0,1\n1,0\n", "line 1", "does not name its unit"),
        ("time_us,level\n# none\n", "", "no rows"),
        ("time_us,level\n", "", "no rows"),
        ("time_us,level\n0,1\n5,q\n9,1\n", "line 3", "'q'"),
        ("time_us,level\n0,1\n5\n9,1\n", "line 3", "columns"),
        ("time_us,level\n0,1\n5,nan\n9,1\n", "line 3", "not finite"),
        ("time_us,level\n0,1\ninf,1\n9,1\n", "line 3", "not finite"),
        ("time_us,level\n0,1\n9,0\n5,1\n", "line 4", "backwards"),
        ("time_us,time_ms\n0,1\n", "", ""),
        ("0,1\n10,0\n20,1\n30,0\n40,1\n", "line 1", "no header"),
    ],
)
def test_what_is_wrong_is_told_with_its_line(tmp_path: Path, text: str, place: str, words: str) -> None:
    path = text_file(tmp_path, text)
    assert claims(text.encode(), "")
    if not words:
        assert len(read(path)) == 1
        return
    with pytest.raises(InputError) as caught:
        read(path)
    assert words in caught.value.reason
    assert caught.value.place == place


@pytest.mark.parametrize(
    "text", ["9012, 4480, 560", "+9012 -4480", "mark 9012\nspace 3", "/* Keys of x: 3, y */\n", "RIFF"]
)
def test_timing_text_is_not_taken_for_a_table(text: str) -> None:
    assert not claims(text.encode(), "")


@given(st.text(alphabet='0123456789.,;\t\n time_us-+eE"#', max_size=120))
def test_nothing_but_our_own_error_leaves_the_reader(text: str) -> None:
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "f.csv"
        path.write_text("time_us,a\n" + text)
        try:
            for capture in read(path):
                capture.marks()
        except InputError as error:
            assert str(path) in str(error)


def test_what_is_written_is_read_back_exactly(tmp_path: Path, rng: np.random.Generator) -> None:
    from eager_tern.signal.values import pulses_from_signed

    pulses = pulses_from_signed(record([-700.0, *nec(3, 4, 2)], rng, jitter_us=11))
    level_csv.write(tmp_path / "w.csv", pulses)
    again, polarity = read(tmp_path / "w.csv")[0].marks()
    assert polarity == "mark-high"
    np.testing.assert_allclose(again.durations_us, pulses.durations_us, rtol=0, atol=1e-6)
    assert again.start_us == pytest.approx(pulses.start_us)


@pytest.mark.parametrize(
    ("text", "times", "warned"),
    [
        ("Time,Channel A\n(ms),(V)\n\n0,0.1\n1,3.2\n2,0.1\n", [1000, 2000], False),
        ('"Zeit [s]";"Kanal 1"\r\n"0,0";"0"\r\n"1,5e-3";"1"\r\n"2e-3";"0"\r\n', [1500, 2000], False),
        ("Model,ABC\nSampling,1e6\nSource,CH1\nSecond,Volt\n0,0\n1e-6,3\n2e-6,3\n3e-6,0\n", [1, 3], False),
        ("Time [s],D0\n0,LOW\n0.1,HIGH\n0.2,LOW\n0.3,HI", [100_000, 200_000], True),
        ("\ufeffTimestamp [ns],a\n0,0\n5000,1\n9000,0\n", [5, 9], False),
        ("t/us|a\n0|0\n5|1\n9|0\n", [5, 9], False),
        ("time_us,a\n0,0\n5,1\n7,x\n9,0\n", [5, 9], False),
        ("Time [s],0,1\n0,0,1\n5e-6,1,1\n9e-6,0,1\n", [5, 9], False),
        ("Source,CH1\nSample Interval,2e-06\n\nTIME,CH1\n0,0\n2e-6,3\n4e-6,3\n6e-6,0\n", [2, 6], False),
        ("Sample interval,2 us\nTIME,CH1\n0,0\n2,3\n4,3\n6,0\n", [2, 6], False),
        ("# Time: now\nTime[s], Channel 0\n0.000000000, 1\n0.001, 0\n0.002, 1", [1000, 2000], False),
    ],
)
def test_dialects(tmp_path: Path, text: str, times: list[float], warned: bool) -> None:
    path = tmp_path / "d.csv"
    path.write_text(text, newline="")
    capture = read(path)[0]
    assert capture.edges is not None
    assert capture.edges.times_us.tolist() == pytest.approx(times)
    assert bool(capture.warnings) == warned


def test_an_empty_cell_keeps_the_level(tmp_path: Path) -> None:
    first, second = read(text_file(tmp_path, "time_us\tD0\tD1\n0\t0\t1\n10\t1\t\n20\t\t0\n30\t0\t1\n"))
    assert first.edges is not None
    assert second.edges is not None
    assert first.edges.times_us.tolist() == [10, 30]
    assert second.edges.times_us.tolist() == [20, 30]
    assert (first.channel_name, second.channel_name) == ("D0", "D1")


def test_an_old_programs_micro_sign(tmp_path: Path) -> None:
    path = tmp_path / "old.csv"
    path.write_bytes("Time(µs);a\n0;0\n5;1\n9;0\n".encode("latin-1"))
    (capture,) = read(path)
    assert capture.edges is not None
    assert capture.edges.times_us.tolist() == [5, 9]
