"""Radio recordings, unstripped carriers: found, told apart, tuned to and read, in noise too."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import soundfile

from eager_tern.formats import iq
from eager_tern.formats.capture import Description, ReadOptions
from eager_tern.intake.files import FileTake, read_file
from eager_tern.protocol.loading import library
from eager_tern.signal.carrier import find_carrier, strip_carrier
from eager_tern.signal.values import Pulses, pulses_from_signed
from tests.handsets import distance_frame, join, nec, serial
from tests.radio import code_24, on_off, save_sigmf, two_tones, unstripped, with_noise

REST = -120_000.0


def sending(rng: np.random.Generator, count: int, unit_us: float, repeats: int = 1) -> tuple[list[float], list[str]]:
    signed, codes = [REST], []
    for _ in range(count):
        bits = rng.integers(0, 2, 24).tolist()
        codes.append("".join(map(str, bits)))
        signed += [*code_24(bits, unit_us, repeats), REST]
    return signed, codes


def codes_of(take: FileTake) -> list[str]:
    return ["".join(map(str, press.lead.best.bits)) for press in take.take.presses if press.lead.best is not None]


@pytest.mark.parametrize("datatype", ["cu8", "ci8", "ci16_le", "ci16_be", "cf32_le", "cf64_le"])
def test_every_sample_type(tmp_path: Path, rng: np.random.Generator, datatype: str) -> None:
    signed, codes = sending(rng, 2, 350)
    signal = with_noise(on_off(signed, 250_000, 31_000), rng, 250_000, 350, 30)
    (take,) = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, datatype), library())
    assert codes_of(take) == codes
    assert take.capture.keying == "ook"
    assert take.take.pulses.carrier_hz == pytest.approx(433_951_000, abs=150)
    assert take.capture.notes[0].text == "window shutter"
    assert not take.measured.faint


def test_two_tones_and_their_deviation(tmp_path: Path, rng: np.random.Generator) -> None:
    signed, codes = sending(rng, 3, 400)
    signal = with_noise(two_tones(signed, 250_000, -20_000, 15_000), rng, 250_000, 400, 25)
    takes = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cu8"), library())
    assert codes_of(takes[0]) == codes
    assert takes[0].capture.keying == "fsk"
    assert takes[0].capture.bursts[0].deviation_hz == pytest.approx(15_000, rel=0.02)


@pytest.mark.parametrize("deviation", [5_000, 20_000, 60_000])
def test_no_tone_is_weakened_by_what_keeps_the_others_out(
    tmp_path: Path, rng: np.random.Generator, deviation: float
) -> None:
    signed, codes = sending(rng, 2, 350)
    signal = with_noise(two_tones(signed, 1_000_000, 12_000, deviation), rng, 1_000_000, 350, 30)
    takes = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 1_000_000, "cf32_le"), library())
    assert codes_of(takes[0]) == codes
    assert takes[0].capture.bursts[0].level == pytest.approx(1.0, abs=0.1)


def test_a_carrier_turned_down_is_told_from_one_switched_off(tmp_path: Path, rng: np.random.Generator) -> None:
    signed, codes = sending(rng, 2, 400)
    signal = with_noise(on_off(signed, 250_000, 40_000, low=0.4), rng, 250_000, 400, 30)
    takes = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cf32_le"), library())
    assert takes[0].capture.keying == "ask"
    assert codes_of(takes[0]) == codes


def test_transmitters_come_apart(tmp_path: Path, rng: np.random.Generator) -> None:
    one, codes = sending(rng, 3, 350)
    other, other_codes = sending(rng, 3, 300)
    a, b = on_off(one, 250_000, 45_000), 0.6 * on_off(other, 250_000, -30_000)
    size = min(a.size, b.size)
    signal = with_noise(a[:size] + b[:size], rng, 250_000, 350, 30)
    takes = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "ci16_le"), library())
    assert sorted(codes_of(take) for take in takes) == sorted([codes, other_codes[: len(codes_of(takes[1]))]])
    assert len({take.capture.channel for take in takes}) == 2


@pytest.mark.parametrize(
    ("keying", "db", "rate", "datatype"), [("ook", 9.0, 250_000, "cu8"), ("fsk", 6.6, 250_000, "cf32_le")]
)
def test_half_of_the_faint_frames_are_read(
    tmp_path: Path, rng: np.random.Generator, keying: str, db: float, rate: int, datatype: str
) -> None:
    signed, codes = sending(rng, 8, 350)
    clean = on_off(signed, rate, 31_234) if keying == "ook" else two_tones(signed, rate, 31_234, 20_000)
    signal = with_noise(clean, rng, rate, 350, db)
    takes = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, rate, datatype), library())
    assert len(set(codes_of(takes[0])) & set(codes)) >= 4
    mended = [frame.mended for frame in takes[0].take.frames]
    assert any("too faint" in words for words in mended)


def test_a_tone_before_and_behind_the_bits_is_none_of_them(tmp_path: Path, rng: np.random.Generator) -> None:
    """The lower tone rests on behind the sync mark, where it looks like a bit's space."""
    signed, codes = sending(rng, 6, 350)
    signal = with_noise(two_tones(signed, 250_000, -15_000, 5_000), rng, 250_000, 350, 8.0)
    takes = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cu8"), library())
    assert len(set(codes_of(takes[0])) & set(codes)) >= 5


def test_nothing_is_found_in_noise(tmp_path: Path, rng: np.random.Generator) -> None:
    signal = with_noise(np.zeros(500_000), rng, 250_000, 350, 10)
    takes = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cu8"), library())
    assert not any(take.take.frames for take in takes)


def test_bare_samples_with_type_and_rate(tmp_path: Path, rng: np.random.Generator) -> None:
    signed, codes = sending(rng, 1, 350)
    signal = with_noise(on_off(signed, 250_000, 31_000), rng, 250_000, 350, 30)
    pair = save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cu8")
    raw = tmp_path / "bare.cu8"
    raw.write_bytes(pair.with_suffix(".sigmf-data").read_bytes())
    (take,) = read_file(raw, library(), ReadOptions(samples=Description("cu8", 250_000)))
    assert codes_of(take) == codes


def test_what_is_written_is_read_back(tmp_path: Path, rng: np.random.Generator) -> None:
    pulses = pulses_from_signed(np.array([-9000.0, *nec(0x5B, 0x16, 1)]) + rng.uniform(-20, 20, 1 + len(nec(1, 1, 1))))
    iq.write(tmp_path / "w.sigmf-meta", pulses)
    (take,) = read_file(tmp_path / "w.sigmf-data", library())
    np.testing.assert_allclose(take.take.pulses.durations_us, pulses.durations_us, atol=2.0)
    import sigmf

    sigmf.fromfile(str(tmp_path / "w.sigmf-meta")).validate()


@pytest.mark.parametrize(
    ("rate", "carrier", "duty"), [(250_000, 38_000, 0.33), (200_000, 36_000, 0.5), (384_000, 56_000, 0.25)]
)
def test_an_unstripped_carrier(tmp_path: Path, rng: np.random.Generator, rate: int, carrier: int, duty: float) -> None:
    signed = [-100e3, *nec(0x21, 0x35), -100e3]
    line = 0.8 * unstripped(signed, rate, carrier, duty) + rng.normal(0, 0.01, int(sum(map(abs, signed)) * rate / 1e6))
    soundfile.write(tmp_path / "a.wav", line - line.mean(), rate, subtype="PCM_16")
    (take,) = read_file(tmp_path / "a.wav", library())
    assert take.take.presses[0].lead.best is not None
    assert take.take.presses[0].lead.best.fields == {"address": 0x21, "command": 0x35}
    assert take.take.pulses.carrier_hz == pytest.approx(carrier, rel=0.002)
    assert take.capture.duty == pytest.approx(duty, abs=0.05)
    truth = np.abs(join(nec(0x21, 0x35)))[:-1]
    assert np.abs(take.take.frames[0].pulses.durations_us - truth).max() < 1e6 / carrier


def test_the_carrier_of_a_logic_recording(rng: np.random.Generator) -> None:
    period = 1e6 / 38_000
    signed: list[float] = []
    for d in join(nec(3, 4)):
        cycles = round(d / period)
        signed += [period / 3, -period * 2 / 3] * cycles if d > 0 else [d]
    pulses = pulses_from_signed(np.array(signed) + rng.normal(0, 0.3, len(signed)))
    stripped, carrier = strip_carrier(pulses)
    assert carrier is not None
    assert carrier.frequency_hz == pytest.approx(38_000, rel=0.002)
    assert carrier.duty == pytest.approx(1 / 3, abs=0.02)
    assert np.abs(stripped.durations_us - np.abs(join(nec(3, 4)))[:-1]).max() < period
    assert find_carrier(Pulses(np.abs(join(nec(3, 4)))[:-1])) is None


@pytest.mark.parametrize("unit", [264.0, 450.0])
def test_two_tones_of_which_one_is_sent_seldom_or_alone_at_first(
    tmp_path: Path, rng: np.random.Generator, unit: float
) -> None:
    """Marks far apart leave the higher tone weak; a long leader is sent before the lower tone is heard at all."""
    leader, spaces = ([], (3, 7)) if unit < 300 else ([9000.0, -4500.0], (1, 3))
    signed, codes = [REST], []
    for _ in range(3):
        bits = rng.integers(0, 2, 32).tolist()
        codes.append("".join(map(str, bits)))
        signed += [*distance_frame(leader, unit, spaces, bits), REST]
    signal = with_noise(two_tones(signed, 250_000, 12_000, 15_000), rng, 250_000, unit, 30)
    (take,) = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "ci16_le"), library())
    assert take.capture.keying == "fsk"
    assert codes_of(take) == codes


def test_short_marks_of_one_carrier_are_no_second_tone_and_make_no_second_transmitter(
    tmp_path: Path, rng: np.random.Generator
) -> None:
    """Keying has sidebands; and behind the end of a recording there is no noise to judge by."""
    for seconds in (0.0, 0.013, 0.8):
        signed, codes = sending(rng, 3, 258, 5)
        signal = with_noise(on_off([*signed, -1e6 * seconds - 1], 250_000, 12_634), rng, 250_000, 258, 27)
        (take,) = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cf32_le"), library())
        assert take.capture.keying == "ook"
        assert codes_of(take) == codes


def test_what_stands_clear_of_the_noise_is_never_guessed(tmp_path: Path, rng: np.random.Generator) -> None:
    """Slow characters have spaces as long as gaps: the pieces read badly, but no pulse is in doubt."""
    sent = [rng.integers(0, 256, 6).tolist() for _ in range(3)]
    signed = [REST, *(d for data in sent for d in [*serial(data, 300)[:-1], -150_000.0])]
    signal = with_noise(on_off(signed, 250_000, -8_000), rng, 250_000, 3333, 45)
    (take,) = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cu8"), library())
    assert [list(p.lead.best.fields["bytes"]) for p in take.take.presses if p.lead.best is not None] == sent
    assert not take.measured.faint


def cheaply_received(signal: np.ndarray, constant: complex) -> np.ndarray:
    """A constant from the receiver's own oscillator, and two channels that are not quite alike."""
    return 1.03 * signal.real + 1j * (signal.imag + 0.03 * signal.real) + constant


@pytest.mark.parametrize(
    ("keying", "offset", "constant", "db"), [("ook", 3_000, 0.2 + 0.1j, 32), ("fsk", -36_000, 0.12 + 0.06j, 41)]
)
def test_what_a_cheap_receiver_adds_is_no_transmitter(
    tmp_path: Path, rng: np.random.Generator, keying: str, offset: float, constant: complex, db: float
) -> None:
    signed, codes = sending(rng, 3, 350, 4)
    sent = on_off(signed, 250_000, offset) if keying == "ook" else two_tones(signed, 250_000, offset, 10_600)
    signal = cheaply_received(with_noise(sent, rng, 250_000, 350, db), constant)
    (take,) = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cu8"), library())
    assert take.capture.keying == keying
    assert codes_of(take) == codes


def test_a_question_and_its_answer_on_a_neighbouring_frequency_are_no_two_tones(
    tmp_path: Path, rng: np.random.Generator
) -> None:
    """They take turns, but only once."""
    signed, codes = sending(rng, 1, 430, 6)
    sent = on_off(signed, 250_000, 31_000)
    at = np.arange(sent.size)
    later = at > 0.5 * (at[np.abs(sent) > 0][0] + at[np.abs(sent) > 0][-1])
    answered = sent * np.exp(2j * np.pi * np.where(later, 3_300, 0) * at / 250_000)
    signal = with_noise(answered, rng, 250_000, 430, 40)
    takes = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cf32_le"), library())
    assert {take.capture.keying for take in takes} == {"ook"}
    assert set(codes) == {code for take in takes for code in codes_of(take)}


@pytest.mark.parametrize(
    ("baud", "offset", "deviation", "db"),
    [(19_200, -50_000, 33_000, 28), (17_241, 10_000, 60_000, 20), (9_600, -30_000, 30_000, 20)],
)
def test_two_tones_that_change_places_quickly(
    tmp_path: Path, rng: np.random.Generator, baud: float, offset: float, deviation: float, db: float
) -> None:
    """Packets of bits, as sensors send them: a spectrum shows no two tones."""
    signed, packets = [REST], []
    for _ in range(4):
        bits = [*[1, 0] * 16, 0, 0, 1, 0, 1, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 0, *rng.integers(0, 2, 55).tolist(), 1]
        packets.append("".join(map(str, bits)))
        signed += [*join([1e6 / baud if bit else -1e6 / baud for bit in bits]).tolist(), REST]
    signal = with_noise(two_tones(signed, 250_000, offset, deviation), rng, 250_000, 1e6 / baud, db)
    (take,) = read_file(save_sigmf(tmp_path / "a.sigmf-meta", signal, 250_000, "cf32_le"), library())
    assert take.capture.keying == "fsk"
    assert codes_of(take) == packets
    assert take.capture.bursts[0].deviation_hz == pytest.approx(deviation, rel=0.03)
