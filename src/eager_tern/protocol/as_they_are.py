"""Frames that no line code explains, but whose edges lie on a grid of bits: read as these bits."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from msgspec.structs import replace

from eager_tern.linecode.identify import FEWEST_PULSES, identify
from eager_tern.linecode.likelihood import noise_score, probabilities
from eager_tern.linecode.plain import plain_bits
from eager_tern.linecode.prices import NOISE_HEAD_START
from eager_tern.linecode.values import LineReading
from eager_tern.protocol.presses import Frame
from eager_tern.protocol.reading import reading_of_line
from eager_tern.signal.order import median
from eager_tern.signal.values import Floats, Pulses

Span = tuple[int, int]
MOST_PULSES = 1000  # of a packet of bits
SAME_START = 16  # bits: a gadget's packets have what they begin with in common, and noise that was polled has not
LONGEST_INSIDE = 12  # bits that are alike in a row: one packet, and no silence between two
LONE = 0.5  # confidence in a single one, which may be polled noise


def with_bits_as_they_are(
    pulses: Pulses, edges: Floats, frames: list[Frame], noise: list[Span]
) -> tuple[list[Frame], list[Span]]:
    """The frames and the rest of a take. What is left of it, and unknown ones whose code is not clear by themselves,
    are read as bits where several begin alike, and most of the take is such: among frames of another code it is rather
    one of these, damaged.
    """
    unknown = [frame for frame in frames if frame.is_unknown and not frame.mended]
    some = [unknown[at] for at in {0, len(unknown) // 2, len(unknown) - 1}] if unknown else []
    unclear = _unclear(unknown) if _unclear(some) else []
    if len(noise) + len(unclear) <= len(frames) - len(unclear):
        return frames, noise
    clear = [line.clock.unit_us for span in (*noise, *unclear) if (line := _line(pulses, edges, span)) is not None]
    if not clear:
        return frames, noise
    rows = _in_rows(pulses, sorted([*noise, *((f.first, f.last) for f in unknown)]), LONGEST_INSIDE * median(clear))
    found = {span: line for span in rows if (line := _line(pulses, edges, span)) is not None}
    lone = len(rows) == 1
    starts = Counter(line.bits[:SAME_START].tobytes() for line in found.values())
    alike = {span: line for span, line in found.items() if lone or starts[line.bits[:SAME_START].tobytes()] > 1}
    others = [frame for frame in frames if not any(first <= frame.first <= last for first, last in alike)]
    if len(alike) <= len(others) or 2 * len(alike) < len(found):
        return frames, noise
    most = LONE if lone else 1.0
    more = [
        Frame(first, last, pulses.part(first, last, edges), (reading_of_line(line, min(most, line.probability)),))
        for (first, last), line in alike.items()
    ]
    left = [span for span in noise if not any(first <= span[0] <= last for first, last in alike)]
    return sorted([*others, *more], key=lambda frame: frame.first), left


def _in_rows(pulses: Pulses, pieces: Sequence[Span], longest_us: float) -> list[Span]:
    """Pieces joined where the space between them may be one inside a packet."""
    rows: list[Span] = []
    for first, last in pieces:
        if rows and first == rows[-1][1] + 2 and pulses.durations_us[first - 1] <= longest_us:
            rows[-1] = (rows[-1][0], last)
        else:
            rows.append((first, last))
    return rows


def _unclear(frames: Sequence[Frame]) -> list[Span]:
    return [(frame.first, frame.last) for frame in frames if not identify(frame.pulses)]


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
    return replace(line, probability=chance) if chance > LONE else None
