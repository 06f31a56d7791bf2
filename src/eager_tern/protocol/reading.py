"""Readings: what a frame says, by each sheet that fits it, with the evidence."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

import numpy as np

from eager_tern.linecode.identify import identify
from eager_tern.linecode.likelihood import any_pulse_score, gaussian_score, parameter_cost, probabilities
from eager_tern.linecode.values import NO_BITS, Bits, Clock, Code, LineReading
from eager_tern.protocol.checks import CheckResult, evaluate
from eager_tern.protocol.matching import Match, match_frame
from eager_tern.protocol.schema import Sheet
from eager_tern.signal.values import Floats, Pulses

UNKNOWN = "unknown"
LN2 = float(np.log(2.0))
DAMAGE = 0.02  # how often a frame that fits a sheet fails one of its checks
# Most handsets speak a protocol of the library; one that does not could have any number of bits and any unit.
UNKNOWN_PRIOR = float(np.log(0.02) - np.log(100) - np.log(20))
NOISE_HEAD_START = 4.0
CLOCK_SIGMA, SPREAD_OF_TOLERANCE = 0.08, 0.4  # of the published unit, of the tolerance where that is wide
EXCESS_SIGMA_US = 80.0
CLOSE_BITS, CLOSE_RMS = 12, 0.15


@dataclass(frozen=True)
class Reading:
    """One interpretation of a frame. ``protocol`` is a sheet's id or "unknown"; ``sheet`` is the one it was read by.

    ``bit_spans_us`` (n, 2) and ``expected_us`` (pulses,) are counted from the frame's first edge.
    """

    protocol: str
    confidence: float
    code: Code
    clock: Clock
    bits: Bits
    bit_spans_us: Floats
    expected_us: Floats
    fields: dict[str, int] = field(default_factory=dict)
    texts: dict[str, str | None] = field(default_factory=dict)
    checks: tuple[CheckResult, ...] = ()
    kind: str = ""
    stands_for_repeat: bool = False
    sheet: Sheet | None = None

    @property
    def checks_hold(self) -> bool:
        return all(check.ok for check in self.checks)


def read_frame(pulses: Pulses, sheets: Iterable[Sheet]) -> tuple[Reading, ...]:
    """Readings of one frame, most probable first; empty where random pulses explain it as well.

    Where no sheet fits closely, what the frame alone says of its line code stands among them as "unknown".
    """
    d = pulses.durations_us
    scored = [(_score(d, match), match) for match in _matches(d, sheets)]
    scores = [score for score, _ in scored]
    lines = () if any(_fits_closely(match) for _, match in scored) else identify(pulses)
    scores += [line.score + UNKNOWN_PRIOR for line in lines[:1]]
    scores.append(any_pulse_score(d) + NOISE_HEAD_START)
    chances = probabilities(scores)
    if chances[-1] > 0.5:
        return ()
    readings = [_reading_of_match(match, chance) for (_, match), chance in zip(scored, chances, strict=False)]
    readings += [_reading_of_line(line, chances[-2]) for line in lines[:1]]
    return tuple(sorted(readings, key=lambda r: -r.confidence))


def bit_span(reading: Reading | None, bit: int) -> tuple[float, float] | None:
    """Start and end of a bit (µs from the frame's first edge); None where there is no such bit."""
    if reading is None or not 0 <= bit < len(reading.bit_spans_us):
        return None
    start, end = reading.bit_spans_us[bit]
    return float(start), float(end)


def bit_at(reading: Reading | None, at_us: float) -> int:
    """The bit whose stretch holds a moment, counted from the frame's first edge; −1 where there is none."""
    if reading is None:
        return -1
    inside = np.flatnonzero((reading.bit_spans_us[:, 0] <= at_us) & (at_us < reading.bit_spans_us[:, 1]))
    return int(inside[0]) if inside.size else -1


def _matches(d: Floats, sheets: Iterable[Sheet]) -> list[Match]:
    """Every sheet's frame that fits. Sheets of a family share frames, which are laid on the pulses once."""
    laid: dict[object, Match | None] = {}
    found = []
    for sheet in sheets:
        for kind in sheet.frames:
            # A frame without bits says nothing of the variant: it belongs to the family's first sheet.
            if not kind.bit_count and sheet.family != sheet.id:
                continue
            shape = (sheet.zero, sheet.one, sheet.unit_us, sheet.tolerance, kind.shape)
            if shape not in laid:
                laid[shape] = match_frame(d, sheet, kind)
            match = laid[shape]
            if match is not None:
                found.append(replace(match, sheet=sheet, kind=kind))
    return found


def _fits_closely(match: Match) -> bool:
    """Whether no line code by itself could explain the frame better: all checks hold, all edges lie on the ruler."""
    return (
        match.bits.size >= CLOSE_BITS
        and match.clock.rms_us < CLOSE_RMS * match.clock.unit_us
        and all(evaluate(check, match.bits).ok for check in match.sheet.checks)
    )


def _score(d: Floats, match: Match) -> float:
    """Log probability of the pulses and the bits under the sheet."""
    known = ~np.isnan(match.expected_us)
    score = gaussian_score((d - match.expected_us)[known]) + any_pulse_score(d[~known]) - parameter_cost(2, d.size)
    spread = max(CLOCK_SIGMA, SPREAD_OF_TOLERANCE * match.sheet.tolerance)
    score -= 0.5 * ((match.clock.unit_us / match.sheet.unit_us - 1) / spread) ** 2
    score -= 0.5 * (match.clock.excess_us / EXCESS_SIGMA_US) ** 2
    if not match.bits.size:
        return score
    free = match.bits.size
    for result in (evaluate(check, match.bits) for check in match.sheet.checks):
        if result.ok:
            free -= result.width  # given the others, these bits could not be anything else
        else:
            score += float(np.log(DAMAGE))
    return score - free * LN2


def _reading_of_match(match: Match, chance: float) -> Reading:
    sheet, bits = match.sheet, match.bits
    results = tuple(evaluate(check, bits) for check in sheet.checks) if bits.size else ()
    confidence = chance * float(np.prod([0.3 for r in results if not r.ok]))
    return Reading(
        protocol=sheet.id,
        confidence=min(confidence, 0.999),
        code=sheet.code,
        clock=match.clock,
        bits=bits,
        bit_spans_us=match.bit_spans_us,
        expected_us=match.expected_us,
        fields={f.name: f.bits.read(bits) for f in sheet.fields} if bits.size else {},
        texts={t.name: t.read(bits) for t in sheet.texts} if bits.size else {},
        checks=results,
        kind=match.kind.name,
        stands_for_repeat=match.kind.repeat,
        sheet=sheet,
    )


def _reading_of_line(line: LineReading, chance: float) -> Reading:
    return Reading(
        protocol=UNKNOWN,
        confidence=min(chance, 0.999),
        code=line.code,
        clock=line.clock,
        bits=line.bits if line.bits.size else NO_BITS,
        bit_spans_us=line.bit_spans_us,
        expected_us=line.expected_us,
    )
