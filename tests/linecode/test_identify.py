"""Line codes found from frames alone."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from eager_tern.linecode.clock import expected_durations, fit_clock
from eager_tern.linecode.clusters import find_clusters, split_in_two
from eager_tern.linecode.identify import identify
from eager_tern.linecode.likelihood import probabilities
from eager_tern.linecode.runs import parsed
from eager_tern.signal.order import quantile
from eager_tern.signal.values import Pulses, pulses_from_signed
from tests.handsets import nec, rc5, record, sony


def distance_frame(bits: list[int], unit: float, leader: tuple[float, float] | None = None) -> np.ndarray:
    """Pulse distance with ratios no handset of the library has."""
    signed = [leader[0] * unit, -leader[1] * unit] if leader else []
    for bit in bits:
        signed += [unit, -(4 if bit else 2) * unit]
    return np.array([*signed, unit])


def duty_frame(bits: list[int], unit: float) -> np.ndarray:
    """A fixed period, a long mark and a short space or the other way round."""
    signed: list[float] = []
    for bit in bits:
        signed += [(3 if bit else 1) * unit, -(1 if bit else 3) * unit]
    return np.array(signed)


BITS = [1, 0, 0, 1, 1, 1, 0, 1, 0, 0, 1, 0, 1, 1, 0, 0, 1, 0, 1, 1, 1, 0, 0, 0]


@pytest.mark.parametrize("unit", [180.0, 400.0, 900.0])
@pytest.mark.parametrize("excess", [-0.2, 0.0, 0.2])
def test_an_unknown_pulse_distance_code(rng: np.random.Generator, unit: float, excess: float) -> None:
    for leader in (None, (10.0, 5.0)):
        signed = distance_frame(BITS, unit, leader)
        d = np.abs(record(list(signed), rng, jitter_us=0.04 * unit, excess_us=excess * unit))
        best = identify(Pulses(d))[0]
        assert best.code == "pulse-distance"
        assert best.bits.tolist() == BITS
        assert best.leader == (2 if leader else 0)
        assert best.probability > 0.9


@pytest.mark.parametrize("unit", [250.0, 500.0])
def test_an_unknown_duty_code_is_pulse_width(rng: np.random.Generator, unit: float) -> None:
    pulses = pulses_from_signed(record(list(duty_frame(BITS, unit)), rng, jitter_us=0.04 * unit))
    best = identify(pulses)[0]
    assert best.code == "pulse-width"
    assert best.bits.tolist()[: len(BITS) - 1] == BITS[:-1]
    assert best.clock.unit_us == pytest.approx(unit, rel=0.04)


@pytest.mark.parametrize(
    ("signed", "code", "unit"),
    [
        (nec(0x5B, 0x16), "pulse-distance", 562.5),
        (sony(0x55, 21, 1), "pulse-width", 600.0),
        (rc5(14, 0x2A, 1), "biphase", 889),
    ],
)
@pytest.mark.parametrize("excess", [-90.0, 90.0])
def test_unit_and_excess_come_out_apart(
    rng: np.random.Generator, signed: list[float], code: str, unit: float, excess: float
) -> None:
    pulses = pulses_from_signed(record(signed, rng, jitter_us=20, excess_us=excess, clock=1.07))
    best = identify(pulses)[0]
    assert best.code == code
    assert best.clock.unit_us == pytest.approx(unit * 1.07, rel=0.02)
    assert best.clock.excess_us == pytest.approx(excess, abs=25)


@pytest.mark.parametrize(("ratio", "whole"), [(3.3, True), (3.5, False)])
def test_lengths_far_from_whole_units_are_what_they_measure(
    rng: np.random.Generator, ratio: float, whole: bool
) -> None:
    """Half a unit is no error of a receiver's; a ruler of whole units would lie beside every pulse."""
    signed = [d for bit in BITS * 2 for d in (500.0, -500.0 * (ratio if bit else 1))]
    best = identify(pulses_from_signed(record([*signed, 500.0], rng, jitter_us=5)))[0]
    assert best.bits.tolist() == BITS * 2
    assert (best.clock.rms_us > 20) == whole


def test_the_runner_up_is_given_with_its_probability(rng: np.random.Generator) -> None:
    found = identify(pulses_from_signed(record(sony(0x55, 21, 1), rng, jitter_us=30)))
    assert sum(reading.probability for reading in found) <= 1.0 + 1e-9
    assert [r.probability for r in found] == sorted((r.probability for r in found), reverse=True)


@pytest.mark.parametrize("kind", ["exponential", "uniform", "lognormal"])
def test_random_pulses_are_no_code(rng: np.random.Generator, kind: str) -> None:
    invented = 0
    for _ in range(80):
        size = int(rng.integers(4, 40)) * 2 + 1
        d = {
            "exponential": rng.exponential(400, size) + 40,
            "uniform": rng.uniform(60, 900, size),
            "lognormal": np.exp(rng.normal(6, 0.7, size)),
        }[kind]
        invented += bool(identify(Pulses(d)))
    assert invented == 0


def test_a_bit_knows_where_it_stands(rng: np.random.Generator) -> None:
    pulses = pulses_from_signed(record(list(distance_frame(BITS, 400.0, (10, 5))), rng))
    best = identify(pulses)[0]
    spans = best.bit_spans_us
    assert spans.shape == (len(BITS), 2)
    assert spans[0, 0] == pytest.approx(6000.0)
    assert np.all(spans[1:, 0] >= spans[:-1, 1] - 1e-6)
    assert spans[-1, 1] <= pulses.duration_us + 1e-6


def test_a_few_pulses_tell_nothing() -> None:
    assert identify(Pulses(np.array([9000.0, 2250.0, 560.0]))) == ()


@given(st.floats(100, 2000), st.floats(-0.3, 0.3), st.lists(st.integers(1, 8), min_size=9, max_size=60))
def test_the_clock_is_what_made_the_pulses(unit: float, part: float, lengths: list[int]) -> None:
    from eager_tern.linecode.values import Clock

    units = np.array(lengths, dtype=float)
    made = expected_durations(Clock(unit, part * unit, 0.0), units)
    fitted = fit_clock(made, units)
    assert fitted.unit_us == pytest.approx(unit, rel=0.03)
    np.testing.assert_allclose(expected_durations(fitted, units), made, atol=0.06 * unit)


def test_pulses_of_unknown_length_do_not_pull_the_clock() -> None:
    clock = fit_clock(np.array([500.0, 20_000.0, 500.0, 1000.0, 500.0]), np.array([1.0, np.nan, 1.0, 2.0, 1.0]))
    assert clock.unit_us == pytest.approx(500.0, rel=0.01)
    with pytest.raises(ValueError, match="known length"):
        fit_clock(np.array([500.0]), np.array([np.nan]))


def test_clusters_are_counted() -> None:
    found = find_clusters(np.array([560.0, 570.0, 1680.0, 550.0, 9000.0, 1700.0]))
    assert [(round(c.centre_us), c.count) for c in found] == [(560, 3), (1690, 2), (9000, 1)]
    assert find_clusters(np.empty(0)) == []


@given(st.lists(st.floats(50, 9000), min_size=1, max_size=40), st.floats(0, 1))
def test_a_quantile_is_numpys(lengths: list[float], part: float) -> None:
    assert quantile(np.array(lengths), part) == pytest.approx(float(np.quantile(lengths, part)))


def test_the_bound_lies_between_short_and_long() -> None:
    assert 600 < split_in_two(np.array([500.0, 520.0, 540.0, 1500.0, 1580.0])) < 1500
    assert np.isnan(split_in_two(np.array([7.0, 7.0, 7.0])))


def test_probabilities_add_up() -> None:
    assert sum(probabilities([-1000.0, -1001.0, -2000.0])) == pytest.approx(1.0)
    assert probabilities([]) == []


def three_lengths(symbols: str, unit: float, leader: tuple[float, float]) -> list[float]:
    """A leader, and spaces of one, three and five units for the digits 0 to 2."""
    pulses = list(leader)
    for symbol in symbols:
        pulses += [unit, unit * (1 + 2 * int(symbol))]
    return [*pulses, unit]


@pytest.mark.parametrize("symbols", ["10011101221111121102", "10011101221122201212", "010100001020"])
def test_a_third_symbol_may_stand_seldom(rng: np.random.Generator, symbols: str) -> None:
    frame = three_lengths(symbols, 400.0, (3200.0, 2400.0))
    best = identify(Pulses(np.array(frame) + rng.normal(0, 10, len(frame)), 0.0))[0]
    assert (best.code, best.symbols, best.symbol_bits) == ("pulse-distance", 3, 2)
    numbers = best.bits.reshape(-1, 2) @ (2, 1)
    assert "".join(map(str, numbers.tolist())) == symbols


def test_a_silence_between_copies_is_no_symbol(rng: np.random.Generator) -> None:
    copy = three_lengths("200202122112", 457.0, (4570.0, 1828.0))
    signed = [*copy, 8300.0] * 9 + copy
    best = parsed(np.array(signed) + rng.normal(0, 12, len(signed)))[0]
    assert [(row.line.symbols, row.line.bits.size) for row in best.rows] == [(3, 24)] * 10


@pytest.mark.parametrize("size", [16, 18, 22, 26])
def test_a_short_mark_behind_an_even_number_of_bits_is_a_sync(rng: np.random.Generator, size: int) -> None:
    bits = rng.integers(0, 2, size).tolist()
    bits[:2] = [0, 1]
    frame = [length for bit in bits for length in ((3, 1) if bit else (1, 3))]
    best = identify(Pulses(np.array([*frame, 1]) * 400.0 + rng.normal(0, 10, len(frame) + 1), 0.0))[0]
    assert (best.code, best.bits.tolist()) == ("pulse-width", bits)
