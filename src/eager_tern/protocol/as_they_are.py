"""Frames that no line code explains, but whose edges lie on a grid of bits: read as these bits."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np
from msgspec.structs import replace

from eager_tern.linecode.clusters import are_even
from eager_tern.linecode.identify import FEWEST_PULSES
from eager_tern.linecode.likelihood import noise_score, probabilities
from eager_tern.linecode.plain import SHORT_PART, plain_bits
from eager_tern.linecode.prices import NOISE_HEAD_START
from eager_tern.linecode.values import LineReading
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import Reading, reading_of_line
from eager_tern.signal.order import quantile
from eager_tern.signal.values import Floats, Pulses

Span = tuple[int, int]
MOST_PULSES = 1000  # of a packet of bits
SAME_START = 16  # bits: a gadget's packets have what they begin with in common, and noise that was polled has not
FEWEST = 3  # stretches that begin alike
NEARLY_ALL = 0.85  # of the pulses of a frame behind its leader
LONGEST_INSIDE = 12  # bits that are alike in a row: one packet, and no silence between two


def with_bits_as_they_are(
    pulses: Pulses, edges: Floats, frames: list[Frame], noise: list[Span]
) -> tuple[list[Frame], list[Span]]:
    """The frames and the rest of a take. What is left of it, with what was read of the same stretch as an unknown code,
    is read as bits where several stretches begin alike, and most of the take is such: among frames of another code it
    is rather one of these, damaged.
    """
    unknown = {(f.first, f.last): f.reading for f in frames if f.is_unknown and not f.mended}
    early = {span for span, reading in unknown.items() if _ends_early(reading)}
    unclear = {*early, *(span for span in noise if not _runs_in(pulses, span))}
    if len(unclear) <= len(frames) - len(early):  # no majority, whatever they are
        return frames, noise
    rows = _in_rows(pulses, sorted([*noise, *unknown]))
    spans = [(row[0][0], row[-1][1]) for row in rows if not unclear.isdisjoint(row)]
    found = {span: line for span in spans if (line := _line(pulses, edges, span)) is not None}
    begins = {span: line.bits[:SAME_START].tobytes() for span, line in found.items()}
    often = Counter(begins.values())
    alike = {span: line for span, line in found.items() if often[begins[span]] >= FEWEST}
    others = [frame for frame in frames if not any(first <= frame.first <= last for first, last in alike)]
    if len(alike) <= len(others) or 2 * len(alike) < len(found):
        return frames, noise
    more = [
        Frame(first, last, pulses.part(first, last, edges), (reading_of_line(line, line.probability),))
        for (first, last), line in alike.items()
    ]
    left = [span for span in noise if not any(first <= span[0] <= last for first, last in alike)]
    return sorted([*others, *more], key=lambda frame: frame.first), left


def _runs_in(pulses: Pulses, span: Span) -> bool:
    """Whether a stretch is pulses of one length, as before a long space and the bits."""
    return are_even(pulses.durations_us[span[0] : span[1] + 1])


def _ends_early(reading: Reading) -> bool:
    """Whether much is left unexplained from where the data begin; sections have their leaders there."""
    told = ~np.isnan(reading.expected_us)
    return not reading.sections and bool(told[told.argmax() :].mean() < NEARLY_ALL)


def _in_rows(pulses: Pulses, pieces: Sequence[Span]) -> list[list[Span]]:
    """Pieces between which the space may be one inside a packet."""
    d = pulses.durations_us
    longest = LONGEST_INSIDE * quantile(np.concatenate([d[first : last + 1] for first, last in pieces]), SHORT_PART)
    rows: list[list[Span]] = []
    for piece in pieces:
        if rows and piece[0] == rows[-1][-1][1] + 2 and d[piece[0] - 1] <= longest:
            rows[-1].append(piece)
        else:
            rows.append([piece])
    return rows


def _line(pulses: Pulses, edges: Floats, span: Span) -> LineReading | None:
    """A stretch as bits, if they are likelier than random pulses."""
    first, last = span
    if not FEWEST_PULSES <= last - first + 1 <= MOST_PULSES:
        return None
    durations_us = pulses.part(first, last, edges).durations_us
    line = plain_bits(durations_us)
    if line is None:
        return None
    chance, _ = probabilities([line.score, float(noise_score(durations_us)) + NOISE_HEAD_START])
    return replace(line, probability=chance) if chance > 0.5 else None
