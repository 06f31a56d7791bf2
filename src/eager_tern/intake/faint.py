"""Radio bursts to pulses: by threshold where that reads well, as the likeliest frame where it does not."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.casebook.values import Faint
from eager_tern.linecode.likeliest import CodeShape, Likeliest, combined, likeliest, with_prior_odds
from eager_tern.protocol.damaged import reads_well
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading
from eager_tern.protocol.schema import Sheet
from eager_tern.protocol.shapes import FEWEST_CHECK_BITS, code_shapes, kept_by_checks
from eager_tern.protocol.take import Passage, TakeRead, read_pulses
from eager_tern.signal.baseband import Baseband
from eager_tern.signal.evidence import RadioEvidence
from eager_tern.signal.keying import beyond_doubt, keying_of, pulses_of_bursts, sent_spans
from eager_tern.signal.values import Pulses, in_one_row

FAINT = "too faint for a threshold: read as the likeliest frame"
MOST_FAINT = 200  # spans of a recording that are searched
LONGEST_US = 600_000.0
LEAST_CONFIDENCE = 0.1  # below, what was read as the likeliest frame is none
SURE_ENOUGH = 0.9  # confidence in what a threshold's pulses say, so that no likelier frame is sought
STEADY = 0.12  # rms of edges in units, beyond which a threshold is no measure: a symbol is wrong here and there
PROVEN = 0.95  # that a faint frame is right whose checks hold
SAME_UNIT = 1.04  # by which the unit may be another one when a frame is looked for again
SMALLEST_SHARE = 0.85  # of the gain without a sheet that a sheet's frame has to reach
BESIDE_US = 2000.0  # a faint frame's first and last bit may lie beside what is clearly sent
PRICE_OF_PULSE = 5.0  # nats: one of some hundred places for its end
UNITS_US = (200.0, 700.0)
# Codes without a sheet: fixed period 1 to 3, and the two usual kinds of pulse distance and width.
ANY_CODE = tuple(
    CodeShape(zero, one, UNITS_US, trailer=(1.0,))
    for zero, one in (((1.0, -3.0), (3.0, -1.0)), ((1.0, -1.0), (1.0, -3.0)), ((1.0, -1.0), (2.0, -1.0)))
)


def clearest_pulses(bursts: Sequence[Baseband], sheets: Sequence[Sheet]) -> tuple[Pulses, tuple[Faint, ...]]:
    """The pulses of a transmitter, and which of them are no threshold's."""
    shapes = code_shapes(sheets)
    parts: list[Pulses] = []
    faint: list[Faint] = []
    keying = keying_of(bursts)
    for burst in bursts:
        evidence = RadioEvidence(burst)
        whole = pulses_of_bursts([burst])
        if keying == "ask" or beyond_doubt(burst, whole):
            parts.append(whole)
            continue
        likely: list[Likeliest] = []
        for start, end in sent_spans(burst):
            by_threshold = _between(whole, start, end)
            too_much = len(likely) >= MOST_FAINT or end - start > LONGEST_US
            if too_much or _all_read(read_pulses(by_threshold, sheets)):
                parts.append(by_threshold)
                continue
            found = [_fitted(evidence, f) for f in _search(evidence, start - BESIDE_US, end + BESIDE_US, shapes)]
            if found and sum(each.gain for each in found) > _gain(evidence, by_threshold):
                likely += found
            else:
                parts.append(by_threshold)
        for repeat in combined(evidence, likely):
            frame = with_prior_odds(evidence, repeat, kept_by_checks(repeat.for_one, repeat.shape, sheets))
            parts.append(frame.pulses)
            faint.append(Faint(frame.pulses.start_us, frame.pulses.end_us, frame.certainty))
    return in_one_row(parts), tuple(faint)


def with_doubts(read: Passage, faint: Sequence[Faint]) -> Passage:
    """A passage with what is known of its faint frames: how they were read, and how far their bits can be trusted.

    What cannot be trusted at all is left over as noise.
    """
    presses, noise = [], list(read.noise)
    for press in read.presses:
        frames = []
        for frame in press.frames:
            of = [f for f in faint if f.start_us < frame.pulses.end_us and f.end_us > frame.pulses.start_us]
            if of:
                readings = tuple(replace(r, confidence=r.confidence * _trust(r, of[0])) for r in frame.readings)
                frame = replace(frame, readings=readings, mended=frame.mended or FAINT)
                if not readings or readings[0].confidence < LEAST_CONFIDENCE:
                    noise.append((frame.first, frame.last))
                    continue
            frames.append(frame)
        if frames:
            presses.append(replace(press, frames=tuple(frames)))
    return replace(read, presses=tuple(presses), noise=tuple(sorted(noise)))


def _trust(reading: Reading, faint: Faint) -> float:
    """How far the bits of a faint frame can be trusted: checks of many bits say more than the signal."""
    proven = reading.checks_hold and sum(check.width for check in reading.checks) >= FEWEST_CHECK_BITS
    return max(faint.certainty, PROVEN) if proven else faint.certainty


def _all_read(take: TakeRead) -> bool:
    """Whether the threshold's pulses read well and nothing but single pulses is left over."""
    well = [
        frame
        for frame in take.frames
        if reads_well(frame.readings)
        and frame.reading.confidence > SURE_ENOUGH
        and not frame.mended
        and _is_steady(frame)
    ]
    return bool(well) and len(well) == len(take.frames) and all(last - first < 6 for first, last in take.noise)


def _is_steady(frame: Frame) -> bool:
    """Whether noise hardly moves a frame's edges, so that it does not make one symbol another either."""
    return frame.reading.clock.rms_us < STEADY * frame.reading.clock.unit_us


def _gain(evidence: RadioEvidence, pulses: Pulses) -> float:
    """How much a recording speaks for a threshold's pulses, less what they owe to being chosen by it."""
    edges = pulses.edge_times_us
    marks = evidence.mark(edges[:-1:2], edges[1::2])
    spaces = evidence.space(edges[1:-1:2], edges[2:-1:2])
    return float(marks.sum() + spaces.sum()) - PRICE_OF_PULSE * pulses.durations_us.size


def _search(evidence: RadioEvidence, start_us: float, end_us: float, shapes: Sequence[CodeShape]) -> list[Likeliest]:
    """The likeliest frames between two times, in order: the best one, then what lies before and behind it."""
    known = likeliest(evidence, start_us, end_us, shapes)
    around = ANY_CODE if known is None else [_narrowed(shape, known.unit_us) for shape in ANY_CODE]
    other = likeliest(evidence, start_us, end_us, around)
    known_is_less = known is None or (other is not None and known.gain < SMALLEST_SHARE * other.gain)
    best = other if known_is_less else known
    if best is None:
        return []
    left = end_us - best.pulses.end_us, best.pulses.start_us - start_us
    behind = _search(evidence, best.pulses.end_us, end_us, shapes) if left[0] > best.pulses.duration_us / 2 else []
    before = _search(evidence, start_us, best.pulses.start_us, shapes) if left[1] > best.pulses.duration_us / 2 else []
    return [*before, best, *behind]


def _fitted(evidence: RadioEvidence, frame: Likeliest) -> Likeliest:
    """The frame looked for again around its place, now that it is known where the signal is to be measured."""
    low, high = frame.pulses.start_us - BESIDE_US, frame.pulses.end_us + BESIDE_US
    unit = frame.unit_us
    shape = replace(frame.shape, unit_us=(unit / SAME_UNIT, unit * SAME_UNIT), bits=frame.for_one.size)
    found = likeliest(evidence.fitted(frame.pulses), low, high, [shape])
    return frame if found is None else replace(found, shape=frame.shape)


def _narrowed(shape: CodeShape, unit_us: float) -> CodeShape:
    return CodeShape(shape.zero, shape.one, (0.9 * unit_us, 1.1 * unit_us), trailer=shape.trailer)


def _between(pulses: Pulses, start_us: float, end_us: float) -> Pulses:
    """The pulses whose marks begin between two times."""
    starts = pulses.edge_times_us[:-1:2]
    inside = np.flatnonzero((starts >= start_us) & (starts < end_us))
    if inside.size == 0:
        return Pulses(np.empty(0))
    return pulses.part(2 * int(inside[0]), 2 * int(inside[-1]))
