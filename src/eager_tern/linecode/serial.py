"""Asynchronous serial: a start bit (a mark), data bits with the lowest first, parity, stop bits (a space)."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from functools import lru_cache
from itertools import pairwise
from math import gcd, log, sqrt, tau

import numpy as np
from msgspec import Struct
from msgspec.structs import replace
from numpy.typing import NDArray

from eager_tern.linecode.closeness import CLEAN
from eager_tern.linecode.likelihood import LN2, any_pulse_score, parameter_cost, probabilities, timing_score
from eager_tern.linecode.serial_grid import FACTORS, CharacterGrid, clocks_about, on_known_grid, on_serial_grid, rms_of
from eager_tern.linecode.values import Bits, Clock, Framing, LineReading, Parity, character_length
from eager_tern.signal.assumed import SPEED_SIGMA
from eager_tern.signal.order import quantile
from eager_tern.signal.values import Floats

FEWEST_PULSES = 7
# Baud, of hobby gadgets; the fastest are read only where somebody says so.
SPEEDS = (75, 100, 110, 150, 200, 300, 600, 1200, 2400, 4800, 9600, 19_200, 38_400, 57_600, 115_200)
LOG_UNITS = tuple(log(1e6 / speed) for speed in SPEEDS)  # µs
UNUSUAL_SPEED = 0.003  # how often it is another one
FEWEST_CHARACTERS = 2
# Characters beside bits that only last as long, in nats. There a mark follows a stop bit in one case of two.
USUAL_SPEED = 1.7  # a speed within its senders' error of one of the usual ones
PRICE_OF_LENGTH = 2.8  # nats: one of some seven lengths, and how often it comes
SELDOMER = -1.0  # characters are than packets of bits, Morse and codes of several lengths together
AT_ONCE = float(np.log(0.9 / 0.5))  # how a character follows another in most gadgets
WHOLE_REST = float(np.log(0.02 / 0.5))  # after some bits, and each time others: at least
OTHER_REST = 2.0  # after a time that is no number of bits: at most
OF_A_REST = 3.0  # times what an edge errs: two edges bound it, and errors add up along the character between them
LEAST_ERR = 0.03  # of a bit: what looks more exact happens to
CLEARLY_ODD = 4.0  # nats: two rests at least that no code of whole bits has
LEVELS = re.compile(rb"\x01+|\x00+")  # one after the other
RUN_IN = 8  # equal lengths in a row
UNITS_US = (95.0, 11_000.0)  # 10,500 to 91 baud: the usual speeds, and a little
SHORT_PART = 0.12  # of the marks and of the spaces: these have one bit
PARTS = (1.0, 1.5, 2.0, 2.5, 3.0)  # what the shortest mark and the shortest space may be, in bits, on the average
COARSEST = 0.3  # of a unit: durations err more than the edges' places do
PARITIES: tuple[tuple[Parity, float], ...] = (("none", 1.0), ("even", 0.06), ("odd", 0.03))
# How usual a framing is.
USUAL: dict[Framing, float] = {
    (data, parity, stop): float(np.log(of_data * of_parity * of_stop))
    for data, of_data in ((8, 0.85), (7, 0.1), (6, 0.02), (5, 0.03))
    for parity, of_parity in PARITIES
    for stop, of_stop in ((1, 1.0), (2, 0.1))
}


class Characters(Struct, frozen=True, gc=False):
    """Data bits in the order sent, and where each stands."""

    bits: Bits
    bit_spans_us: Floats


def characters(placed: CharacterGrid, data_bits: int, parity: str, stop_bits: int) -> Characters | None:
    """The data bits, if start, parity and stop bits are what they should be in every character."""
    levels = placed.levels
    data = ~levels[:, 1 : 1 + data_bits]
    if levels[:, levels.shape[1] - stop_bits :].any() or not levels[:, 0].all():
        return None
    if parity != "none":
        odd = data.sum(axis=1) % 2 == 1
        sent = ~levels[:, 1 + data_bits]
        if not (sent == (odd if parity == "even" else ~odd)).all():
            return None
    bounds = 1 + np.arange(data_bits)[:, None] + np.array([0, 1])
    spans = placed.starts_us[:, None, None] + bounds * placed.clock.unit_us
    return Characters(data.astype(np.uint8).ravel(), spans.reshape(-1, 2))


def character_levels(bits: Bits, framing: Framing) -> NDArray[np.bool_]:
    """Data bits as characters, shape (characters, bits of one): True in a mark (a 0, a start bit)."""
    data, parity, stop = framing
    rows = bits.reshape(-1, data).astype(bool)
    start, odd = np.ones((len(rows), 1), bool), rows.sum(axis=1, keepdims=True) % 2 == 1
    check = {"none": rows[:, :0], "even": ~odd, "odd": odd}[parity]
    return np.hstack((start, ~rows, check, np.zeros((len(rows), stop), bool)))


def async_serial(durations_us: Floats, unit_us: float | None = None) -> LineReading | None:
    """The likeliest speed and framing of the pulses, None where they are no characters.

    ``unit_us`` is about how long a bit is, where somebody knows.
    """
    return max(serial_readings(durations_us, unit_us).values(), key=lambda r: r.score, default=None)


def serial_readings(durations_us: Floats, unit_us: float | None = None) -> Mapping[Framing, LineReading]:
    """The likeliest reading in each framing in which the pulses are characters."""
    return _serial_readings(durations_us.tobytes(), unit_us)


@lru_cache(maxsize=1024)  # a frame by itself, among others of its line code, and among those of its framing
def _serial_readings(durations: bytes, unit_us: float | None) -> Mapping[Framing, LineReading]:
    durations_us = np.frombuffer(durations)
    best: dict[Framing, LineReading] = {}
    if durations_us.size < FEWEST_PULSES:
        return best
    shortest = float(_shortest(durations_us))
    for part in PARTS if unit_us is None else (shortest / unit_us,):
        unit = shortest / part
        if unit_us is None and not UNITS_US[0] * 0.8 < unit < UNITS_US[1] * 1.2:
            continue
        if not (clocks := clocks_about(durations_us, unit)):
            continue
        for length, placed in on_serial_grid(durations_us, clocks, range(7, 13)).items():
            if rms_of(placed.clock) > COARSEST:
                continue
            for framing in USUAL:
                if character_length(framing) != length:
                    continue
                if (line := _as_lines(durations_us[None], [placed], framing)[0]) is None:
                    continue
                score = line.score - part * LN2
                if framing not in best or score > best[framing].score:
                    best[framing] = replace(line, score=score)
        if any(rms_of(reading.clock) < CLEAN for reading in best.values()):
            break  # a finer grid would fit whatever it is
    return best


def read_at(durations_us: Floats, clock: Clock, framing: Framing) -> list[LineReading | None]:
    """Each of several frames, shape (frames, pulses), as characters of a framing whose clock is about known; None for
    those that are none.
    """
    read: list[LineReading | None] = [None] * len(durations_us)
    if durations_us.shape[1] < FEWEST_PULSES:
        return read
    in_bits = _shortest(durations_us) / clock.unit_us
    rows = np.flatnonzero((in_bits > PARTS[0] / FACTORS[-1]) & (in_bits < PARTS[-1] / FACTORS[0]))
    if rows.size == 0:
        return read
    some = durations_us[rows]
    lines = _as_lines(some, on_known_grid(some, clock, character_length(framing)), framing)
    for row, line in zip(rows.tolist(), lines, strict=True):
        read[row] = line
    return read


def _shortest(durations_us: Floats) -> Floats:
    """What the short marks and spaces last on the average, shape (..., n) to (...): a bit, or a few."""
    marks, spaces = (quantile(durations_us[..., of::2], SHORT_PART) for of in (0, 1))
    shortest: Floats = (marks + spaces) / 2
    return shortest


def _as_lines(
    durations_us: Floats, placed: Sequence[CharacterGrid | None], framing: Framing
) -> list[LineReading | None]:
    """Characters that stand on grids as readings of frames, shape (frames, pulses); None where they are not framed
    so.
    """
    lines: list[LineReading | None] = [None] * len(placed)
    read: dict[bytes, list[tuple[int, CharacterGrid, Characters]]] = {}  # by where the silences are
    for row, grid in enumerate(placed):
        said = characters(grid, *framing) if grid is not None else None
        if grid is not None and said is not None and said.bits.size >= FEWEST_CHARACTERS * framing[0]:
            read.setdefault(np.isnan(grid.expected_us).tobytes(), []).append((row, grid, said))
    for alike in read.values():
        d, expected = durations_us[[row for row, *_ in alike]], np.array([grid.expected_us for _, grid, _ in alike])
        scores = timing_score(d - expected) + any_pulse_score(d[:, np.isnan(expected[0])])
        scores += [USUAL[framing] + _usual_speed(grid.clock.unit_us) for _, grid, _ in alike]
        scores -= parameter_cost(3, d.shape[1])
        for (row, grid, said), score in zip(alike, scores.tolist(), strict=True):
            lines[row] = LineReading(
                "async-serial", grid.clock, said.bits, said.bit_spans_us, grid.expected_us, 0,
                score - said.bits.size * LN2, symbol_bits=framing[0], framing=framing,
            )  # fmt: skip
    return lines


def _usual_speed(unit_us: float) -> float:
    """Nats for bits of this length: senders keep to the usual speeds, within what their clocks and receivers err."""
    at = log(unit_us)
    off = min(abs(at - usual) for usual in LOG_UNITS) / SPEED_SIGMA
    return max(-0.5 * off * off, log(UNUSUAL_SPEED))


def told_by_framing(line: LineReading) -> float:
    """Nats for characters beside a code whose marks and spaces are whole bits in any order, as in a packet of bits, in
    Morse or in a code of several lengths.

    In such a code each stop bit and each parity bit is right in one case of two, and a speed is seldom a usual one.
    Where characters follow each other at once, or after rests that are no whole numbers of bits for all that edges err,
    that speaks for them; that they rest for whole bits, each for others, speaks against them. Where all lengths are
    multiples of several bits, a code of bits that long has fewer of them to explain; where there are but two or three
    lengths, as in Morse, so has a code of these. What repeats itself says less in any of them.
    """
    assert line.framing is not None
    data, parity, stop = line.framing
    length, unit = character_length(line.framing), line.clock.unit_us
    starts = (line.bit_spans_us[::data, 0] / unit - 1).tolist()
    rests = [following - start - length for start, following in pairwise(starts)]
    in_bits = list(map(round, rests))
    at_once = in_bits[0] if len(set(in_bits)) == 1 else 0
    sent = [line.bits[at : at + data].tobytes() for at in range(0, line.bits.size, data)]
    said = 1 + sum(one != other for one, other in pairwise(sent))  # what runs in says the same again and again
    nats = LN2 * ((said - 1) * stop + said * (parity != "none"))
    nats += AT_ONCE * in_bits.count(at_once)
    odd = _odd([rest - bits for rest, bits in zip(rests, in_bits, strict=True) if bits != at_once], line.clock)
    nats += odd
    if odd < CLEARLY_ODD:
        nats -= _in_fewer_words(sent, line.framing, starts, in_bits)
    return float(nats + USUAL[line.framing] + _usual_speed(unit) + USUAL_SPEED + SELDOMER)


def _odd(off: Sequence[float], clock: Clock) -> float:
    """Nats for rests that are so far (bits) from whole ones, beside whole ones whose edges err."""
    err = max(OF_A_REST * rms_of(clock), LEAST_ERR)
    return sum(min(max(0.5 * (each / err) ** 2 + log(sqrt(tau) * err), WHOLE_REST), OTHER_REST) for each in off)


def _in_fewer_words(sent: Sequence[bytes], framing: Framing, starts: Sequence[float], rests: Sequence[int]) -> float:
    """By how many nats a code of longer bits, or of a few lengths, says with less what characters say.

    ``starts`` and ``rests`` of the characters are in bits. A run-in, or a character that is sent again, says little in
    any code.
    """
    lengths = _run_lengths(sent, framing, rests)
    end = starts[-1] + character_length(framing)
    runs_in = next((at for at, each in enumerate(lengths) if each != lengths[0]), len(lengths))
    runs_in = runs_in if runs_in >= RUN_IN else 0
    begin = starts[0] + lengths[0] * runs_in
    again = sum(one == other and at >= begin for (one, other), at in zip(pairwise(sent), starts[1:], strict=True))
    counts = Counter(lengths[runs_in:])
    in_lengths = sum(count * log(counts.total() / count) + PRICE_OF_LENGTH for count in counts.values())
    longer_bits = LN2 * (end - starts[0]) * (1 - 1 / gcd(*lengths))
    return max(longer_bits, LN2 * (end - begin - again * (framing[0] - 1)) - in_lengths, 0.0)


def _run_lengths(sent: Sequence[bytes], framing: Framing, rests: Sequence[int]) -> list[int]:
    """How many bits each mark and space lasts, from the first start bit to the last mark."""
    rested = zip(sent, [*rests, 0], strict=True)
    levels = b"".join(_levels_of(character, framing) + bytes(max(rest, 0)) for character, rest in rested)
    return list(map(len, LEVELS.findall(levels.rstrip(b"\0"))))


@lru_cache(maxsize=1024)  # the same characters come again and again
def _levels_of(character: bytes, framing: Framing) -> bytes:
    return character_levels(np.frombuffer(character, np.uint8), framing).tobytes()


def framing_of_all(frames: Sequence[Mapping[Framing, LineReading]]) -> tuple[Framing, float] | None:
    """The likeliest framing of frames that share one, and how probable it is that their bytes are those that it gives;
    None where none fits them all.

    How usual it is counts once, not with every frame, and so does a character that stands in the same place in many.
    """
    common = sorted(set(USUAL).intersection(*frames))
    if not common:
        return None
    scores, said = [], []
    for framing in common:
        lines = [each[framing] for each in frames]
        size = framing[0]
        told = {(at, line.bits[at : at + size].tobytes()) for line in lines for at in range(0, line.bits.size, size)}
        again = sum(line.bits.size for line in lines) - size * len(told)
        scores.append(sum(line.score for line in lines) + LN2 * again - (len(lines) - 1) * USUAL[framing])
        said.append((size, [line.bits.tobytes() for line in lines]))
    chances, best = probabilities(scores), int(np.argmax(scores))
    return common[best], sum(chance for chance, bits in zip(chances, said, strict=True) if bits == said[best])
